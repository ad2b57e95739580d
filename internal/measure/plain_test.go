package main

import (
	"fmt"
	"os"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dowsingrod/core/estate"
	"dowsingrod/core/reading"
	"dowsingrod/core/route"
	"dowsingrod/internal/feed"
	"dowsingrod/internal/lab/large"
	"dowsingrod/internal/service"
	"dowsingrod/internal/store"
	"dowsingrod/internal/testbed"
)

func TestMain(m *testing.M) { os.Exit(testbed.Run(m)) }

// What the routes are measured against asks the same: the recursive question finds the LUNs, pools, RAID groups and drives that the map does.
func TestThePlainRouteFindsTheSameDrives(t *testing.T) {
	ctx := t.Context()
	url := testbed.Database(t)
	st, err := store.Open(ctx, url)
	require.NoError(t, err)
	defer st.Close()
	now := time.Now().UTC().Truncate(time.Second)
	svc := service.New(st, func() time.Time { return now })
	_, err = svc.ImportRecords(ctx, func(write func(feed.Record) error) error {
		_, err := large.Write(large.Options{VMs: 1000, Seed: 3, Time: now.Add(-time.Minute)}, write)
		return err
	})
	require.NoError(t, err)
	conn, err := pgx.Connect(ctx, url)
	require.NoError(t, err)
	defer conn.Close(ctx)
	m, err := grownWith(large.Options{VMs: 1000, Seed: 3, Time: now.Add(-time.Minute)})
	require.NoError(t, err)
	e := m.Estate()
	below := []estate.Kind{estate.VDisk, estate.Datastore, estate.Volume, estate.Pool, estate.RAIDGroup, estate.Drive}
	named := strings.Replace(routeSQL, "select count(distinct id) from down", "select distinct n.kind || ':' || n.local_id from down join now n using (id)", 1)
	require.NotEqual(t, routeSQL, named)
	for _, vm := range []string{"vm-000001", "vm-000143", "vm-000700"} {
		rows, err := conn.Query(ctx, named, vm)
		require.NoError(t, err)
		found, err := pgx.CollectRows(rows, pgx.RowTo[string])
		require.NoError(t, err)
		at, err := e.Resolve("vm:" + vm)
		require.NoError(t, err)
		var want []string
		for _, r := range m.Below(at) {
			if slices.Contains(below, e.Kind(r.At)) {
				want = append(want, e.At(r.At).Key.Ref.String())
			}
		}
		got := slices.DeleteFunc(found, func(ref string) bool {
			kind, _, _ := strings.Cut(ref, ":")
			return !slices.Contains(below, estate.Kind(kind))
		})
		assert.NotEmpty(t, want)
		assert.ElementsMatch(t, want, got, vm)
	}
}

// What the sweep is measured against asks for every pair of a machine and a component it shares.
func TestThePlainSweepAsksForEveryPair(t *testing.T) {
	m, err := grownWith(large.Options{VMs: 1000, Seed: 3, Time: labNoon})
	require.NoError(t, err)
	e := m.Estate()
	g := reading.Grid{From: labNoon, Step: time.Minute, N: 8}
	w := &written{grid: g, runs: map[estate.Key]map[string][]reading.Series{}, slow: func(estate.Key, string) float64 { return 1 }}
	_, pairs, err := plainSweep(t.Context(), m, w, g)
	require.NoError(t, err)
	want := map[string]bool{}
	for _, vm := range e.OfKind(estate.VM) {
		for _, d := range e.To(vm, estate.Uses) {
			for _, v := range m.Volumes(d) {
				of := append([]int32{v}, e.To(v, estate.CarvedFrom)...)
				if c := e.First(v, estate.ServedBy); c >= 0 {
					of = append(of, c)
				}
				for _, c := range of {
					want[fmt.Sprint(vm, " ", c)] = true
				}
			}
		}
	}
	assert.Greater(t, pairs, 1000)
	assert.Equal(t, len(want), pairs)
}

// Readings that are held otherwise to be quicker are the same readings.
func TestReadingsThatArePackedAreTheSame(t *testing.T) {
	m, err := grownWith(large.Options{VMs: 1000, Seed: 3, Time: labNoon})
	require.NoError(t, err)
	e := m.Estate()
	pool := e.At(e.OfKind(estate.Pool)[0]).Key
	w := &written{grid: reading.Grid{From: labNoon, Step: time.Minute, N: 30}, runs: map[estate.Key]map[string][]reading.Series{}, slow: func(k estate.Key, metric string) float64 {
		if k == pool && metric == "busy_share" {
			return 3
		}
		return 1
	}}
	busy := w.Runs(pool, "busy_share")[0].Values
	assert.InDelta(t, 3, reading.MeanOver(busy, 20, 30)/reading.MeanOver(busy, 0, 20), 0.4, "the last third is what it is told to be")
	assert.Empty(t, w.Runs(pool, "round_trip_us"), "a pool reports no such thing")
	for _, metric := range []string{"read_iops", "read_latency_us"} {
		w.Runs(pool, metric)
	}
	var held route.Readings = packed(w.runs)
	var free route.Readings = &unlocked{w.runs}
	for _, metric := range []string{"busy_share", "read_iops", "read_latency_us", "round_trip_us", "write_iops"} {
		assert.Equal(t, w.runs[pool][metric], held.Runs(pool, metric), metric)
		assert.Equal(t, w.runs[pool][metric], free.Runs(pool, metric), metric)
	}
	assert.Empty(t, held.Runs(estate.Key{}, "busy_share"))
}
