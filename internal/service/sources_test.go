package service_test

import (
	"context"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dowsingrod/core/estate"
	"dowsingrod/internal/collect"
	. "dowsingrod/internal/service"
	"dowsingrod/internal/source"
	"dowsingrod/internal/source/sources"
	"dowsingrod/internal/store"
	"dowsingrod/internal/testbed"
	"dowsingrod/internal/vault"
)

const secret = "a-secret-of-northmole"

// exporter serves a feed of one host and its VMs, with readings of the last seconds.
func exporter(t *testing.T) string {
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Header.Get("Authorization") != "Bearer "+secret {
			http.Error(w, "who", http.StatusUnauthorized)
			return
		}
		now := time.Now().UTC().Truncate(time.Second)
		fmt.Fprintf(w, `{"feed":{"version":1,"source":"exporter","time":%q,"full":true}}
{"object":{"kind":"vm","id":"v","name":"tide-model-09","links":{"uses":["vdisk:v0"]}}}
{"object":{"kind":"vdisk","id":"v0","links":{"stored_on":["datastore:d"]}}}
{"object":{"kind":"datastore","id":"d","facts":{"extents":["iqn.2026-03.example.tidewrack:shags/1"]}}}
{"reading":{"of":"vdisk:v0","from":%q,"step_s":1,"values":{"read_iops":[10,20,30]}}}
`, now.Format(time.RFC3339), now.Add(-3*time.Second).Format(time.RFC3339))
	}))
	t.Cleanup(s.Close)
	return s.URL + "/feed"
}

type collecting struct {
	*Service
	url  string
	key  string
	stop func()
}

// watch runs a service that collects, on a database and with a key file.
func watch(t *testing.T, url, key string) *collecting {
	st, err := store.Open(t.Context(), url)
	require.NoError(t, err)
	svc := New(st, time.Now)
	v, err := vault.Open(key)
	require.NoError(t, err)
	c := collect.New(svc.Sink(), collect.Options{Open: sources.Open, Log: slog.New(slog.DiscardHandler)})
	svc.Collect(Collecting{Vault: v, Open: sources.Open, Changed: c.Refresh})
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan struct{})
	go func() {
		defer close(done)
		c.Run(ctx)
	}()
	stopped := false
	stop := func() {
		if !stopped {
			stopped = true
			cancel()
			<-done
			st.Close()
		}
	}
	t.Cleanup(stop)
	return &collecting{svc, url, key, stop}
}

func (c *collecting) await(t *testing.T, name string, wanted func(SourceInfo) bool) (info SourceInfo) {
	t.Helper()
	require.Eventually(t, func() bool {
		var err error
		info, err = c.SourceOf(t.Context(), name)
		return err == nil && wanted(info)
	}, 20*time.Second, 50*time.Millisecond)
	return info
}

func collects(i SourceInfo) bool { return i.Health != nil && i.Health.State == collect.Collecting }

func TestASourceFromProbeToRemoval(t *testing.T) {
	address := exporter(t)
	c := watch(t, testbed.Database(t), filepath.Join(t.TempDir(), "key"))
	_, err := c.Import(t.Context(), strings.NewReader(`{"feed":{"version":1,"source":"shags","time":"2026-03-02T09:00:00Z","full":true}}
{"object":{"kind":"volume","id":"1","facts":{"luns":["iqn.2026-03.example.tidewrack:shags/1"]}}}
`), false)
	require.NoError(t, err)
	spec := SourceSpec{Name: "hyp-northmole", Address: address, Interval: 1, Secrets: source.Secrets{Token: secret}}

	p, err := c.ProbeSource(t.Context(), spec)
	require.NoError(t, err)
	require.True(t, p.OK, "%+v", p.Steps)
	assert.Equal(t, []estate.Joined{{Kind: estate.Extent, From: estate.Datastore, To: estate.Volume, With: "shags", Count: 1}}, p.Joins)
	all, err := c.Sources(t.Context())
	require.NoError(t, err)
	assert.Len(t, all, 1, "a probe keeps nothing")

	wrong := spec
	wrong.Token = "another"
	_, err = c.AddSource(t.Context(), wrong, "ops", false)
	require.ErrorContains(t, err, "does not accept our token")
	_, err = c.AddSource(t.Context(), spec, "ops", false)
	require.NoError(t, err)
	_, err = c.AddSource(t.Context(), spec, "ops", false)
	require.ErrorContains(t, err, "already")

	info := c.await(t, "hyp-northmole", collects)
	assert.Equal(t, []string{"token"}, info.Secrets)
	assert.Equal(t, 1, info.Health.Objects["vm"])
	assert.NotEmpty(t, info.Joins)
	require.NotNil(t, info.Known)

	paused := true
	_, err = c.ChangeSource(t.Context(), "hyp-northmole", SourceChange{Paused: &paused})
	require.NoError(t, err)
	c.await(t, "hyp-northmole", func(i SourceInfo) bool { return i.Health.State == collect.Paused })
	paused = false
	_, err = c.ChangeSource(t.Context(), "hyp-northmole", SourceChange{Paused: &paused, Secrets: &source.Secrets{Token: "revoked"}})
	require.NoError(t, err)
	info = c.await(t, "hyp-northmole", func(i SourceInfo) bool { return i.Health.State == collect.Failing })
	assert.Contains(t, info.Health.Words, "token")

	require.NoError(t, c.RemoveSource(t.Context(), "hyp-northmole", false))
	info, err = c.SourceOf(t.Context(), "hyp-northmole")
	require.NoError(t, err)
	assert.Equal(t, "former", info.Kind, "its history stays")
	require.ErrorIs(t, c.RemoveSource(t.Context(), "hyp-northmole", false), store.ErrNotFound)
}

// A service that is killed loses no more than the interval it was in, and takes up its sources by itself.
func TestAServiceThatStartsAgainGoesOn(t *testing.T) {
	url, key := testbed.Database(t), filepath.Join(t.TempDir(), "key")
	address := exporter(t)
	c := watch(t, url, key)
	_, err := c.AddSource(t.Context(), SourceSpec{Name: "a", Address: address, Interval: 1, Secrets: source.Secrets{Token: secret}}, "ops", false)
	require.NoError(t, err)
	first := c.await(t, "a", collects)
	c.stop()
	again := watch(t, url, key)
	info := again.await(t, "a", func(i SourceInfo) bool { return collects(i) && i.Health.Newest.After(first.Health.Newest) })
	assert.Equal(t, 1, info.Health.Objects["vm"])
	again.stop()

	other := watch(t, url, filepath.Join(t.TempDir(), "another-key"))
	info = other.await(t, "a", func(i SourceInfo) bool { return i.Health.State == collect.Failing })
	assert.Contains(t, info.Health.Words, "cannot be decrypted with this key file")
	assert.Equal(t, []string{"not readable with this key file"}, info.Secrets)
}

// Nobody who reads the database or the answers finds the secret.
func TestSecretsStaySecret(t *testing.T) {
	url := testbed.Database(t)
	key := filepath.Join(t.TempDir(), "key")
	c := watch(t, url, key)
	_, err := c.AddSource(t.Context(), SourceSpec{Name: "a", Address: exporter(t), Interval: 1, Secrets: source.Secrets{Token: secret}}, "ops", false)
	require.NoError(t, err)
	c.await(t, "a", collects)
	conn, err := pgx.Connect(t.Context(), url)
	require.NoError(t, err)
	defer conn.Close(context.Background())
	var row string
	require.NoError(t, conn.QueryRow(t.Context(), `select encode(secret, 'escape') || health::text || address from connection`).Scan(&row))
	assert.NotContains(t, row, secret)
	text, err := os.ReadFile(key)
	require.NoError(t, err)
	assert.NotContains(t, row, strings.TrimSpace(string(text)))
	_, token := testbed.Token(t, c.Service, Viewer)
	answer, err := http.NewRequestWithContext(t.Context(), http.MethodGet, testbed.Serve(t, c.Service, nil)+"/api/v1/sources/a", nil)
	require.NoError(t, err)
	answer.Header.Set("Authorization", "Bearer "+token)
	resp, err := http.DefaultClient.Do(answer)
	require.NoError(t, err)
	defer resp.Body.Close()
	require.Equal(t, http.StatusOK, resp.StatusCode)
	body, err := io.ReadAll(resp.Body)
	require.NoError(t, err)
	assert.Contains(t, string(body), `"secrets":["token"]`, "it says that there is one")
	assert.NotContains(t, string(body), secret)
}

func TestSpecsThatCannotBe(t *testing.T) {
	c := watch(t, testbed.Database(t), filepath.Join(t.TempDir(), "key"))
	good := SourceSpec{Name: "a", Address: "tgt://"}
	for why, change := range map[string]func(*SourceSpec){
		"cannot be the name":    func(s *SourceSpec) { s.Name = "Hyp North" },
		"whole seconds":         func(s *SourceSpec) { s.Interval = 0.5 },
		"from 1 to 3600":        func(s *SourceSpec) { s.Interval = 4000 },
		"64 hexadecimal digits": func(s *SourceSpec) { s.Pin = "abc" },
		"belong together":       func(s *SourceSpec) { s.Certificate = "x" },
		"not the address":       func(s *SourceSpec) { s.Address = "somewhere" },
	} {
		spec := good
		change(&spec)
		_, err := c.AddSource(t.Context(), spec, "ops", true)
		require.ErrorContains(t, err, why)
	}
	all, err := c.Sources(t.Context())
	require.NoError(t, err)
	assert.Empty(t, all, "nothing was kept")
}
