package strata_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dowsingrod/core/estate"
	"dowsingrod/core/internal/tiny"
	"dowsingrod/core/phrase"
	. "dowsingrod/core/strata"
)

func said(s Strata) string { return phrase.Text(s.Statement, time.UTC) }

func slowBackEnd(change func(*tiny.Estate)) *tiny.Estate {
	w := calm()
	w.back = tiny.From(60, 1200, 9200)
	e := measured(90, w)
	change(e)
	return e
}

func TestWhatOneWouldSay(t *testing.T) {
	pool := tiny.Key("array", "pool:p")
	busy := func(e *tiny.Estate) { e.Set(pool, "busy_share", tiny.From(60, 0.5, 0.97)) }
	s := compute(t, slowBackEnd(busy), "vm:manifest-db-01")
	assert.Equal(t, "Reads take 9.53 ms since 15:00, usually 1.53 ms. 8.00 ms of it arises in heron pool 1 (97 % busy, before 50 %), shared with 1 other VM. Guest, host, fabric and front end are cleared.", said(s))
	require.NotNil(t, s.Change)
	assert.Equal(t, 2, s.Change.Shared)
	links := map[string]string{}
	for _, p := range s.Statement {
		if p.Ref != "" {
			links[p.Page] = p.Ref
		}
	}
	assert.Equal(t, "pool:p@array", links["suspects"], "the cause leads to its suspects")
	assert.Equal(t, "vm:manifest-db-01@hyp", links["strata"])

	quiet := compute(t, slowBackEnd(func(*tiny.Estate) {}), "vm:manifest-db-01")
	assert.Contains(t, said(quiet), "arises in heron pool 1", "its own latency tells, though no limit is passed")

	silent := compute(t, slowBackEnd(func(e *tiny.Estate) {
		e.Drop(pool, "read_latency_us")
		e.Drop(pool, "read_iops")
	}), "vm:manifest-db-01")
	assert.Contains(t, said(silent), "does not tell its front and back end apart")
	assert.NotContains(t, said(silent), "pool")
}

func TestAnEpisodeThatEndedIsToldInThePast(t *testing.T) {
	w := calm()
	w.front = func(i int) float64 {
		if i >= 50 && i < 65 {
			return 5150
		}
		return 150
	}
	e := measured(90, w)
	e.IO(tiny.Key("array", "controller:c0"), tiny.Always(1000), tiny.Always(8192), w.front)
	s := compute(t, e, "vm:manifest-db-01")
	assert.Contains(t, said(s), "Reads took 6.53 ms from 14:50 to 15:05, before 1.53 ms.")
	assert.Contains(t, said(s), "heron controller 0")
	assert.False(t, s.Change.Persists)
	assert.Equal(t, estate.LayerFrontEnd, s.Change.Layer)
}

func TestALayerWithoutAComponentIsNamedAlone(t *testing.T) {
	w := calm()
	w.fabric = tiny.From(60, 70, 5000)
	s := compute(t, measured(90, w), "vm:manifest-db-01")
	assert.Contains(t, said(s), "arises in the fabric; no single component's readings explain it")
	assert.Empty(t, s.Change.Component)
}

func TestIdleIsNeitherGoodNorBad(t *testing.T) {
	e := measured(90, calm())
	v := tiny.Key("hyp", "vdisk:manifest-db-01")
	e.Set(v, "read_iops", tiny.Always(0))
	e.Set(v, "read_latency_us", tiny.Missing)
	s := compute(t, e, "vm:manifest-db-01")
	assert.Equal(t, "It did no I/O in this window.", said(s))
	assert.EqualValues(t, 1, s.Coverage, "it was read, and it was idle")
}

func TestHalfAWindowIsTooLittleToJudge(t *testing.T) {
	e := measured(90, calm())
	for _, metric := range []string{"read_iops", "write_iops", "read_latency_us", "write_latency_us"} {
		k := tiny.Key("hyp", "vdisk:manifest-db-01")
		runs := e.Runs(k, metric)[0].Values
		e.Set(k, metric, func(i int) float64 {
			if i < 65 {
				return tiny.Missing(i)
			}
			return runs[i]
		})
	}
	s := compute(t, e, "vm:manifest-db-01")
	assert.Equal(t, Unknown, s.Verdict)
	assert.Contains(t, said(s), "Only 42 % of this window is covered")
}
