package store

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"slices"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgtype"

	"dowsingrod/core/estate"
	"dowsingrod/internal/feed"
)

// known is an object of the source and its versions that end after the header's time, in order.
type known struct {
	id       int64
	versions []version
	pending  bool // a version of it waits to be written
	turn     int  // the feed header that last listed it, as a count of them, and the line there
	line     int
}

// version is a stretch of time in which a source said the same of an object.
type version struct {
	from, to pgtype.Timestamptz
	digest   digest
}

type digest [16]byte

// digestOf tells versions that say the same: 128 bits of SHA-256 over the object's line as feed.Writer writes it. So an
// unchanged line of such a feed is recognised by its bytes, without being read.
func digestOf(line []byte) digest {
	sum := sha256.Sum256(line)
	return digest(sum[:16])
}

// rendered is an object in the texts that are stored.
type rendered struct {
	facts, links []byte
	digest       digest
}

func render(o *feed.Object) (r rendered, err error) {
	r.facts, r.links = []byte("{}"), []byte("{}")
	var line bytes.Buffer
	enc := json.NewEncoder(&line)
	enc.SetEscapeHTML(false)
	put := func(before string, v any) []byte {
		line.WriteString(before)
		from := line.Len()
		if err == nil {
			err = enc.Encode(v)
		}
		line.Truncate(max(from, line.Len()-1)) // the encoder ends every value with a line
		return line.Bytes()[from:]
	}
	put(`{"object":{"kind":`, o.Kind)
	put(`,"id":`, o.ID)
	if o.Name != "" {
		put(`,"name":`, o.Name)
	}
	if len(o.Facts) > 0 {
		r.facts = slices.Clone(put(`,"facts":`, o.Facts))
	}
	if len(o.Links) > 0 {
		r.links = slices.Clone(put(`,"links":`, o.Links))
	}
	line.WriteString("}}")
	r.digest = digestOf(line.Bytes())
	return r, err
}

// versionWrites are changes of versions not yet written to the open transaction.
type versionWrites struct {
	objects  [][]any // rows of object
	versions [][]any // rows of object_version that are new for sure
	closed   []closing
	set      []setting
	ids      []int64 // reserved for new objects
	touched  []int64
	moments  map[time.Time]bool
	of       []*known
}

type closing struct {
	object int64
	from   pgtype.Timestamptz
	at     time.Time
	drop   bool
}

type setting struct {
	object       int64
	from, to     pgtype.Timestamptz
	name         string
	facts, links []byte
	digest       digest
}

// heldVersions bounds how many changes of versions wait to be written.
const heldVersions = 20000

// loadObjects reads what the source listed, and the versions that end after the header's time.
func (in *Intake) loadObjects() error {
	src := in.source
	// The versions of a source's own objects by their index: without statistics, just after a large import, the planner
	// would read the whole table for each source.
	if _, err := in.tx.Exec(in.ctx, `set local enable_hashjoin = off; set local enable_mergejoin = off; set local enable_seqscan = off`); err != nil {
		return err
	}
	rows, err := in.tx.Query(in.ctx, `
		select o.id, o.kind, o.local_id, v.valid_from, v.valid_to, v.digest,
			case when v.digest is null then v.name end, case when v.digest is null then v.facts end, case when v.digest is null then v.links end
		from object o left join object_version v on v.object_id = o.id and v.valid_to > $2
		where o.source_id = $1 order by o.id, v.valid_from`, src.id, src.header.Time)
	if err != nil {
		return err
	}
	var id int64
	var ref estate.Ref
	var v version
	var sum []byte
	var name *string
	var facts estate.Facts
	var links map[string][]string
	_, err = pgx.ForEachRow(rows, []any{&id, &ref.Kind, &ref.ID, &v.from, &v.to, &sum, &name, &facts, &links}, func() error {
		k := src.objects[ref]
		if k == nil {
			k = &known{id: id}
			src.objects[ref] = k
		}
		switch {
		case len(sum) == len(v.digest):
			v.digest = digest(sum)
			k.versions = append(k.versions, v)
		case name != nil: // written before there were digests
			r, err := render(&feed.Object{Kind: ref.Kind, ID: ref.ID, Name: *name, Facts: facts, Links: links})
			if err != nil {
				return err
			}
			v.digest = r.digest
			k.versions = append(k.versions, v)
		}
		facts, links = nil, nil
		return nil
	})
	if err != nil {
		return err
	}
	_, err = in.tx.Exec(in.ctx, `set local enable_hashjoin = on; set local enable_mergejoin = on; set local enable_seqscan = on`)
	return err
}

// Recognise reports whether a line is that of an object that its source lists unchanged, and takes it as listed then.
func (in *Intake) Recognise(text []byte, line int) bool {
	src := in.source
	if src == nil {
		return false
	}
	if src.byLine == nil {
		src.byLine = make(map[digest]*known, len(src.objects))
		for _, k := range src.objects {
			for _, v := range k.versions {
				src.byLine[v.digest] = k
			}
		}
	}
	sum := digestOf(text)
	k := src.byLine[sum]
	if k == nil || k.turn == src.turn {
		return false
	}
	k.trim(src.header.Time)
	if len(k.versions) == 0 || after(k.versions[0].from, src.header.Time) || k.versions[0].digest != sum {
		return false
	}
	k.turn, k.line = src.turn, line
	in.totals.Objects++
	return true
}

// Object takes an object record. The object replaces what its source said of it before, as of the
// header's time.
func (in *Intake) Object(o *feed.Object, line int) error {
	src, ref := in.source, o.Ref()
	k := src.objects[ref]
	if k != nil && k.turn == src.turn {
		return fmt.Errorf("%s %w, first in line %d", ref, ErrDuplicate, k.line)
	}
	r, err := render(o)
	if err != nil {
		return err
	}
	name, facts, links, sum := o.Name, r.facts, r.links, r.digest
	if k != nil {
		k.turn, k.line = src.turn, line
	}
	in.totals.Objects++
	at := src.header.Time
	next := setting{name: name, facts: facts, links: links, digest: sum, from: pgtype.Timestamptz{Time: at, Valid: true}, to: pgtype.Timestamptz{InfinityModifier: pgtype.Infinity, Valid: true}}
	if src.first { // what was before the first feed is taken to be as the first feed says
		next.from = pgtype.Timestamptz{InfinityModifier: pgtype.NegativeInfinity, Valid: true}
	}
	if k == nil {
		id, err := in.reserve()
		if err != nil {
			return err
		}
		k = &known{id: id, turn: src.turn, line: line}
		src.objects[ref] = k
		in.writes.objects = append(in.writes.objects, []any{id, src.id, string(ref.Kind), ref.ID})
		in.writes.versions = append(in.writes.versions, []any{id, next.from, next.to, name, facts, links, sum[:]})
		k.versions = []version{{next.from, next.to, sum}}
	} else {
		k.trim(at)
		if len(k.versions) > 0 {
			v := k.versions[0]
			switch {
			case !after(v.from, at): // valid at this moment
				if v.digest == sum {
					return nil
				}
				if err := in.close(k, at); err != nil {
					return err
				}
				next.to = v.to
			default: // known only later: true until then
				next.to = v.from
			}
		}
		if err := in.settle(k); err != nil {
			return err
		}
		next.object = k.id
		in.writes.set = append(in.writes.set, next)
		k.versions = append([]version{{next.from, next.to, sum}}, k.versions...)
	}
	in.pend(k)
	in.totals.Changed++
	in.touch(k.id, next.from)
	in.touch(k.id, next.to)
	if len(in.writes.of) >= heldVersions {
		return in.writeVersions()
	}
	return nil
}

// trim forgets versions that ended before the header's time.
func (k *known) trim(at time.Time) {
	for len(k.versions) > 0 && !after(k.versions[0].to, at) {
		k.versions = k.versions[1:]
	}
}

func (in *Intake) pend(k *known) {
	if !k.pending {
		k.pending = true
		in.writes.of = append(in.writes.of, k)
	}
}

// settle writes what waits where an object's own change is among it, so that changes of one object are written in order.
func (in *Intake) settle(k *known) error {
	if k.pending {
		return in.writeVersions()
	}
	return nil
}

func (in *Intake) touch(id int64, at pgtype.Timestamptz) {
	in.changed, in.source.changed = true, true
	w := &in.writes
	if n := len(w.touched); n == 0 || w.touched[n-1] != id {
		w.touched = append(w.touched, id)
	}
	if at.InfinityModifier == pgtype.Finite {
		if w.moments == nil {
			w.moments = make(map[time.Time]bool)
		}
		w.moments[at.Time.UTC().Truncate(time.Microsecond)] = true
	}
}

func after(t pgtype.Timestamptz, at time.Time) bool {
	return t.InfinityModifier == pgtype.Infinity || t.InfinityModifier == pgtype.Finite && t.Time.After(at)
}

// close ends the first version of an object at a moment; one that began at that very moment is dropped.
func (in *Intake) close(k *known, at time.Time) error {
	if err := in.settle(k); err != nil {
		return err
	}
	v := k.versions[0]
	k.versions = k.versions[1:]
	in.writes.closed = append(in.writes.closed, closing{k.id, v.from, at, v.from.InfinityModifier == pgtype.Finite && v.from.Time.Equal(at)})
	return nil
}

// Gone ends an object as of the header's time.
func (in *Intake) Gone(ref estate.Ref) error {
	k := in.source.objects[ref]
	if k == nil {
		return fmt.Errorf("%s %w", ref, ErrUnknown)
	}
	return in.end(k)
}

func (in *Intake) end(k *known) error {
	at := in.source.header.Time
	k.trim(at)
	if len(k.versions) == 0 || after(k.versions[0].from, at) {
		return nil
	}
	if err := in.close(k, at); err != nil {
		return err
	}
	in.pend(k)
	in.totals.Gone++
	in.touch(k.id, pgtype.Timestamptz{Time: at, Valid: true})
	return nil
}

// reserve returns the number of a new object.
func (in *Intake) reserve() (int64, error) {
	w := &in.writes
	if len(w.ids) == 0 {
		n := max(16, min(5000, len(w.objects)))
		rows, err := in.tx.Query(in.ctx, `select nextval(pg_get_serial_sequence('object', 'id')) from generate_series(1, $1)`, n)
		if err != nil {
			return 0, err
		}
		if w.ids, err = pgx.CollectRows(rows, pgx.RowTo[int64]); err != nil {
			return 0, err
		}
	}
	id := w.ids[0]
	w.ids = w.ids[1:]
	return id, nil
}

// writeVersions writes what waits: closings before what follows on them.
func (in *Intake) writeVersions() error {
	w := &in.writes
	if len(w.objects) > 0 {
		if _, err := in.tx.CopyFrom(in.ctx, pgx.Identifier{"object"}, []string{"id", "source_id", "kind", "local_id"}, pgx.CopyFromRows(w.objects)); err != nil {
			return err
		}
		if _, err := in.tx.CopyFrom(in.ctx, pgx.Identifier{"object_version"}, []string{"object_id", "valid_from", "valid_to", "name", "facts", "links", "digest"}, pgx.CopyFromRows(w.versions)); err != nil {
			return err
		}
	}
	if err := in.writeClosings(); err != nil {
		return err
	}
	if err := in.writeSettings(); err != nil {
		return err
	}
	for _, k := range w.of {
		k.pending = false
	}
	w.objects, w.versions, w.closed, w.set, w.of = w.objects[:0], w.versions[:0], w.closed[:0], w.set[:0], w.of[:0]
	return nil
}

func (in *Intake) writeClosings() error {
	for _, drop := range []bool{true, false} {
		var objects []int64
		var from []pgtype.Timestamptz
		var at []time.Time
		for _, c := range in.writes.closed {
			if c.drop == drop {
				objects, from, at = append(objects, c.object), append(from, c.from), append(at, c.at)
			}
		}
		if len(objects) == 0 {
			continue
		}
		q := `update object_version v set valid_to = c.at from unnest($1::bigint[], $2::timestamptz[], $3::timestamptz[]) as c(object_id, valid_from, at)
			where v.object_id = c.object_id and v.valid_from = c.valid_from`
		if drop {
			q = `delete from object_version v using unnest($1::bigint[], $2::timestamptz[], $3::timestamptz[]) as c(object_id, valid_from, at)
				where v.object_id = c.object_id and v.valid_from = c.valid_from`
		}
		if _, err := in.tx.Exec(in.ctx, q, objects, from, at); err != nil {
			return err
		}
	}
	return nil
}

func (in *Intake) writeSettings() error {
	for part := range slices.Chunk(in.writes.set, 2000) {
		n := len(part)
		objects, from, to := make([]int64, n), make([]pgtype.Timestamptz, n), make([]pgtype.Timestamptz, n)
		names, facts, links, sums := make([]string, n), make([]string, n), make([]string, n), make([][]byte, n)
		for i, s := range part {
			objects[i], from[i], to[i], names[i], facts[i], links[i], sums[i] = s.object, s.from, s.to, s.name, string(s.facts), string(s.links), s.digest[:]
		}
		if _, err := in.tx.Exec(in.ctx, `
			insert into object_version (object_id, valid_from, valid_to, name, facts, links, digest)
			select o, f, t, n, fs::jsonb, ls::jsonb, d from unnest($1::bigint[], $2::timestamptz[], $3::timestamptz[], $4::text[], $5::text[], $6::text[], $7::bytea[]) as x(o, f, t, n, fs, ls, d)
			on conflict (object_id, valid_from) do update set valid_to = excluded.valid_to, name = excluded.name, facts = excluded.facts, links = excluded.links, digest = excluded.digest`,
			objects, from, to, names, facts, links, sums); err != nil {
			return err
		}
	}
	return nil
}

// mostTouched is how many objects a change of the estate may list; one that touches more is followed by reading all anew.
const mostTouched = 20000

// keptChanges is how many changes stay listed.
const keptChanges = 5000

// announce raises the estate's version where anything changed, at the end so that intakes wait for one another only then.
func (in *Intake) announce() error {
	if !in.changed {
		return nil
	}
	touched := in.writes.touched
	if len(touched) > mostTouched {
		touched = nil
	}
	var moments []time.Time
	for at := range in.writes.moments {
		moments = append(moments, at)
	}
	return announce(in.ctx, in.tx, touched, moments)
}

// announce raises the estate's version. touched lists the objects that changed, nil stands for all.
func announce(ctx context.Context, tx pgx.Tx, touched []int64, moments []time.Time) error {
	var version int64
	if err := tx.QueryRow(ctx, `update estate_version set version = version + 1 returning version`).Scan(&version); err != nil {
		return err
	}
	if _, err := tx.Exec(ctx, `insert into moment select unnest($1::timestamptz[]), $2 on conflict do nothing`, moments, version); err != nil {
		return err
	}
	if _, err := tx.Exec(ctx, `insert into estate_change values ($1, $2)`, version, touched); err != nil {
		return err
	}
	_, err := tx.Exec(ctx, `delete from estate_change where version <= $1`, version-keptChanges)
	return err
}
