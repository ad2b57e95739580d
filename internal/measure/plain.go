package main

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"
)

// plainImport is what one would write first: a row per reading, copied in bulk, with the index that a
// question needs. It returns readings per second.
func (p *place) plainImport(ctx context.Context, n int) (float64, error) {
	conn, err := pgx.Connect(ctx, p.url)
	if err != nil {
		return 0, err
	}
	defer conn.Close(ctx)
	if _, err := conn.Exec(ctx, `create table plain (series_id bigint, at timestamptz, value double precision, primary key (series_id, at))`); err != nil {
		return 0, err
	}
	began := time.Now()
	i := 0
	_, err = conn.CopyFrom(ctx, pgx.Identifier{"plain"}, []string{"series_id", "at", "value"}, pgx.CopyFromFunc(func() ([]any, error) {
		if i == n {
			return nil, nil
		}
		i++
		return []any{int64(i / 4320), p.anchor.Add(time.Duration(i%4320) * 20 * time.Second), float64(i%997) / 10}, nil
	}))
	return float64(n) / time.Since(began).Seconds(), err
}

// size returns the bytes on disk per reading, with indexes, as stored and as in the plain table.
func (p *place) size(ctx context.Context, samples int64) (stored, plain float64, err error) {
	conn, err := pgx.Connect(ctx, p.url)
	if err != nil {
		return 0, 0, err
	}
	defer conn.Close(ctx)
	var chunks, rows int64
	var n int64
	err = conn.QueryRow(ctx, `
		select (select sum(pg_total_relation_size(inhrelid)) from pg_inherits where inhparent = 'chunk'::regclass)::bigint,
		       pg_total_relation_size('plain'), (select count(*) from plain)`).Scan(&chunks, &rows, &n)
	return float64(chunks) / float64(samples), float64(rows) / float64(n), err
}
