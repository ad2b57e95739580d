package store

import (
	"context"
	"time"

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

// Estate returns all objects as of t.
func (s *Store) Estate(ctx context.Context, t time.Time) ([]estate.Object, error) {
	rows, err := s.pool.Query(ctx, `
		select o.id, s.name, o.kind, o.local_id, v.name, v.facts, v.links
		from object_version v join object o on o.id = v.object_id join source s on s.id = o.source_id
		where v.valid_from <= $1 and v.valid_to > $1
		order by o.id`, t)
	if err != nil {
		return nil, unavailable(err)
	}
	out, err := pgx.CollectRows(rows, func(row pgx.CollectableRow) (estate.Object, error) {
		var o estate.Object
		var links map[estate.LinkKind][]string
		if err := row.Scan(&o.Store, &o.Key.Source, &o.Key.Ref.Kind, &o.Key.Ref.ID, &o.Name, &o.Facts, &links); err != nil {
			return o, err
		}
		o.Links = make(estate.Links, len(links))
		for kind, refs := range links {
			for _, text := range refs {
				if ref, err := estate.ParseRef(text); err == nil {
					o.Links[kind] = append(o.Links[kind], ref)
				}
			}
		}
		return o, nil
	})
	return out, unavailable(err)
}

// Changes returns the moments in (from, to) at which the estate changed, in order.
func (s *Store) Changes(ctx context.Context, from, to time.Time) ([]time.Time, error) {
	rows, err := s.pool.Query(ctx, `
		select valid_from as at from object_version where valid_from > $1 and valid_from < $2
		union select valid_to from object_version where valid_to > $1 and valid_to < $2
		order by at`, from, to)
	if err != nil {
		return nil, unavailable(err)
	}
	out, err := pgx.CollectRows(rows, pgx.RowTo[time.Time])
	return out, unavailable(err)
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
