package cli

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dowsingrod/core/estate"
	"dowsingrod/core/incident"
	"dowsingrod/core/verdict"
	"dowsingrod/internal/feed"
	"dowsingrod/internal/lab"
	"dowsingrod/internal/service"
	"dowsingrod/internal/store"
	"dowsingrod/internal/testbed"
)

func feeding(t *testing.T, st *store.Store) (*demoFeed, *strings.Builder) {
	var said strings.Builder
	return &demoFeed{store: st, service: service.New(st, time.Now), step: func(format string, args ...any) {
		said.WriteString(fmt.Sprintf(format, args...) + "\n")
	}}, &said
}

// A demo that stood still for hours is laid out anew around now: it always ends at the present. What is
// not the demo's own stays.
func TestAnOldDemoIsMovedToNow(t *testing.T) {
	st := testbed.Store(t)
	ctx := t.Context()
	old := lab.Anchor(time.Now().Add(-5 * time.Hour))
	d, _ := feeding(t, st)
	_, err := d.service.ImportRecords(ctx, func(write func(feed.Record) error) error {
		return lab.New(lab.Seed, old).Write(old.Add(-time.Hour), old, true, write)
	})
	require.NoError(t, err)
	require.NoError(t, st.SetSetting(ctx, anchorSetting, old.Format(time.RFC3339)))
	require.NoError(t, d.service.AddAccount(ctx, "keeper", service.Viewer, ""))
	_, err = d.service.Import(ctx, strings.NewReader(`{"feed":{"version":1,"source":"own","time":"2026-03-02T09:00:00Z","full":true}}`+"\n"+`{"object":{"kind":"vm","id":"mine"}}`+"\n"), false)
	require.NoError(t, err)

	// What was found in the old week is not of the new one; what was found of others stays.
	began := old.Add(-30 * time.Minute)
	for _, component := range []string{"pool:p2@heron", "pool:p@own"} {
		x := &incident.Incident{Component: component, Onset: began, Last: began, Judged: began, Sufferers: map[string]incident.Suffered{}, Verdict: verdict.Explanation{Subject: "vm:mine@own"}}
		require.NoError(t, st.KeepIncidents(ctx, []*incident.Incident{x}))
	}

	d, said := feeding(t, st)
	require.NoError(t, d.load(ctx))
	assert.Contains(t, said.String(), "moving the demo's week to now")
	kept, err := st.Incidents(ctx, old.Add(-time.Hour), old, 10)
	require.NoError(t, err)
	require.Len(t, kept, 1)
	assert.Equal(t, "pool:p@own", kept[0].Component)
	o, err := d.service.Overview(ctx)
	require.NoError(t, err)
	require.Len(t, o.Sources, 8)
	for _, s := range o.Sources {
		if s.Name != "own" {
			assert.Less(t, s.Age, 180.0, s.Name)
		}
	}
	found, err := d.service.Find(ctx, "mine", estate.VM, 5, time.Time{})
	require.NoError(t, err)
	assert.Len(t, found.Objects, 1)
	accounts, err := d.service.Accounts(ctx)
	require.NoError(t, err)
	assert.Len(t, accounts, 1)

	// Started again at once, it finds the data and catches up.
	again, said := feeding(t, st)
	require.NoError(t, again.load(ctx))
	assert.Contains(t, said.String(), "the data is there")
	assert.NotContains(t, said.String(), "moving")
	require.NoError(t, again.catchUp(ctx))
}

func TestTwoDemosCannotShareADirectory(t *testing.T) {
	dir := t.TempDir()
	unlock, err := lock(dir)
	require.NoError(t, err)
	_, err = lock(dir)
	assert.ErrorContains(t, err, "another demo runs")
	unlock()
	unlock, err = lock(dir)
	require.NoError(t, err)
	unlock()
	_, err = lock("/proc/nowhere")
	assert.ErrorContains(t, err, "--state")
}

func TestConfigurationIsKeptWhole(t *testing.T) {
	t.Setenv("XDG_CONFIG_HOME", t.TempDir())
	c, err := loadConfig()
	require.NoError(t, err)
	assert.Empty(t, c.Address, "none yet")
	path, err := config{"http://127.0.0.1:7465", "secret"}.save()
	require.NoError(t, err)
	_, err = config{"http://127.0.0.1:7466", "other"}.save()
	require.NoError(t, err)
	c, err = loadConfig()
	require.NoError(t, err)
	assert.Equal(t, config{"http://127.0.0.1:7466", "other"}, c)
	assert.FileExists(t, path)
}
