package store

import (
	"cmp"
	"context"
	"fmt"
	"math"
	"slices"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgtype"

	"dowsingrod/core/reading"
	"dowsingrod/internal/store/codec"
)

// pageSize is how many series share a row of the tail.
const pageSize = 256

// shortRun is the longest run that goes into the tail: longer ones are worth a chunk of their own at once.
const shortRun = 30

// tailKey addresses a row of the tail.
type tailKey struct {
	page  int64
	from  int64 // ns
	step  int32
	count int
}

// writeTail writes what is held as rows of the tail.
func (in *Intake) writeTail() error {
	type entry struct {
		slot   int
		values []float64
	}
	rows := make(map[tailKey][]entry)
	for key, p := range in.held {
		from := key.span.Add(time.Duration(key.phase)*time.Millisecond + time.Duration(p.first)*time.Duration(key.step)*time.Millisecond)
		k := tailKey{key.series / pageSize, from.UnixNano(), key.step, len(p.values)}
		rows[k] = append(rows[k], entry{int(key.series % pageSize), p.values})
	}
	keys := make([]tailKey, 0, len(rows))
	for k := range rows {
		keys = append(keys, k)
	}
	slices.SortFunc(keys, func(a, b tailKey) int { return cmp.Or(cmp.Compare(a.from, b.from), cmp.Compare(a.page, b.page)) })
	n := 0
	_, err := in.tx.CopyFrom(in.ctx, pgx.Identifier{"tail"}, []string{"page", "starts", "step_ms", "count", "data"},
		pgx.CopyFromFunc(func() ([]any, error) {
			if n == len(keys) {
				return nil, nil
			}
			k := keys[n]
			n++
			entries := rows[k]
			slices.SortFunc(entries, func(a, b entry) int { return a.slot - b.slot })
			data := make([]byte, pageSize/8, pageSize/8+8*len(entries)*k.count)
			values := make([]float64, 0, len(entries)*k.count)
			for _, e := range entries {
				data[e.slot/8] |= 1 << (e.slot % 8)
				values = append(values, e.values...)
			}
			return []any{k.page, time.Unix(0, k.from), k.step, int32(k.count), codec.Encode(data, values)}, nil
		}))
	clear(in.held)
	in.values = 0
	return err
}

// short reports whether all that is held are short runs.
func (in *Intake) short() bool {
	for _, p := range in.held {
		if len(p.values) > shortRun {
			return false
		}
	}
	return true
}

// tailRow is a row of the tail as it is read.
type tailRow struct {
	page   int64
	starts time.Time
	step   int32
	count  int32
	data   pgtype.DriverBytes
}

func (r *tailRow) scan() []any { return []any{&r.page, &r.starts, &r.step, &r.count, &r.data} }

// each hands on the values of every series in the row.
func (r *tailRow) each(f func(series int64, from time.Time, step time.Duration, values []float64) error) error {
	if len(r.data) < pageSize/8 || r.count <= 0 || r.step <= 0 {
		return fmt.Errorf("a row of new readings at %s is damaged", r.starts)
	}
	values, err := codec.Decode(r.data[pageSize/8:], pageSize*int(r.count))
	if err != nil {
		return fmt.Errorf("a row of new readings at %s: %w", r.starts, err)
	}
	at, n := 0, int(r.count)
	for slot := range pageSize {
		if r.data[slot/8]&(1<<(slot%8)) == 0 {
			continue
		}
		if at+n > len(values) {
			return fmt.Errorf("a row of new readings at %s is cut short", r.starts)
		}
		if err := f(r.page*pageSize+int64(slot), r.starts.UTC(), time.Duration(r.step)*time.Millisecond, values[at:at+n]); err != nil {
			return err
		}
		at += n
	}
	return nil
}

// readTail hands on the readings not yet packed, in order of time.
func (s *Store) readTail(ctx context.Context, wanted map[int64]Want, from, to time.Time, lay func(Want, reading.Series)) error {
	pages := make([]int64, 0, 16)
	for id := range wanted {
		pages = append(pages, id/pageSize)
	}
	slices.Sort(pages)
	rows, err := s.pool.Query(ctx, `
		select page, starts, step_ms, count, data from tail
		where page = any($1) and starts < $3 and starts > $2::timestamptz - make_interval(secs => step_ms::float8 / 1000 * count)
		order by starts, seq`, slices.Compact(pages), from, to)
	if err != nil {
		return unavailable(err)
	}
	var r tailRow
	_, err = pgx.ForEachRow(rows, r.scan(), func() error {
		return r.each(func(series int64, from time.Time, step time.Duration, values []float64) error {
			if w, ok := wanted[series]; ok {
				lay(w, reading.Series{From: from, Step: step, Values: values})
			}
			return nil
		})
	})
	return unavailable(err)
}

// overlay lays a short run over the runs of its series: in place of values there are, or after them.
func overlay(runs []reading.Series, s reading.Series) []reading.Series {
	for k := len(runs) - 1; k >= 0; k-- {
		r := &runs[k]
		offset := s.From.Sub(r.From)
		if r.Step != s.Step || offset < 0 || offset%r.Step != 0 {
			continue
		}
		at := int(offset / r.Step)
		if at > len(r.Values)+shortRun {
			continue
		}
		for len(r.Values) < at {
			r.Values = append(r.Values, math.NaN())
		}
		for i, v := range s.Values {
			switch {
			case at+i >= len(r.Values):
				r.Values = append(r.Values, v)
			case !math.IsNaN(v):
				r.Values[at+i] = v
			}
		}
		return runs
	}
	return append(runs, reading.Series{From: s.From, Step: s.Step, Values: slices.Clone(s.Values)})
}

// packed bounds how many pages one transaction packs.
const packed = 8

// Pack moves readings from the tail into chunks: those of pages that hold anything older than before, or many rows.
// It returns how many pages it packed. It may be called by every replica at once.
func (s *Store) Pack(ctx context.Context, before time.Time) (int, error) {
	rows, err := s.pool.Query(ctx, `select page from tail group by page having min(starts) < $1 or count(*) > 120 order by page`, before)
	if err != nil {
		return 0, unavailable(err)
	}
	pages, err := pgx.CollectRows(rows, pgx.RowTo[int64])
	if err != nil {
		return 0, unavailable(err)
	}
	for done := 0; done < len(pages); done += packed {
		if err := s.pack(ctx, pages[done:min(done+packed, len(pages))]); err != nil {
			return done, err
		}
	}
	return len(pages), nil
}

func (s *Store) pack(ctx context.Context, pages []int64) error {
	_, err := s.importWith(ctx, nil, func(in *Intake) error {
		// Not while an intake writes chunks of the same series.
		if _, err := in.tx.Exec(ctx, `set local lock_timeout = '5s'`); err != nil {
			return err
		}
		if _, err := in.tx.Exec(ctx, `select pg_advisory_xact_lock(hashtextextended('intake ' || name, 0)) from (
			select distinct src.name from unnest($1::bigint[]) p join series x on x.id >= p * 256 and x.id < (p + 1) * 256
			join object o on o.id = x.object_id join source src on src.id = o.source_id order by src.name) q`, pages); err != nil {
			return err
		}
		rows, err := in.tx.Query(ctx, `with taken as (delete from tail where page = any($1) returning page, starts, step_ms, count, data, seq)
			select page, starts, step_ms, count, data from taken order by starts, seq`, pages)
		if err != nil {
			return err
		}
		var r tailRow
		_, err = pgx.ForEachRow(rows, r.scan(), func() error { return r.each(in.hold) })
		in.long = true
		return err
	})
	return err
}
