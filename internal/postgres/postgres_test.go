package postgres_test

import (
	"context"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dowsingrod/internal/postgres"
)

func place(t *testing.T) string {
	dir, err := os.MkdirTemp("", "dowse-pg-*") // the server may run as another user, who must reach it
	require.NoError(t, err)
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	require.NoError(t, os.Chmod(dir, 0o755))
	return dir
}

func query(t *testing.T, url, sql string) string {
	conn, err := pgx.Connect(t.Context(), url)
	require.NoError(t, err)
	defer conn.Close(context.Background())
	var out string
	require.NoError(t, conn.QueryRow(t.Context(), sql).Scan(&out))
	return out
}

func TestItListensOnLoopbackAloneWithAPassword(t *testing.T) {
	dir := place(t)
	s, err := postgres.Start(t.Context(), postgres.Options{Dir: dir, Throwaway: true})
	require.NoError(t, err)
	defer s.Stop()
	assert.Equal(t, "127.0.0.1", query(t, s.URL, "show listen_addresses"))
	assert.Empty(t, query(t, s.URL, "show unix_socket_directories"))
	cfg, err := pgx.ParseConfig(s.URL)
	require.NoError(t, err)
	cfg.Password = "guess"
	_, err = pgx.ConnectConfig(t.Context(), cfg)
	assert.ErrorContains(t, err, "password")
	info, err := os.Stat(filepath.Join(dir, "password"))
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
}

func TestTheDataIsFoundAgainUntilItIsForgotten(t *testing.T) {
	dir := place(t)
	run := func(sql string) string {
		s, err := postgres.Start(t.Context(), postgres.Options{Dir: dir, Throwaway: true})
		require.NoError(t, err)
		defer s.Stop()
		return query(t, s.URL, sql)
	}

	s, err := postgres.Start(t.Context(), postgres.Options{Dir: dir, Throwaway: true})
	require.NoError(t, err)
	conn, err := pgx.Connect(t.Context(), s.URL)
	require.NoError(t, err)
	_, err = conn.Exec(t.Context(), "create table kept (v text)")
	require.NoError(t, err)
	require.NoError(t, conn.Close(t.Context()))
	s.Stop()
	assert.Equal(t, "kept", run("select coalesce(to_regclass('kept')::text, 'gone')"))
	require.NoError(t, postgres.Forget(dir))
	assert.Equal(t, "gone", run("select coalesce(to_regclass('kept')::text, 'gone')"))
}

// A service that was killed leaves its server behind; the next start ends that one first.
func TestALeftoverIsEnded(t *testing.T) {
	dir := place(t)
	first, err := postgres.Start(t.Context(), postgres.Options{Dir: dir, Throwaway: true})
	require.NoError(t, err)
	second, err := postgres.Start(t.Context(), postgres.Options{Dir: dir, Throwaway: true})
	require.NoError(t, err)
	defer second.Stop()
	select {
	case <-first.Done():
	case <-time.After(10 * time.Second):
		t.Fatal("two servers run on one directory")
	}
	assert.Equal(t, "1", query(t, second.URL, "select '1'"))
}

func TestFind(t *testing.T) {
	bin, err := postgres.Find()
	require.NoError(t, err)
	assert.FileExists(t, filepath.Join(bin, "initdb"))
	assert.Contains(t, postgres.ErrMissing.Error(), "apt-get install postgresql-15")
}
