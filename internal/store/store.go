// Package store keeps the estate, its readings and its accounts in PostgreSQL.
//
// The estate is kept as versions with a range of validity, so any moment can be rebuilt. Readings are
// kept as one compressed row per series and span of time (see codec), in partitions of a day. Every
// change goes through one transaction and is acknowledged once committed.
package store

import (
	"context"
	"embed"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"net"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/jackc/pgx/v5/stdlib"
	"github.com/jackc/puddle/v2"
	"github.com/pressly/goose/v3"
	"github.com/pressly/goose/v3/lock"
)

//go:embed migrations/*.sql
var migrations embed.FS

// ErrUnavailable says that the database does not answer.
var ErrUnavailable = errors.New("the database does not answer")

// ErrNotFound says that a row asked for by its key is not there.
var ErrNotFound = errors.New("not found")

// ErrTaken says that a name is in use already.
var ErrTaken = errors.New("that name is taken")

// Store is a pool of connections to one database. It is safe for concurrent use.
type Store struct {
	pool *pgxpool.Pool
}

// Open connects to the database at url and brings its schema up to date, waiting for other replicas
// that do the same.
func Open(ctx context.Context, url string) (*Store, error) {
	cfg, err := pgxpool.ParseConfig(url)
	if err != nil {
		return nil, fmt.Errorf("the database address cannot be read: %w", err)
	}
	cfg.MaxConns = max(cfg.MaxConns, 8)
	pool, err := pgxpool.NewWithConfig(ctx, cfg)
	if err != nil {
		return nil, err
	}
	if err := pool.Ping(ctx); err != nil {
		pool.Close()
		return nil, fmt.Errorf("%w: %w", ErrUnavailable, err)
	}
	if err := migrate(ctx, pool); err != nil {
		pool.Close()
		return nil, fmt.Errorf("bring the schema up to date: %w", err)
	}
	return &Store{pool}, nil
}

func migrate(ctx context.Context, pool *pgxpool.Pool) error {
	dir, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return err
	}
	locker, err := lock.NewPostgresSessionLocker()
	if err != nil {
		return err
	}
	db := stdlib.OpenDBFromPool(pool)
	defer db.Close()
	p, err := goose.NewProvider(goose.DialectPostgres, db, dir, goose.WithSessionLocker(locker))
	if err != nil {
		return err
	}
	done, err := p.Up(ctx)
	for _, m := range done {
		slog.Info("schema migrated", "version", m.Source.Version, "took", m.Duration.Round(time.Millisecond))
	}
	return err
}

// Close ends all connections.
func (s *Store) Close() { s.pool.Close() }

// Ping reports whether the database answers.
func (s *Store) Ping(ctx context.Context) error { return unavailable(s.pool.Ping(ctx)) }

// unavailable wraps errors that mean the database is not there, so that callers can tell them from
// their own mistakes.
func unavailable(err error) error {
	if err == nil || errors.Is(err, pgx.ErrNoRows) || errors.Is(err, context.Canceled) {
		return err
	}
	var server *pgconn.PgError
	if errors.As(err, &server) {
		// Class 57: operator intervention, as when the server shuts down. Class 53: out of resources.
		if c := server.Code[:2]; c == "57" || c == "53" {
			return fmt.Errorf("%w: %w", ErrUnavailable, err)
		}
		return err
	}
	var connect *pgconn.ConnectError
	var network *net.OpError
	if errors.As(err, &connect) || errors.As(err, &network) || pgconn.SafeToRetry(err) || pgconn.Timeout(err) ||
		errors.Is(err, puddle.ErrClosedPool) || errors.Is(err, io.ErrUnexpectedEOF) || errors.Is(err, io.EOF) {
		return fmt.Errorf("%w: %w", ErrUnavailable, err)
	}
	return err
}

// inTx runs f in one transaction, which is committed where f returns nil.
func (s *Store) inTx(ctx context.Context, f func(pgx.Tx) error) error {
	return unavailable(pgx.BeginFunc(ctx, s.pool, f))
}

// Setting returns a setting, "" where there is none.
func (s *Store) Setting(ctx context.Context, name string) (string, error) {
	var v string
	err := s.pool.QueryRow(ctx, `select value from setting where name = $1`, name).Scan(&v)
	if errors.Is(err, pgx.ErrNoRows) {
		return "", nil
	}
	return v, unavailable(err)
}

// SetSetting keeps a setting.
func (s *Store) SetSetting(ctx context.Context, name, value string) error {
	_, err := s.pool.Exec(ctx, `insert into setting values ($1, $2) on conflict (name) do update set value = excluded.value`, name, value)
	return unavailable(err)
}
