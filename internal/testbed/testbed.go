// Package testbed gives tests the real thing, small: a PostgreSQL of their own on loopback, the demo
// estate in it, and the service on a loopback port.
package testbed

import (
	"context"
	"fmt"
	"io/fs"
	"log/slog"
	"net/http/httptest"
	"net/url"
	"os"
	"path/filepath"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"dowsingrod/internal/api"
	"dowsingrod/internal/client"
	"dowsingrod/internal/collect"
	"dowsingrod/internal/feed"
	"dowsingrod/internal/lab"
	"dowsingrod/internal/postgres"
	"dowsingrod/internal/service"
	"dowsingrod/internal/source/sources"
	"dowsingrod/internal/store"
	"dowsingrod/internal/vault"
)

var shared struct {
	once   sync.Once
	server *postgres.Server
	dir    string
	err    error
	names  atomic.Int64

	demoOnce sync.Once
	demo     Demo
	demoErr  error

	watchOnce sync.Once
	watchErr  error
}

// Run runs a package's tests and ends what they started. TestMain calls os.Exit with it.
func Run(m *testing.M) int {
	defer func() {
		if shared.server != nil {
			shared.server.Stop()
		}
		if shared.dir != "" {
			_ = os.RemoveAll(shared.dir)
		}
	}()
	return m.Run()
}

func start() {
	if shared.dir, shared.err = os.MkdirTemp("", "dowse-test-*"); shared.err != nil {
		return
	}
	if shared.err = os.Chmod(shared.dir, 0o755); shared.err != nil { // the server may run as another user
		return
	}
	shared.server, shared.err = postgres.Start(context.Background(), postgres.Options{Dir: shared.dir + "/pg", Throwaway: true})
}

// Database makes an empty database and returns its address.
func Database(t testing.TB) string {
	t.Helper()
	address, err := database()
	require.NoError(t, err)
	return address
}

func database() (string, error) {
	shared.once.Do(start)
	if shared.err != nil {
		return "", shared.err
	}
	ctx := context.Background()
	conn, err := pgx.Connect(ctx, shared.server.URL)
	if err != nil {
		return "", err
	}
	defer conn.Close(ctx)
	name := fmt.Sprintf("test_%d", shared.names.Add(1))
	if _, err := conn.Exec(ctx, "create database "+name); err != nil {
		return "", err
	}
	u, err := url.Parse(shared.server.URL)
	if err != nil {
		return "", err
	}
	u.Path = "/" + name
	return u.String(), nil
}

// Store opens a store on an empty database.
func Store(t testing.TB) *store.Store {
	t.Helper()
	s, err := store.Open(context.Background(), Database(t))
	require.NoError(t, err)
	t.Cleanup(s.Close)
	return s
}

// Demo is the demo estate, loaded once for all tests of a package. They must not change it.
type Demo struct {
	Service *service.Service
	Anchor  time.Time
	Lab     *lab.Lab
	// URL is the address of its database.
	URL string
}

// LoadDemo returns the demo estate. Its clock stands at the anchor.
func LoadDemo(t testing.TB) Demo {
	t.Helper()
	shared.demoOnce.Do(func() { shared.demo, shared.demoErr = loadDemo() })
	require.NoError(t, shared.demoErr)
	return shared.demo
}

// LoadWatched returns the demo estate with its incidents found. Tests may comment on them.
func LoadWatched(t testing.TB) Demo {
	t.Helper()
	d := LoadDemo(t)
	shared.watchOnce.Do(func() { shared.watchErr = d.Service.Advance(context.Background(), d.Anchor) })
	require.NoError(t, shared.watchErr)
	return d
}

func loadDemo() (Demo, error) {
	address, err := database()
	if err != nil {
		return Demo{}, err
	}
	ctx := context.Background()
	st, err := store.Open(ctx, address)
	if err != nil {
		return Demo{}, err
	}
	anchor := lab.Anchor(time.Now())
	l := lab.New(lab.Seed, anchor)
	svc := service.New(st, func() time.Time { return anchor })
	_, err = svc.ImportRecords(ctx, func(write func(feed.Record) error) error {
		return l.Write(anchor.Add(-lab.Day), anchor, true, write)
	})
	return Demo{svc, anchor, l, address}, err
}

// Serve serves on loopback until the test ends, and returns the address.
func Serve(t testing.TB, svc *service.Service, console fs.FS) string {
	t.Helper()
	quiet := slog.New(slog.DiscardHandler)
	s := httptest.NewServer(api.New(api.Config{Service: svc, Console: console, Log: quiet, SignInsPerMinute: 30}))
	t.Cleanup(s.Close)
	return s.URL
}

var accounts atomic.Int64

// Token makes an account with a role and returns its name and a token.
func Token(t testing.TB, svc *service.Service, role service.Role) (name, token string) {
	t.Helper()
	name = fmt.Sprintf("%s-%d", role, accounts.Add(1))
	require.NoError(t, svc.AddAccount(t.Context(), name, role, ""))
	token, err := svc.AddToken(t.Context(), name, "test")
	require.NoError(t, err)
	return name, token
}

// Client serves and returns a client with a role.
func Client(t testing.TB, svc *service.Service, role service.Role) *client.Client {
	t.Helper()
	_, token := Token(t, svc, role)
	return client.New(Serve(t, svc, nil), token)
}

// Collect lets a service collect from its sources until the test ends.
func Collect(t testing.TB, svc *service.Service) {
	t.Helper()
	v, err := vault.Open(filepath.Join(t.TempDir(), "key"))
	require.NoError(t, err)
	c := collect.New(svc.Sink(), collect.Options{Open: sources.Open, Log: slog.New(slog.DiscardHandler)})
	svc.Collect(service.Collecting{Vault: v, Open: sources.Open, Changed: c.Refresh})
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan struct{})
	go func() {
		defer close(done)
		c.Run(ctx)
	}()
	t.Cleanup(func() {
		cancel()
		<-done
	})
}
