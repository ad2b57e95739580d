package store

import (
	"context"
	"encoding/json"
	"errors"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"dowsingrod/internal/feed"
)

// Connection is a source that the service collects from by itself.
type Connection struct {
	Name        string
	Kind        string
	Address     string
	Interval    time.Duration
	Pin         string
	Authorities string
	Secret      []byte // encrypted; nil where there is none
	Paused      bool
	Created     time.Time
	CreatedBy   string
	Revision    int64 // rises with every change but those of Health
	Health      json.RawMessage
}

const connectionColumns = `name, kind, address, interval_ms, pin, authorities, secret, paused, created, created_by, revision, health`

func scanConnection(row pgx.CollectableRow) (c Connection, err error) {
	var ms int64
	err = row.Scan(&c.Name, &c.Kind, &c.Address, &ms, &c.Pin, &c.Authorities, &c.Secret, &c.Paused, &c.Created, &c.CreatedBy, &c.Revision, &c.Health)
	c.Interval = time.Duration(ms) * time.Millisecond
	return c, err
}

// Connections lists them by name.
func (s *Store) Connections(ctx context.Context) ([]Connection, error) {
	rows, err := s.pool.Query(ctx, `select `+connectionColumns+` from connection order by name`)
	if err != nil {
		return nil, unavailable(err)
	}
	out, err := pgx.CollectRows(rows, scanConnection)
	return out, unavailable(err)
}

// Connection returns one, or ErrNotFound.
func (s *Store) Connection(ctx context.Context, name string) (Connection, error) {
	rows, err := s.pool.Query(ctx, `select `+connectionColumns+` from connection where name = $1`, name)
	if err != nil {
		return Connection{}, unavailable(err)
	}
	c, err := pgx.CollectExactlyOneRow(rows, scanConnection)
	if errors.Is(err, pgx.ErrNoRows) {
		return c, ErrNotFound
	}
	return c, unavailable(err)
}

// AddConnection keeps a new one; ErrTaken where the name is in use.
func (s *Store) AddConnection(ctx context.Context, c Connection) error {
	_, err := s.pool.Exec(ctx, `insert into connection (name, kind, address, interval_ms, pin, authorities, secret, paused, created_by)
		values ($1, $2, $3, $4, $5, $6, $7, $8, $9)`,
		c.Name, c.Kind, c.Address, c.Interval.Milliseconds(), c.Pin, c.Authorities, c.Secret, c.Paused, c.CreatedBy)
	var pg *pgconn.PgError
	if errors.As(err, &pg) && pg.Code == "23505" {
		return ErrTaken
	}
	return unavailable(err)
}

// ChangeConnection replaces what is kept of one, but its health; ErrNotFound where there is none.
func (s *Store) ChangeConnection(ctx context.Context, c Connection) error {
	tag, err := s.pool.Exec(ctx, `update connection set address = $2, interval_ms = $3, pin = $4, authorities = $5, secret = $6, paused = $7, revision = revision + 1 where name = $1`,
		c.Name, c.Address, c.Interval.Milliseconds(), c.Pin, c.Authorities, c.Secret, c.Paused)
	if err == nil && tag.RowsAffected() == 0 {
		return ErrNotFound
	}
	return unavailable(err)
}

// RemoveConnection forgets one. What it collected stays.
func (s *Store) RemoveConnection(ctx context.Context, name string) error {
	tag, err := s.pool.Exec(ctx, `delete from connection where name = $1`, name)
	if err == nil && tag.RowsAffected() == 0 {
		return ErrNotFound
	}
	return unavailable(err)
}

// SetHealth keeps the health of a connection of that revision; of an older one it is dropped.
func (s *Store) SetHealth(ctx context.Context, name string, revision int64, health any) error {
	text, err := json.Marshal(health)
	if err != nil {
		return err
	}
	_, err = s.pool.Exec(ctx, `update connection set health = $3 where name = $1 and revision = $2`, name, revision, text)
	return unavailable(err)
}

// Lead tries to become the one replica that collects. It returns nil where another is; else the lead, which lasts
// until it is given up or its connection to the database is lost.
func (s *Store) Lead(ctx context.Context) (*Lead, error) {
	conn, err := s.pool.Acquire(ctx)
	if err != nil {
		return nil, unavailable(err)
	}
	own := conn.Hijack()
	var got bool
	if err := own.QueryRow(ctx, `select pg_try_advisory_lock(hashtextextended('collect', 0))`).Scan(&got); err != nil || !got {
		_ = own.Close(context.WithoutCancel(ctx))
		return nil, unavailable(err)
	}
	return &Lead{own}, nil
}

// Lead is an advisory lock held by a connection of its own.
type Lead struct{ conn *pgx.Conn }

// Held reports whether it is still held.
func (l *Lead) Held(ctx context.Context) bool { return l.conn.Ping(ctx) == nil }

// GiveUp ends it.
func (l *Lead) GiveUp() {
	ctx, cancel := context.WithTimeout(context.Background(), 2*time.Second)
	defer cancel()
	_ = l.conn.Close(ctx)
}

// EndSource ends all that a source lists, as of t. Its history stays.
func (s *Store) EndSource(ctx context.Context, name string, t time.Time) error {
	var known bool
	if err := s.pool.QueryRow(ctx, `select exists (select from source where name = $1)`, name).Scan(&known); err != nil || !known {
		return unavailable(err)
	}
	_, err := s.Import(ctx, func(in *Intake) error {
		return in.Begin(feed.Header{Version: feed.Version, Source: name, Time: t, Full: true})
	})
	return err
}

// FinestInterval returns the shortest interval collected at; 0 where nothing is collected.
func (s *Store) FinestInterval(ctx context.Context) (time.Duration, error) {
	var ms int64
	err := s.pool.QueryRow(ctx, `select coalesce(min(interval_ms), 0) from connection`).Scan(&ms)
	return time.Duration(ms) * time.Millisecond, unavailable(err)
}
