package store

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"
)

// DropSources forgets sources with all their objects and readings.
func (s *Store) DropSources(ctx context.Context, names []string) error {
	if _, err := s.Pack(ctx, time.Date(9000, 1, 1, 0, 0, 0, 0, time.UTC)); err != nil { // a row of the tail may hold series of others too
		return err
	}
	return s.inTx(ctx, func(tx pgx.Tx) error {
		const of = `(select o.id from object o join source s on s.id = o.source_id where s.name = any($1))`
		for _, q := range []string{
			`delete from chunk where series_id in (select id from series where object_id in ` + of + `)`,
			`delete from normal where series_id in (select id from series where object_id in ` + of + `)`,
			`delete from series where object_id in ` + of,
			`delete from histogram where object_id in ` + of,
			`delete from event where object_id in ` + of,
			`delete from object_version where object_id in ` + of,
			`delete from object where source_id in (select id from source where name = any($1))`,
			`delete from source where name = any($1)`,
		} {
			if _, err := tx.Exec(ctx, q, names); err != nil {
				return err
			}
		}
		return announce(ctx, tx, nil, nil)
	})
}

// DropFindings forgets what was found of sources: incidents with what people wrote of them, and stretches past limits; and how far was looked,
// so that it is looked for anew. A source that is only removed keeps its incidents: they are what happened.
func (s *Store) DropFindings(ctx context.Context, names []string, watched string) error {
	return s.inTx(ctx, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, `delete from incident where substring(coalesce(nullif(component, ''), verdict->>'subject') from '[^@]*$') = any($1)`, names); err != nil {
			return err
		}
		if _, err := tx.Exec(ctx, `delete from stretch where substring(object from '[^@]*$') = any($1)`, names); err != nil {
			return err
		}
		_, err := tx.Exec(ctx, `delete from setting where name = $1`, watched)
		return err
	})
}
