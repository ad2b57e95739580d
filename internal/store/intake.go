package store

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"math"
	"slices"
	"sync/atomic"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgtype"
	"github.com/jackc/pgx/v5/pgxpool"

	"dowsingrod/core/estate"
	"dowsingrod/internal/feed"
	"dowsingrod/internal/store/codec"
)

// heldValues bounds the readings an intake holds in memory before it writes them to the open
// transaction: 8 bytes each.
const heldValues = 2 << 20

// Errors of an intake that are the feed's fault, not the store's.
var (
	ErrDuplicate = errors.New("is listed twice in this feed")
	ErrUnknown   = errors.New("is not known: its object record must come first, in this feed or an earlier one of this source")
)

// Totals counts what an intake took.
type Totals struct {
	Sources    int   `json:"sources" doc:"Feed headers"`
	Objects    int   `json:"objects" doc:"Object records"`
	Changed    int   `json:"changed" doc:"Objects that are new or different"`
	Gone       int   `json:"gone" doc:"Objects that are no more"`
	Samples    int64 `json:"samples" doc:"Readings, null ones left out"`
	Series     int   `json:"series" doc:"Rows of readings"`
	Histograms int   `json:"histograms" doc:"Histogram records"`
	Events     int   `json:"events" doc:"Event records"`
}

// Intake takes the records of a feed within one transaction. It is for one goroutine.
type Intake struct {
	ctx    context.Context
	tx     pgx.Tx
	pool   *pgxpool.Pool
	totals Totals

	source  *openSource
	locked  map[string]bool
	writes  versionWrites
	series  map[Want]int64
	held    map[chunkKey]*pending
	values  int
	days    map[string]bool
	changed bool
	long    bool // write chunks, however short the runs
	memory  *Memory
}

// Memory keeps, between intakes of one source that follow one another in time, what each would otherwise have to read
// anew: the objects and the series there are. It is for one goroutine, and holds good only while nobody else changes
// what the source lists, which the source's stamp tells.
type Memory struct {
	source  int64
	stamp   int64
	at      time.Time
	objects map[estate.Ref]*known
	series  map[Want]int64
}

// NewMemory returns an empty one.
func NewMemory() *Memory { return &Memory{} }

type openSource struct {
	id      int64
	stamp   int64
	name    string
	header  feed.Header
	first   bool
	objects map[estate.Ref]*known
	turn    int               // what known.turn is where the object is listed in this feed
	byLine  map[digest]*known // by the digest of their versions, once asked for
	end     time.Time
	changed bool
}

type chunkKey struct {
	series      int64
	span        time.Time
	step, phase int32
}

// pending are values of a chunk not yet written; values[i] has index first+i within the span.
type pending struct {
	first  int
	values []float64
}

// Import runs f with an intake and commits what it took where f returns nil; otherwise nothing of it
// is stored.
func (s *Store) Import(ctx context.Context, f func(*Intake) error) (Totals, error) {
	return s.importWith(ctx, nil, f)
}

// ImportWith is Import with a memory of the intakes before it, all of one source.
func (s *Store) ImportWith(ctx context.Context, m *Memory, f func(*Intake) error) (Totals, error) {
	totals, err := s.importWith(ctx, m, f)
	if err != nil {
		*m = Memory{} // what it says may not have come to be
	}
	return totals, err
}

func (s *Store) importWith(ctx context.Context, m *Memory, f func(*Intake) error) (Totals, error) {
	var totals Totals
	err := s.inTx(ctx, func(tx pgx.Tx) error {
		in := &Intake{ctx: ctx, tx: tx, pool: s.pool, locked: make(map[string]bool), series: make(map[Want]int64), held: make(map[chunkKey]*pending), days: make(map[string]bool), memory: m}
		if err := f(in); err != nil {
			return err
		}
		if err := in.finish(); err != nil {
			return err
		}
		totals = in.totals
		return nil
	})
	return totals, err
}

// turns counts the feed headers of this process, so that a memory need not be cleared of who was listed by the last.
var turns atomic.Int64

// Begin opens a feed of a source. What came before it is finished first. Feeds of one source wait for
// one another.
func (in *Intake) Begin(h feed.Header) error {
	if err := in.endSource(); err != nil {
		return err
	}
	in.totals.Sources++
	if !in.locked[h.Source] {
		if _, err := in.tx.Exec(in.ctx, `select pg_advisory_xact_lock(hashtextextended('intake ' || $1, 0))`, h.Source); err != nil {
			return err
		}
		in.locked[h.Source] = true
	}
	src := &openSource{name: h.Source, header: h, objects: make(map[estate.Ref]*known)}
	err := in.tx.QueryRow(in.ctx, `
		insert into source (name, first_feed, last_feed) values ($1, $2, $2)
		on conflict (name) do update set last_feed = greatest(source.last_feed, excluded.last_feed), first_feed = least(source.first_feed, excluded.first_feed), received = now()
		returning id, stamp, xmax = 0`, h.Source, h.Time).Scan(&src.id, &src.stamp, &src.first)
	if err != nil {
		return err
	}
	src.turn = int(turns.Add(1))
	in.source = src
	if m := in.memory; m != nil {
		if m.objects != nil && m.source == src.id && m.stamp == src.stamp && !h.Time.Before(m.at) {
			src.objects, in.series = m.objects, m.series
			m.at = h.Time
			return nil
		}
		*m = Memory{source: src.id, stamp: src.stamp, at: h.Time, objects: src.objects, series: in.series}
		if err := in.loadSeries(); err != nil {
			return err
		}
	}
	return in.loadObjects()
}

// loadSeries reads the series of the whole source.
func (in *Intake) loadSeries() error {
	rows, err := in.tx.Query(in.ctx, `select x.object_id, x.metric, x.id from series x join object o on o.id = x.object_id where o.source_id = $1`, in.source.id)
	if err != nil {
		return err
	}
	var w Want
	var id int64
	_, err = pgx.ForEachRow(rows, []any{&w.Object, &w.Metric, &id}, func() error {
		in.series[w] = id
		return nil
	})
	return err
}

func (in *Intake) object(ref string) (int64, error) {
	r, err := estate.ParseRef(ref)
	if err != nil {
		return 0, err
	}
	k := in.source.objects[r]
	if k == nil {
		return 0, fmt.Errorf("%s %w", r, ErrUnknown)
	}
	return k.id, in.settle(k) // gone or not: late readings of it are still readings
}

// Reading takes a reading record. Values already stored for the same moments are replaced; a null
// replaces nothing.
func (in *Intake) Reading(r *feed.Reading) error {
	id, err := in.object(r.Of)
	if err != nil {
		return err
	}
	step := time.Duration(math.Round(r.Step*1000)) * time.Millisecond
	if err := in.addSeries(id, r.Values); err != nil {
		return err
	}
	for metric, values := range r.Values {
		series, err := in.seriesID(Want{id, metric})
		if err != nil {
			return err
		}
		in.totals.Series++
		if err := in.hold(series, r.From, step, values); err != nil {
			return err
		}
		in.reached(r.From.Add(time.Duration(len(values)) * step))
	}
	return nil
}

func (in *Intake) reached(end time.Time) {
	if end.After(in.source.end) {
		in.source.end = end
	}
}

// addSeries makes the series of an object that the memory does not know, all at once.
func (in *Intake) addSeries(object int64, values map[string]feed.Values) error {
	if in.memory == nil {
		return nil
	}
	var missing []string
	for metric := range values {
		if _, ok := in.series[Want{object, metric}]; !ok {
			missing = append(missing, metric)
		}
	}
	if missing == nil {
		return nil
	}
	slices.Sort(missing)
	rows, err := in.tx.Query(in.ctx, `insert into series (object_id, metric) select $1, unnest($2::text[])
		on conflict (object_id, metric) do update set metric = excluded.metric returning metric, id`, object, missing)
	if err != nil {
		return err
	}
	var metric string
	var id int64
	_, err = pgx.ForEachRow(rows, []any{&metric, &id}, func() error {
		in.series[Want{object, metric}] = id
		return nil
	})
	return err
}

func (in *Intake) seriesID(w Want) (int64, error) {
	if id, ok := in.series[w]; ok {
		return id, nil
	}
	// All series of the object at once: its other metrics come next.
	rows, err := in.tx.Query(in.ctx, `select metric, id from series where object_id = $1`, w.Object)
	if err != nil {
		return 0, err
	}
	var metric string
	var id int64
	if _, err := pgx.ForEachRow(rows, []any{&metric, &id}, func() error {
		in.series[Want{w.Object, metric}] = id
		return nil
	}); err != nil {
		return 0, err
	}
	if id, ok := in.series[w]; ok {
		return id, nil
	}
	err = in.tx.QueryRow(in.ctx, `insert into series (object_id, metric) values ($1, $2) returning id`, w.Object, w.Metric).Scan(&id)
	in.series[w] = id
	return id, err
}

// hold cuts a run into chunks.
func (in *Intake) hold(series int64, from time.Time, step time.Duration, values []float64) error {
	for len(values) > 0 {
		span := from.Truncate(Span)
		offset := from.Sub(span)
		phase, first := offset%step, int(offset/step)
		n := int((Span - offset + step - 1) / step) // values that begin within the span
		n = min(n, len(values))
		key := chunkKey{series, span.UTC(), int32(step / time.Millisecond), int32(phase / time.Millisecond)}
		p := in.held[key]
		if p == nil {
			p = &pending{first: first}
			in.held[key] = p
		}
		in.values += p.put(first, values[:n])
		for _, v := range values[:n] {
			if !math.IsNaN(v) {
				in.totals.Samples++
			}
		}
		values = values[n:]
		from = from.Add(time.Duration(n) * step)
	}
	if in.values > heldValues {
		return in.flush()
	}
	return nil
}

// put lays values over what is pending and returns by how much it grew.
func (p *pending) put(first int, values []float64) int {
	if len(p.values) == 0 {
		p.first, p.values = first, slices.Clone(values)
		return len(values)
	}
	begin, end := min(p.first, first), max(p.first+len(p.values), first+len(values))
	grown := end - begin - len(p.values)
	if grown > 0 {
		wide := slices.Grow(p.values, grown)[:end-begin]
		if begin < p.first {
			copy(wide[p.first-begin:], p.values)
		}
		for i := range wide {
			if at := begin + i; at < p.first || at >= p.first+len(p.values) {
				wide[i] = math.NaN()
			}
		}
		p.first, p.values = begin, wide
	}
	for i, v := range values {
		if !math.IsNaN(v) {
			p.values[first-p.first+i] = v
		}
	}
	return grown
}

// flush merges what is held into the chunks stored, within the open transaction.
func (in *Intake) flush() error {
	if len(in.held) == 0 {
		return nil
	}
	keys := slices.Collect(maps.Keys(in.held))
	if err := in.partitions("chunk", keys); err != nil {
		return err
	}
	if err := in.merge(keys); err != nil {
		return err
	}
	slices.SortFunc(keys, func(a, b chunkKey) int { return int(a.series - b.series) })
	k := 0
	_, err := in.tx.CopyFrom(in.ctx, pgx.Identifier{"chunk"}, []string{"series_id", "span", "step_ms", "phase_ms", "first", "count", "data"},
		pgx.CopyFromFunc(func() ([]any, error) {
			if k == len(keys) {
				return nil, nil
			}
			key := keys[k]
			k++
			p := in.held[key]
			return []any{key.series, key.span, key.step, key.phase, int32(p.first), int32(len(p.values)), codec.Encode(nil, p.values)}, nil
		}))
	clear(in.held)
	in.values = 0
	return err
}

// merge takes the stored chunks that will be written anew out of the table and lays what is held over
// them.
func (in *Intake) merge(keys []chunkKey) error {
	series, spans := make([]int64, len(keys)), make([]time.Time, len(keys))
	steps, phases := make([]int32, len(keys)), make([]int32, len(keys))
	for i, k := range keys {
		series[i], spans[i], steps[i], phases[i] = k.series, k.span, k.step, k.phase
	}
	rows, err := in.tx.Query(in.ctx, `
		delete from chunk c using unnest($1::bigint[], $2::timestamptz[], $3::int[], $4::int[]) as k(series_id, span, step_ms, phase_ms)
		where c.series_id = k.series_id and c.span = k.span and c.step_ms = k.step_ms and c.phase_ms = k.phase_ms
		  and c.span = any($5::timestamptz[])
		returning c.series_id, c.span, c.step_ms, c.phase_ms, c.first, c.data`, series, spans, steps, phases, slices.Compact(slices.SortedFunc(slices.Values(spans), time.Time.Compare)))
	if err != nil {
		return err
	}
	var key chunkKey
	var first int32
	var data pgtype.DriverBytes
	_, err = pgx.ForEachRow(rows, []any{&key.series, &key.span, &key.step, &key.phase, &first, &data}, func() error {
		values, err := codec.Decode(data, valuesPerChunk)
		if err != nil {
			return err
		}
		key.span = key.span.UTC()
		newer := in.held[key]
		merged := &pending{first: int(first), values: values}
		merged.put(newer.first, newer.values)
		in.held[key] = merged
		return nil
	})
	return err
}

// partitions makes the daily partitions that spans fall in.
func (in *Intake) partitions(table string, keys []chunkKey) error {
	for _, k := range keys {
		if err := in.partition(table, k.span); err != nil {
			return err
		}
	}
	return nil
}

func (in *Intake) partition(table string, t time.Time) error {
	day := t.UTC().Truncate(24 * time.Hour)
	name := table + "_" + day.Format("20060102")
	if in.days[name] {
		return nil
	}
	in.days[name] = true
	// Outside the intake's transaction, and attached rather than created in place: neither readers nor
	// other intakes wait for it. An empty partition left by an intake that fails does no harm.
	return pgx.BeginFunc(in.ctx, in.pool, func(tx pgx.Tx) error {
		if _, err := tx.Exec(in.ctx, `select pg_advisory_xact_lock(hashtextextended('partition ' || $1, 0))`, name); err != nil {
			return err
		}
		var exists bool
		if err := tx.QueryRow(in.ctx, `select to_regclass($1) is not null`, name).Scan(&exists); err != nil || exists {
			return err
		}
		if _, err := tx.Exec(in.ctx, fmt.Sprintf(`create table %s (like %s including all)`, name, table)); err != nil {
			return err
		}
		_, err := tx.Exec(in.ctx, fmt.Sprintf(`alter table %s attach partition %s for values from ('%s') to ('%s')`,
			table, name, day.Format(time.RFC3339), day.Add(24*time.Hour).Format(time.RFC3339)))
		return err
	})
}

// Histogram takes a histogram record.
func (in *Intake) Histogram(h *feed.Histogram) error {
	id, err := in.object(h.Of)
	if err != nil {
		return err
	}
	if err := in.partition("histogram", h.From); err != nil {
		return err
	}
	var counts []float64
	for _, row := range h.Counts {
		counts = append(counts, row...)
	}
	in.totals.Histograms++
	_, err = in.tx.Exec(in.ctx, `insert into histogram values ($1, $2, $3, $4, $5, $6)
		on conflict (object_id, metric, starts, step_ms) do update set bounds = excluded.bounds, counts = excluded.counts`,
		id, h.Metric, h.From, int32(math.Round(h.Step*1000)), h.Bounds, counts)
	return err
}

// Event takes an event record.
func (in *Intake) Event(e *feed.Event) error {
	id, err := in.object(e.Of)
	if err != nil {
		return err
	}
	in.totals.Events++
	_, err = in.tx.Exec(in.ctx, `insert into event values ($1, $2, $3, $4)
		on conflict (object_id, at, what) do update set detail = excluded.detail`, id, e.Time, e.What, e.Detail)
	return err
}

// endSource closes what a full feed no longer lists.
func (in *Intake) endSource() error {
	src := in.source
	if src == nil {
		return nil
	}
	defer func() { in.source = nil }()
	if src.header.Full {
		for _, k := range src.objects {
			if k.turn != src.turn {
				if err := in.end(k); err != nil {
					return err
				}
			}
		}
	}
	if !src.end.IsZero() {
		if _, err := in.tx.Exec(in.ctx, `update source set last_end = greatest(coalesce(last_end, $2), $2) where id = $1`, src.id, src.end); err != nil {
			return err
		}
	}
	if src.changed {
		if err := in.tx.QueryRow(in.ctx, `update source set stamp = stamp + 1 where id = $1 returning stamp`, src.id).Scan(&src.stamp); err != nil {
			return err
		}
		if in.memory != nil {
			in.memory.stamp = src.stamp
		}
	}
	return in.writeVersions()
}

func (in *Intake) finish() error {
	if err := in.endSource(); err != nil {
		return err
	}
	write := in.flush
	if !in.long && in.short() {
		write = in.writeTail
	}
	if err := write(); err != nil {
		return err
	}
	return in.announce()
}
