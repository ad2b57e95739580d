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
