package main

import (
	"context"
	"fmt"
	"slices"
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

// routeSQL follows the links of a virtual machine down to its drives as one recursive question over the service's own
// tables: links as sources send them, and the joins by NAA, WWPN and export that the map needs on the way.
const routeSQL = `
with recursive now as not materialized (
	select o.id, o.source_id, o.kind, o.local_id, v.facts, v.links
	from object_version v join object o on o.id = v.object_id where v.valid_to = 'infinity'),
down(id, depth) as (
	select id, 0 from now where kind = 'vm' and local_id = $1
	union
	select n.id, d.depth + 1 from down d join now f on f.id = d.id
	cross join lateral (
		select t.id from jsonb_each(f.links) l cross join jsonb_array_elements_text(l.value) r
		join object t on t.source_id = f.source_id and t.kind = split_part(r, ':', 1) and t.local_id = substr(r, strpos(r, ':') + 1)
		where l.key in ('uses', 'runs_on', 'stored_on', 'part_of', 'carved_from', 'made_of', 'served_by', 'backed_by')
		union all
		select t.id from now t where f.kind = 'datastore' and t.kind = 'volume'
			and f.facts->'extents' ? ('naa.' || lower(t.facts->>'naa'))
		union all
		select t.id from now t where f.kind = 'datastore' and t.kind = 'share' and t.facts->>'export' = (f.facts->>'export') || '/'
	) n where d.depth < 12)
select count(distinct id) from down`

// plainRoute asks the database itself for the route of a virtual machine.
func (g *grounds) plainRoute(ctx context.Context) error {
	conn, err := pgx.Connect(ctx, g.url)
	if err != nil {
		return err
	}
	defer conn.Close(ctx)
	if _, err := conn.Exec(ctx, `analyze`); err != nil {
		return err
	}
	var times []time.Duration
	for k := range 5 {
		var n int
		began := time.Now()
		if err := conn.QueryRow(ctx, routeSQL, fmt.Sprintf("vm-%06d", 1+k*g.vms/7)).Scan(&n); err != nil {
			return err
		}
		times = append(times, time.Since(began))
	}
	slices.Sort(times)
	g.plain = times[len(times)/2]
	g.bench("route.vm.plain", g.plain.Seconds()*1e3, "ms")
	g.bench("route.vm.ratio", g.plain.Seconds()/g.route.Seconds(), "x")
	return nil
}
