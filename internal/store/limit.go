package store

import (
	"context"
	"encoding/json"
	"time"

	"github.com/jackc/pgx/v5"

	"dowsingrod/core/congest"
	"dowsingrod/core/estate"
	"dowsingrod/core/reading"
)

// LimitChange is what somebody changed about a limit.
type LimitChange struct {
	congest.Rule
	ID      int64      `json:"id" doc:"Its number"`
	Why     string     `json:"why" doc:"Why, in the words of who changed it"`
	By      string     `json:"by" doc:"Who changed it"`
	At      time.Time  `json:"at" doc:"Since when"`
	Until   *time.Time `json:"until" doc:"Until when; null while it holds"`
	UntilBy string     `json:"until_by,omitempty" doc:"Who ended it"`
}

// LimitChanges returns what holds, or with all also what once did, the latest first.
func (s *Store) LimitChanges(ctx context.Context, all bool) ([]LimitChange, error) {
	rows, err := s.pool.Query(ctx, `select id, kind, within, metric, strained, failing, words, by, at, until, coalesce(until_by, '') from limit_rule
		where until is null or $1 order by at desc, id desc`, all)
	if err != nil {
		return nil, unavailable(err)
	}
	out, err := pgx.CollectRows(rows, func(row pgx.CollectableRow) (c LimitChange, err error) {
		var kind string
		var strained, failing *float64
		err = row.Scan(&c.ID, &kind, &c.Within, &c.Metric, &strained, &failing, &c.Why, &c.By, &c.At, &c.Until, &c.UntilBy)
		c.Kind, c.Strained, c.Failing = estate.Kind(kind), figure(strained), figure(failing)
		return c, err
	})
	return out, unavailable(err)
}

func figure(v *float64) reading.Figure {
	if v == nil {
		return reading.Missing
	}
	return reading.Figure(*v)
}

func nullable(f reading.Figure) *float64 {
	if !f.Known() {
		return nil
	}
	v := float64(f)
	return &v
}

// ChangeLimit lets a rule hold from now on, and ends the one it replaces.
func (s *Store) ChangeLimit(ctx context.Context, r congest.Rule, why, by string) error {
	return s.inTx(ctx, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, "update limit_rule set until = now(), until_by = $4 where kind = $1 and within = $2 and metric = $3 and until is null",
			string(r.Kind), r.Within, r.Metric, by); err != nil {
			return err
		}
		_, err := tx.Exec(ctx, "insert into limit_rule (kind, within, metric, strained, failing, words, by) values ($1, $2, $3, $4, $5, $6, $7)",
			string(r.Kind), r.Within, r.Metric, nullable(r.Strained), nullable(r.Failing), why, by)
		return err
	})
}

// RestoreLimit ends the rule that holds for exactly this; ErrNotFound where there is none.
func (s *Store) RestoreLimit(ctx context.Context, kind estate.Kind, within, metric, by string) error {
	tag, err := s.pool.Exec(ctx, "update limit_rule set until = now(), until_by = $4 where kind = $1 and within = $2 and metric = $3 and until is null",
		string(kind), within, metric, by)
	if err == nil && tag.RowsAffected() == 0 {
		return ErrNotFound
	}
	return unavailable(err)
}

// Stretch is a stretch as it is kept.
type Stretch struct {
	Object string // kind:id@source
	congest.Stretch
}

// KeepStretches keeps stretches that began, got worse or ended.
func (s *Store) KeepStretches(ctx context.Context, changed []congest.Stretch) error {
	if len(changed) == 0 {
		return nil
	}
	return s.inTx(ctx, func(tx pgx.Tx) error {
		batch := &pgx.Batch{}
		for _, x := range changed {
			held, err := json.Marshal(x.Limit)
			if err != nil {
				return err
			}
			batch.Queue(`insert into stretch (object, metric, began, seen, ended, broken, level, worst, held) values ($1, $2, $3, $4, $5, $6, $7, $8, $9)
				on conflict (object, metric, began) do update set seen = excluded.seen, ended = excluded.ended, broken = excluded.broken, level = excluded.level,
				worst = excluded.worst, held = excluded.held`,
				x.Of.String(), x.Limit.Metric, x.From, x.To, x.Ended, x.Broken, string(x.Level), x.Worst, held)
		}
		return tx.SendBatch(ctx, batch).Close()
	})
}

// OpenStretches returns those that last.
func (s *Store) OpenStretches(ctx context.Context) ([]Stretch, error) {
	return s.stretches(ctx, "not ended")
}

// Stretches returns those that overlap [from, to), the open first, then the latest; of one object where it is named.
func (s *Store) Stretches(ctx context.Context, object string, from, to time.Time, limit int) ([]Stretch, error) {
	return s.stretches(ctx, "began < $2 and (seen >= $1 or not ended) and ($3 = '' or object = $3) order by ended, seen desc, object, metric limit $4", from, to, object, limit)
}

func (s *Store) stretches(ctx context.Context, where string, args ...any) ([]Stretch, error) {
	rows, err := s.pool.Query(ctx, "select object, began, seen, ended, broken, level, worst, held from stretch where "+where, args...)
	if err != nil {
		return nil, unavailable(err)
	}
	out, err := pgx.CollectRows(rows, func(row pgx.CollectableRow) (x Stretch, err error) {
		var held []byte
		if err = row.Scan(&x.Object, &x.From, &x.To, &x.Ended, &x.Broken, &x.Level, &x.Worst, &held); err == nil {
			err = json.Unmarshal(held, &x.Limit)
		}
		if key, bad := estate.ParseKey(x.Object); bad == nil {
			x.Of = key
		}
		x.From, x.To = x.From.UTC(), x.To.UTC()
		return x, err
	})
	return out, unavailable(err)
}
