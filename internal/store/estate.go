package store

import (
	"context"
	"encoding/binary"
	"time"
	"unsafe"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgtype"

	"dowsingrod/core/estate"
)

// Source is what is known of a source of facts.
type Source struct {
	Name      string    `json:"name" doc:"Its name, as in its feeds"`
	FirstFeed time.Time `json:"first_feed" doc:"Time of its first feed"`
	LastFeed  time.Time `json:"last_feed" doc:"Time of its latest feed"`
	Received  time.Time `json:"received" doc:"When the service last received a feed of it"`
	LastEnd   time.Time `json:"last_reading" doc:"End of its newest reading; the zero time where it sent none"`
	Objects   int       `json:"objects" doc:"Objects it lists now"`
}

// Sources lists the sources by name.
func (s *Store) Sources(ctx context.Context) ([]Source, error) {
	rows, err := s.pool.Query(ctx, `
		select s.name, s.first_feed, s.last_feed, s.received, s.last_end, coalesce(n.objects, 0)
		from source s left join (
			select o.source_id, count(*) as objects from object_version v join object o on o.id = v.object_id
			where v.valid_to = 'infinity' group by o.source_id) n on n.source_id = s.id
		order by s.name`)
	if err != nil {
		return nil, unavailable(err)
	}
	out, err := pgx.CollectRows(rows, func(row pgx.CollectableRow) (Source, error) {
		var v Source
		var end pgtype.Timestamptz
		err := row.Scan(&v.Name, &v.FirstFeed, &v.LastFeed, &v.Received, &end, &v.Objects)
		v.LastEnd = end.Time
		return v, err
	})
	return out, unavailable(err)
}

// EstateVersion returns a number that rises with every change of the estate.
func (s *Store) EstateVersion(ctx context.Context) (int64, error) {
	var v int64
	err := s.pool.QueryRow(ctx, `select version from estate_version`).Scan(&v)
	return v, unavailable(err)
}

// Moments returns the moments at which the estate changed that became known after a version, in no order.
func (s *Store) Moments(ctx context.Context, after int64) ([]time.Time, error) {
	rows, err := s.pool.Query(ctx, `select at from moment where version > $1`, after)
	if err != nil {
		return nil, unavailable(err)
	}
	out, err := pgx.CollectRows(rows, pgx.RowTo[time.Time])
	return out, unavailable(err)
}

// ChangedSince lists the objects touched by changes of the estate after one version, up to another. listed is false where
// that is not known any more, or where there were too many.
func (s *Store) ChangedSince(ctx context.Context, after, upTo int64) (objects []int64, listed bool, err error) {
	rows, err := s.pool.Query(ctx, `select objects from estate_change where version > $1 and version <= $2`, after, upTo)
	if err != nil {
		return nil, false, unavailable(err)
	}
	listed = true
	n := int64(0)
	var some []int64
	_, err = pgx.ForEachRow(rows, []any{&some}, func() error {
		n++
		listed = listed && some != nil
		objects = append(objects, some...)
		some = nil
		return nil
	})
	return objects, listed && n == upTo-after, unavailable(err)
}

const nodeColumns = `o.id, o.source_id, o.kind, o.local_id, v.object_id is not null, coalesce(v.name, ''), coalesce(v.facts::text, ''), coalesce(v.links::text, '')`

// Estate returns all objects as of t; those that hold now for the zero time.
func (s *Store) Estate(ctx context.Context, t time.Time) ([]estate.Node, error) {
	var nodes []estate.Node
	err := s.EachNode(ctx, t, func(n estate.Node) { nodes = append(nodes, n) })
	return nodes, err
}

// EachNode calls f with every object as of t; those that hold now for the zero time.
func (s *Store) EachNode(ctx context.Context, t time.Time, f func(estate.Node)) error {
	var rows pgx.Rows
	var err error
	const from = ` from object_version v join object o on o.id = v.object_id where `
	if t.IsZero() {
		rows, err = s.pool.Query(ctx, `select `+nodeColumns+from+`v.valid_to = 'infinity'`)
	} else {
		rows, err = s.pool.Query(ctx, `select `+nodeColumns+from+`v.valid_from <= $1 and v.valid_to > $1`, t)
	}
	if err != nil {
		return unavailable(err)
	}
	return s.eachNode(ctx, rows, func(n estate.Node, _ bool) { f(n) })
}

// NodesOf calls f with the objects of the given numbers as they are now, and with whether they are there at all.
func (s *Store) NodesOf(ctx context.Context, objects []int64, f func(n estate.Node, there bool)) error {
	return s.byIndex(ctx, func(tx pgx.Tx) error {
		rows, err := tx.Query(ctx, `select `+nodeColumns+` from object o left join object_version v on v.object_id = o.id and v.valid_to = 'infinity' where o.id = any($1)`, objects)
		if err != nil {
			return err
		}
		return s.eachNode(ctx, rows, f)
	})
}

// byIndex runs f in a transaction in which few of many rows are found by their indexes: without statistics, as just after a
// large import, the planner would read whole tables.
func (s *Store) byIndex(ctx context.Context, f func(pgx.Tx) error) error {
	return unavailable(pgx.BeginTxFunc(ctx, s.pool, pgx.TxOptions{AccessMode: pgx.ReadOnly}, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, `set local enable_hashjoin = off; set local enable_mergejoin = off; set local enable_seqscan = off`); err != nil {
			return err
		}
		return f(tx)
	}))
}

// Differences calls f with every object that was not at t what it is now: as it was then, and with whether it was there.
func (s *Store) Differences(ctx context.Context, t time.Time, f func(n estate.Node, there bool)) error {
	return s.byIndex(ctx, func(tx pgx.Tx) error {
		rows, err := tx.Query(ctx, `select `+nodeColumns+` from (
			select object_id from object_version where valid_to > $1 and valid_to < 'infinity'
			union select object_id from object_version where valid_from > $1 and valid_from > '-infinity') d
		join object o on o.id = d.object_id left join object_version v on v.object_id = o.id and v.valid_from <= $1 and v.valid_to > $1`, t)
		if err != nil {
			return err
		}
		return s.eachNode(ctx, rows, f)
	})
}

// eachNode reads rows of nodeColumns. The texts of an object are cut from one string: estates hold hundreds of thousands.
func (s *Store) eachNode(ctx context.Context, rows pgx.Rows, f func(n estate.Node, there bool)) error {
	defer rows.Close()
	names := make(map[int64]string)
	kinds := make(map[string]estate.Kind)
	for rows.Next() {
		raw := rows.RawValues()
		id, source := int64(binary.BigEndian.Uint64(raw[0])), int64(binary.BigEndian.Uint64(raw[1]))
		name, ok := names[source]
		if !ok {
			if err := s.pool.QueryRow(ctx, `select name from source where id = $1`, source).Scan(&name); err != nil {
				return unavailable(err)
			}
			names[source] = name
		}
		kind, ok := kinds[string(raw[2])]
		if !ok {
			kind = estate.Kind(raw[2])
			kinds[string(kind)] = kind
		}
		n := estate.Node{Key: estate.Key{Source: name, Ref: estate.Ref{Kind: kind}}, Store: id}
		a, b, c := len(raw[3]), len(raw[5]), len(raw[6])
		text := make([]byte, 0, a+b+c+len(raw[7]))
		text = append(append(append(append(text, raw[3]...), raw[5]...), raw[6]...), raw[7]...)
		all := unsafe.String(unsafe.SliceData(text), len(text)) // text is never written again
		n.Key.Ref.ID, n.Name, n.Facts, n.Links = all[:a], all[a:a+b], estate.Sheet(all[a+b:a+b+c]), estate.Sheet(all[a+b+c:])
		f(n, raw[4][0] == 1)
	}
	return unavailable(rows.Err())
}

// Event is something that happened to an object.
type Event struct {
	Object int64
	At     time.Time
	What   string
	Detail string
}

// Events returns what happened to any of the objects in [from, to), in order, at most limit.
func (s *Store) Events(ctx context.Context, objects []int64, from, to time.Time, limit int) ([]Event, error) {
	rows, err := s.pool.Query(ctx, `
		select object_id, at, what, detail from event
		where object_id = any($1) and at >= $2 and at < $3 order by at, object_id limit $4`, objects, from, to, limit)
	if err != nil {
		return nil, unavailable(err)
	}
	out, err := pgx.CollectRows(rows, pgx.RowToStructByPos[Event])
	return out, unavailable(err)
}
