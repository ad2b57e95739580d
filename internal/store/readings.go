package store

import (
	"context"
	"fmt"
	"slices"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgtype"

	"dowsingrod/core/reading"
	"dowsingrod/internal/store/codec"
)

// Span is the time one chunk covers.
const Span = 4 * time.Hour

// valuesPerChunk bounds what a chunk can hold: one value a millisecond is refused long before.
const valuesPerChunk = int(Span / time.Second * 1000)

// Want names a metric of an object by the store's number.
type Want struct {
	Object int64
	Metric string
}

// Runs is what Readings returns: runs of readings by object and metric.
type Runs map[Want][]reading.Series

// Readings returns the runs of the wanted metrics that overlap [from, to), in order of time. What has
// none is absent from the result.
func (s *Store) Readings(ctx context.Context, wants []Want, from, to time.Time) (Runs, error) {
	wanted, err := s.series(ctx, wants)
	if err != nil {
		return nil, err
	}
	// What is not packed yet is read first: what is packed in between is then seen twice rather than never.
	type piece struct {
		want Want
		run  reading.Series
	}
	var fresh []piece
	err = s.readTail(ctx, wanted, from, to, func(w Want, run reading.Series) { fresh = append(fresh, piece{w, run}) })
	if err != nil {
		return nil, err
	}
	ids := make([]int64, 0, len(wanted))
	for id := range wanted {
		ids = append(ids, id)
	}
	rows, err := s.pool.Query(ctx, `
		select c.series_id, c.span, c.step_ms, c.phase_ms, c.first, c.data from chunk c
		where c.series_id = any($1) and c.span >= $2 and c.span < $3
		order by c.series_id, c.step_ms, c.phase_ms, c.span`, ids, from.Truncate(Span), to)
	if err != nil {
		return nil, unavailable(err)
	}
	out := make(Runs, len(wanted))
	var c chunkRow
	var data pgtype.DriverBytes
	var id int64
	_, err = pgx.ForEachRow(rows, []any{&id, &c.span, &c.step, &c.phase, &c.first, &data}, func() error {
		w := wanted[id]
		values, err := codec.Decode(data, valuesPerChunk)
		if err != nil {
			return fmt.Errorf("chunk of %s at %s: %w", w.Metric, c.span, err)
		}
		run := c.series(values)
		runs := out[w]
		if n := len(runs); n > 0 && runs[n-1].Step == run.Step && runs[n-1].From.Add(time.Duration(len(runs[n-1].Values))*run.Step).Equal(run.From) {
			runs[n-1].Values = append(runs[n-1].Values, values...)
		} else {
			out[w] = append(runs, run)
		}
		return nil
	})
	for _, p := range fresh {
		out[p.want] = overlay(out[p.want], p.run)
	}
	return out, unavailable(err)
}

// series returns the numbers of the series there are among those wanted. Large estates ask for tens of thousands of which
// few exist, so the database is asked by object, and metrics are sorted out here.
func (s *Store) series(ctx context.Context, wants []Want) (map[int64]Want, error) {
	number := map[string]int{}
	var metrics []string
	asked := make(map[int64][]int, len(wants)/4)
	var objects []int64
	for _, w := range wants {
		n, known := number[w.Metric]
		if !known {
			n = len(metrics)
			number[w.Metric], metrics = n, append(metrics, w.Metric)
		}
		of, known := asked[w.Object]
		if !known {
			objects = append(objects, w.Object)
		}
		asked[w.Object] = append(of, n)
	}
	rows, err := s.pool.Query(ctx, `
		select s.id, s.object_id, s.metric from unnest($1::bigint[]) as w(object_id)
		join series s on s.object_id = w.object_id where s.metric = any($2)`, objects, metrics)
	if err != nil {
		return nil, unavailable(err)
	}
	out := make(map[int64]Want)
	var id int64
	var w Want
	_, err = pgx.ForEachRow(rows, []any{&id, &w.Object, &w.Metric}, func() error {
		if slices.Contains(asked[w.Object], number[w.Metric]) {
			out[id] = w
		}
		return nil
	})
	return out, unavailable(err)
}

// chunkRow addresses a chunk's values: value i begins at span + phase + (first+i)·step.
type chunkRow struct {
	span               time.Time
	step, phase, first int32
}

func (c chunkRow) series(values []float64) reading.Series {
	step := time.Duration(c.step) * time.Millisecond
	return reading.Series{From: c.span.UTC().Add(time.Duration(c.phase)*time.Millisecond + time.Duration(c.first)*step), Step: step, Values: values}
}

// Extent returns the start of the oldest and the end of the newest reading, and the number of chunks
// and bytes that hold them; zero times where there is none.
func (s *Store) Extent(ctx context.Context) (from, to time.Time, err error) {
	var first, last *time.Time
	err = s.pool.QueryRow(ctx, `select least((select min(span) from chunk), (select min(starts) from tail)), (select max(last_end) from source)`).Scan(&first, &last)
	if first != nil {
		from = *first
	}
	if last != nil {
		to = *last
	}
	return from, to, unavailable(err)
}

// Histogram is a distribution over intervals: Counts holds a row of len(Bounds)+1 for each.
type Histogram struct {
	From   time.Time
	Step   time.Duration
	Bounds []float64
	Counts []float64
}

// Histograms returns the distributions of a metric of an object that begin in [from, to).
func (s *Store) Histograms(ctx context.Context, object int64, metric string, from, to time.Time) ([]Histogram, error) {
	rows, err := s.pool.Query(ctx, `
		select starts, step_ms, bounds, counts from histogram
		where object_id = $1 and metric = $2 and starts >= $3 and starts < $4 order by starts`, object, metric, from, to)
	if err != nil {
		return nil, unavailable(err)
	}
	out, err := pgx.CollectRows(rows, func(row pgx.CollectableRow) (Histogram, error) {
		var h Histogram
		var step int32
		err := row.Scan(&h.From, &step, &h.Bounds, &h.Counts)
		h.Step = time.Duration(step) * time.Millisecond
		return h, err
	})
	return out, unavailable(err)
}
