package cli_test

import (
	"bufio"
	"fmt"
	"math"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dowsingrod/internal/service"
	"dowsingrod/internal/store"
	"dowsingrod/internal/testbed"
)

// collecting is a command line of an admin on an empty service that collects.
func collecting(t *testing.T) terminal {
	svc := service.New(testbed.Store(t), time.Now)
	testbed.Collect(t, svc)
	_, token := testbed.Token(t, svc, service.Admin)
	return open(t, "DOWSE_ADDRESS="+testbed.Serve(t, svc, nil), "DOWSE_TOKEN="+token)
}

func TestSourcesByCommand(t *testing.T) {
	exporter := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Header.Get("Authorization") != "Bearer tidal" {
			http.Error(w, "who", http.StatusUnauthorized)
			return
		}
		now := time.Now().UTC().Truncate(time.Second)
		fmt.Fprintf(w, `{"feed":{"version":1,"source":"exporter-3","time":%q,"full":true}}
{"object":{"kind":"vm","id":"v","name":"tide-model-09"}}
{"reading":{"of":"vm:v","from":%q,"step_s":1,"values":{"busy_share":[0.5]}}}
`, now.Format(time.RFC3339), now.Add(-time.Second).Format(time.RFC3339))
	}))
	t.Cleanup(exporter.Close)
	c := collecting(t)
	secret := filepath.Join(t.TempDir(), "token")
	require.NoError(t, os.WriteFile(secret, []byte("tidal\n"), 0o600))

	ask := func(status int, holds string, args ...string) string {
		t.Helper()
		out, complaint, got := c.run(args...)
		assert.Equal(t, status, got, "%v: %s%s", args, out, complaint)
		flat := strings.Join(strings.Fields(out+complaint), " ")
		assert.Contains(t, flat, holds, "%v", args)
		assert.NotContains(t, out+complaint, "tidal")
		for _, l := range strings.Split(out, "\n") {
			assert.LessOrEqual(t, utf8.RuneCountInString(l), 110, l)
		}
		return out
	}
	ask(0, "There is no source yet", "source", "list")
	ask(1, "does not accept our token", "source", "probe", exporter.URL)
	ask(0, "a feed that calls itself exporter-3", "source", "probe", exporter.URL, "--token-file", secret)
	ask(1, "nothing was kept", "source", "add", "exporter-3", exporter.URL)
	ask(2, "a name and an address are needed", "source", "add", "exporter-3")
	ask(2, "--token-file", "source", "add", "a", exporter.URL, "--token-file", "/nowhere")
	ask(1, "cannot be the name", "source", "add", "Exporter 3", exporter.URL)
	ask(0, "exporter-3 is kept and asked every 1 s", "source", "add", "exporter-3", exporter.URL, "--token-file", secret, "--interval", "1s")
	require.Eventually(t, func() bool {
		out, _, _ := c.run("source", "list")
		return strings.Contains(out, "collecting")
	}, 15*time.Second, 100*time.Millisecond)
	ask(0, "secrets kept token", "source", "show", "exporter-3")
	ask(0, `"state": "collecting"`, "--json", "source", "show", "exporter-3")
	ask(0, "passed", "source", "probe", "exporter-3")
	ask(0, "not asked any more", "source", "pause", "exporter-3")
	ask(0, "asked again every 1 s", "source", "pause", "--resume", "exporter-3")
	ask(3, "there is none of that name", "source", "show", "nobody")
	ask(0, "", "source", "remove", "--forget", "exporter-3")
	ask(0, "There is no source yet", "source", "list")
}

// serve starts the service as a process and returns its address.
func (c terminal) serve(database string) (*exec.Cmd, string) {
	c.t.Helper()
	cmd := c.command("serve", "--database", database, "--listen", "127.0.0.1:0", "--key-file", c.home+"/key")
	out, err := cmd.StdoutPipe()
	require.NoError(c.t, err)
	require.NoError(c.t, cmd.Start())
	c.t.Cleanup(func() { _ = cmd.Process.Kill() })
	lines := bufio.NewScanner(out)
	require.True(c.t, lines.Scan())
	return cmd, strings.TrimPrefix(lines.Text(), "Dowsing Rod serves at ")
}

// A service that is killed while it collects has stored everything up to the interval it was in.
func TestKilledWhileCollecting(t *testing.T) {
	exporter := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		now := time.Now().UTC().Truncate(time.Second)
		fmt.Fprintf(w, `{"feed":{"version":1,"source":"exporter-3","time":%q,"full":true}}
{"object":{"kind":"vm","id":"v","name":"tide-model-09"}}
{"reading":{"of":"vm:v","from":%q,"step_s":1,"values":{"busy_share":[0.25,0.5]}}}
`, now.Format(time.RFC3339), now.Add(-2*time.Second).Format(time.RFC3339))
	}))
	t.Cleanup(exporter.Close)
	database := testbed.Database(t)
	st, err := store.Open(t.Context(), database)
	require.NoError(t, err)
	defer st.Close()
	svc := service.New(st, time.Now)
	_, token := testbed.Token(t, svc, service.Admin)
	c := open(t, "DOWSE_TOKEN="+token)
	process, address := c.serve(database)
	began := time.Now()
	_, complaint, status := c.run("--address", address, "source", "add", "a", exporter.URL, "--interval", "1s")
	require.Zero(t, status, complaint)
	newest := func() time.Time {
		all, err := st.Sources(t.Context())
		require.NoError(t, err)
		if len(all) == 0 {
			return time.Time{}
		}
		return all[0].LastEnd
	}
	require.Eventually(t, func() bool { return newest().After(began.Add(4 * time.Second)) }, 20*time.Second, 50*time.Millisecond)
	require.NoError(t, process.Process.Kill())
	_ = process.Wait()
	killed := time.Now()
	assert.Less(t, killed.Sub(newest()), 2500*time.Millisecond, "at most the running interval of 1 s, and the one it was about to store")
	objects, err := st.Estate(t.Context(), killed)
	require.NoError(t, err)
	want := store.Want{Object: objects[0].Store, Metric: "busy_share"}
	runs, err := st.Readings(t.Context(), []store.Want{want}, began.Add(-time.Minute), killed)
	require.NoError(t, err)
	require.Len(t, runs[want], 1, "one unbroken run")
	for i, v := range runs[want][0].Values {
		assert.False(t, math.IsNaN(v), "interval %d of %d is missing", i, len(runs[want][0].Values))
	}
	c.serve(database)
	require.Eventually(t, func() bool { return newest().After(killed) }, 20*time.Second, 50*time.Millisecond, "it goes on by itself")
}
