package store

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"

	"dowsingrod/core/estate"
)

// Transition is a moment at which an object became another, came, or went.
type Transition struct {
	At            time.Time
	Before, After *estate.Node // nil where it was not there
}

// Transitions returns what changed in (from, to], latest first, at most limit, and how many there were in all. Of the
// objects numbered only where objects is not nil.
func (s *Store) Transitions(ctx context.Context, from, to time.Time, objects []int64, limit int) ([]Transition, int, error) {
	const changes = `
		with changes as (
			select object_id, valid_from as at from object_version where valid_from > $1 and valid_from <= $2 and ($3::bigint[] is null or object_id = any($3))
			union
			select object_id, valid_to from object_version where valid_to > $1 and valid_to <= $2 and ($3::bigint[] is null or object_id = any($3)))`
	var total int
	var out []Transition
	err := s.byIndex(ctx, func(tx pgx.Tx) error {
		if err := tx.QueryRow(ctx, changes+` select count(*) from changes`, from, to, objects).Scan(&total); err != nil {
			return err
		}
		rows, err := tx.Query(ctx, changes+`
		select c.at, o.id, s.name, o.kind, o.local_id, b.name, b.facts::text, b.links::text, a.name, a.facts::text, a.links::text
		from changes c join object o on o.id = c.object_id join source s on s.id = o.source_id
		left join object_version b on b.object_id = c.object_id and b.valid_to = c.at
		left join object_version a on a.object_id = c.object_id and a.valid_from = c.at
		order by c.at desc, o.kind, o.local_id limit $4`, from, to, objects, limit)
		if err != nil {
			return err
		}
		out, err = pgx.CollectRows(rows, func(row pgx.CollectableRow) (Transition, error) {
			var t Transition
			var n estate.Node
			var before, after struct{ name, facts, links *string }
			err := row.Scan(&t.At, &n.Store, &n.Key.Source, &n.Key.Ref.Kind, &n.Key.Ref.ID, &before.name, &before.facts, &before.links, &after.name, &after.facts, &after.links)
			if before.name != nil {
				b := n
				b.Name, b.Facts, b.Links = *before.name, estate.Sheet(*before.facts), estate.Sheet(*before.links)
				t.Before = &b
			}
			if after.name != nil {
				a := n
				a.Name, a.Facts, a.Links = *after.name, estate.Sheet(*after.facts), estate.Sheet(*after.links)
				t.After = &a
			}
			return t, err
		})
		return err
	})
	return out, total, err
}

// ChangeTimes counts the changes of each moment in (from, to], in order.
func (s *Store) ChangeTimes(ctx context.Context, from, to time.Time, objects []int64) ([]MomentCount, error) {
	rows, err := s.pool.Query(ctx, `
		select at, count(distinct object_id) from (
			select object_id, valid_from as at from object_version where valid_from > $1 and valid_from <= $2 and ($3::bigint[] is null or object_id = any($3))
			union all
			select object_id, valid_to from object_version where valid_to > $1 and valid_to <= $2 and ($3::bigint[] is null or object_id = any($3))) c
		group by at order by at`, from, to, objects)
	if err != nil {
		return nil, unavailable(err)
	}
	out, err := pgx.CollectRows(rows, pgx.RowToStructByPos[MomentCount])
	return out, unavailable(err)
}

// MomentCount counts the objects that changed at a moment.
type MomentCount struct {
	At    time.Time `json:"at" doc:"The moment"`
	Count int       `json:"count" doc:"Objects that changed then"`
}
