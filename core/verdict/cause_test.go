package verdict_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dowsingrod/core/estate"
	"dowsingrod/core/internal/tiny"
	"dowsingrod/core/route"
	"dowsingrod/core/suspect"
	. "dowsingrod/core/verdict"
)

// state sets facts of an object, beside those it has.
func state(e *tiny.Estate, key estate.Key, facts estate.Facts) {
	for k := range e.Objects {
		if e.Objects[k].Key != key {
			continue
		}
		merged := estate.Facts{}
		for name, v := range e.Objects[k].Facts {
			merged[name] = v
		}
		for name, v := range facts {
			merged[name] = v
		}
		e.Objects[k].Facts = merged
		return
	}
	panic("no " + key.String())
}

// above makes what waits wait above the array: the fabric, not the LUN or what lies below it, got slower.
func above(e *tiny.Estate) *tiny.Estate {
	e.Set(volume, "read_latency_us", tiny.Always(1000))
	e.Set(pool, "read_latency_us", tiny.Always(800))
	return e
}

// writes makes all that waits be writes, which the array takes longer for.
func writes(e *tiny.Estate, slow float64) *tiny.Estate {
	move := func(key estate.Key, before, after float64, rate float64) {
		e.Set(key, "read_iops", tiny.Always(rate))
		e.Set(key, "read_bytes_s", tiny.Always(rate*8192))
		e.Set(key, "read_latency_us", tiny.Always(before))
		e.Set(key, "write_iops", tiny.Always(rate))
		e.Set(key, "write_bytes_s", tiny.Always(rate*8192))
		e.Set(key, "write_latency_us", tiny.From(onset, before, after))
	}
	for _, name := range []string{"a", "b", "c", "d"} {
		move(tiny.Key("hyp", "vdisk:"+name), 1200, slow+200, 150)
	}
	for _, h := range []string{"h0", "h1"} {
		move(tiny.Key("hyp", "device:"+h+"-v"), 1150, slow+150, 300)
	}
	move(volume, 1000, slow, 600)
	move(pool, 800, 800, 600)
	return e
}

// over explains with an estate that changed at the onset.
func over(t *testing.T, before, after *tiny.Estate, of string) Explanation {
	t.Helper()
	g := after.Grid()
	moments := []route.Moment{{From: g.From, To: g.At(onset), Map: route.NewMap(estate.Build(before.Objects))}, {From: g.At(onset), To: g.End(), Map: route.NewMap(estate.Build(after.Objects))}}
	return answer(t, Input{Grid: g, First: 20, Moments: moments, Of: tiny.Key("hyp", "vm:"+of), From: after})
}

func TestEvidenceAtEveryComponent(t *testing.T) {
	link := func(sw string) estate.Key { return tiny.Key("fab", "switch_port:"+sw+"-9") }
	for name, c := range map[string]struct {
		world     func() *tiny.Estate
		class     Class
		component string
		says      string
	}{
		"a port that is full": {func() *tiny.Estate {
			e := world(map[string][2]float64{"d": {50, 1500}}, 9000)
			above(e)
			for _, p := range []string{"hba_port:h0-0", "hba_port:h0-1", "hba_port:h1-0", "hba_port:h1-1"} {
				e.Set(tiny.Key("hyp", p), "rx_bytes_s", tiny.Always(1e7))
				e.Set(tiny.Key("hyp", p), "tx_bytes_s", tiny.Always(1e6))
				state(e, tiny.Key("hyp", p), estate.Facts{"speed_bytes_s": 1e8})
			}
			e.Set(tiny.Key("hyp", "hba_port:h0-0"), "rx_bytes_s", tiny.From(onset, 3e7, 9.9e7))
			e.Set(tiny.Key("hyp", "hba_port:h0-1"), "rx_bytes_s", tiny.From(onset, 3e7, 9.8e7))
			return e
		}, Path, "hba_port:h0-0@hyp", "99 % of line rate"},
		"damaged frames": {func() *tiny.Estate {
			e := above(world(nil, 9000))
			e.Set(tiny.Key("hyp", "hba_port:h0-1"), "crc_errors_s", tiny.From(onset, 0, 3))
			return e
		}, Degraded, "hba_port:h0-1@hyp", "damaged frames a second"},
		"dropped frames, seen by the switch, are told of the port at its end": {func() *tiny.Estate {
			e := above(world(nil, 9000))
			e.Set(tiny.Key("fab", "switch_port:p1"), "discards_s", tiny.From(onset, 0, 2))
			return e
		}, Degraded, "hba_port:h0-0@hyp", "dropped frames a second"},
		"a link between switches that is full": {func() *tiny.Estate {
			e := above(world(nil, 9000))
			for _, sw := range []string{"a1", "a2"} {
				state(e, link(sw), estate.Facts{"speed_bytes_s": 1e8})
				e.Set(link(sw), "rx_bytes_s", tiny.Always(1e6))
			}
			e.Set(link("a2"), "tx_bytes_s", tiny.From(onset, 3e7, 9.9e7))
			e.Set(link("a1"), "tx_bytes_s", tiny.Always(1e6))
			return e
		}, Path, "isl:a@fab", "99 % of line rate"},
		"a link that is full and has no credits": {func() *tiny.Estate {
			e := above(world(nil, 9000))
			for _, sw := range []string{"a1", "a2"} {
				state(e, link(sw), estate.Facts{"speed_bytes_s": 1e8})
				e.Set(link(sw), "rx_bytes_s", tiny.Always(1e6))
			}
			e.Set(link("a2"), "tx_bytes_s", tiny.From(onset, 3e7, 8e7))
			e.Set(link("a2"), "credit_zero_share", tiny.From(onset, 0, 0.5))
			e.Set(link("a1"), "tx_bytes_s", tiny.Always(1e6))
			return e
		}, Path, "isl:a@fab", "without a credit 50 % of the time"},
		"a port that takes its frames slowly": {func() *tiny.Estate {
			e := above(world(nil, 9000))
			e.Set(link("a2"), "credit_zero_share", tiny.From(onset, 0, 0.6))
			e.Set(link("a2"), "tx_bytes_s", tiny.From(onset, 3e7, 2e7))
			state(e, link("a2"), estate.Facts{"speed_bytes_s": 1e8})
			e.Set(tiny.Key("fab", "switch_port:p3"), "credit_zero_share", tiny.From(onset, 0, 0.9))
			e.Set(tiny.Key("fab", "switch_port:p1"), "credit_zero_share", tiny.From(onset, 0, 0.07))
			return e
		}, SlowReceiver, "hba_port:h1-0@hyp", "waits for it without a credit 90 % of the time"},
		"processors of a controller": {func() *tiny.Estate {
			e := world(nil, 9000)
			e.Set(pool, "read_latency_us", tiny.Always(800))
			e.Set(controller, "busy_share", tiny.From(onset, 0.25, 0.97))
			return e
		}, Degraded, "controller:c0@array", "processors 97 % busy, before 25 %"},
		"a write cache that fills because more is written": {func() *tiny.Estate {
			e := writes(world(nil, 9000), 9000)
			e.Set(controller, "write_pending_share", tiny.From(onset, 0.1, 0.9))
			e.Set(controller, "write_bytes_s", tiny.From(onset, 1e7, 4e7))
			return e
		}, Degraded, "controller:c0@array", "90 % of its write cache waits to be written down"},
		"a write cache that is off": {func() *tiny.Estate {
			e := writes(world(nil, 9000), 9000)
			e.Set(controller, "write_pending_share", tiny.From(onset, 0.2, 0))
			return e
		}, Degraded, "controller:c0@array", "writes no longer end in its cache"},
		"a pool that is nearly full and rebuilds": {func() *tiny.Estate {
			e := world(nil, 9000)
			state(e, pool, estate.Facts{"bytes": 1e12, "used_bytes": 0.95e12})
			state(e, tiny.Key("array", "drive:d1"), estate.Facts{"state": "rebuilding"})
			return e
		}, Degraded, "pool:p@array", "is rebuilding"},
	} {
		t.Run(name, func(t *testing.T) {
			x := explain(t, c.world(), "a")
			require.NotNil(t, x.Verdict.Component, words(x))
			assert.Equal(t, c.component, x.Verdict.Component.Ref, words(x))
			assert.Equal(t, c.class, x.Verdict.Class)
			assert.Empty(t, accused(x))
			found := false
			for _, v := range x.Evidence {
				found = found || strings.Contains(v.Words, c.says)
				assert.NotContains(t, v.Words, "NaN")
			}
			assert.True(t, found, "%v", x.Evidence)
			assert.NotEmpty(t, x.Verdict.Summary)
			assert.NotContains(t, words(x), "NaN")
		})
	}
}

// A cache that fills though no more is written fills because the drives are slow.
func TestACacheFillsBecauseDrivesAreSlow(t *testing.T) {
	e := writes(world(nil, 9000), 9000)
	e.Set(controller, "write_pending_share", tiny.From(onset, 0.1, 0.9))
	e.Set(controller, "write_bytes_s", tiny.Always(1e7))
	for _, x := range explain(t, e, "a").Evidence {
		if x.Metric == "write_pending_share" {
			assert.Less(t, float64(x.Weight), 0.3)
			return
		}
	}
	t.Fatal("the cache is not told of")
}

// Where the controller beside it is gone, it does the work of both, and that is why it is busy.
func TestTheControllerBesideItFailed(t *testing.T) {
	scene := func(other estate.Facts) *tiny.Estate {
		e := world(nil, 9000)
		e.Set(pool, "read_latency_us", tiny.Always(800))
		e.Set(controller, "busy_share", tiny.From(onset, 0.3, 0.9))
		state(e, tiny.Key("array", "controller:c1"), other)
		return e
	}
	x := over(t, scene(estate.Facts{"state": "ok"}), scene(estate.Facts{"state": "failed"}), "a")
	require.NotNil(t, x.Verdict.Component, words(x))
	assert.Equal(t, controller.String(), x.Verdict.Component.Ref)
	assert.Equal(t, Degraded, x.Verdict.Class)
	assert.Contains(t, words(x), "does the work of both")
	x = over(t, scene(estate.Facts{"state": "failed"}), scene(estate.Facts{"state": "failed"}), "a")
	assert.NotContains(t, words(x), "does the work of both", "it was gone before")
}

// ports gives the two ports of host h0 their load, before and during.
func ports(e *tiny.Estate, first, second [2]float64) {
	for p, use := range map[string][2]float64{"hba_port:h0-0": first, "hba_port:h0-1": second, "hba_port:h1-0": {0.1, 0.1}, "hba_port:h1-1": {0.1, 0.1}} {
		e.Set(tiny.Key("hyp", p), "rx_bytes_s", tiny.From(onset, use[0]*1e9, use[1]*1e9))
		e.Set(tiny.Key("hyp", p), "tx_bytes_s", tiny.Always(1e6))
	}
}

func TestPaths(t *testing.T) {
	t.Run("used unevenly", func(t *testing.T) {
		e := above(world(nil, 9000))
		ports(e, [2]float64{0.3, 0.85}, [2]float64{0.3, 0.05})
		x := explain(t, e, "a")
		require.NotNil(t, x.Verdict.Component, words(x))
		assert.Equal(t, "hba_port:h0-0@hyp", x.Verdict.Component.Ref)
		assert.Equal(t, Path, x.Verdict.Class)
		assert.Contains(t, words(x), "while the others idle")
	})
	t.Run("gone", func(t *testing.T) {
		before, after := above(world(nil, 9000)), above(world(nil, 9000))
		ports(after, [2]float64{0.3, 0.85}, [2]float64{0.3, 0})
		state(after, tiny.Key("hyp", "path:h0-01"), estate.Facts{"state": "dead"})
		x := over(t, before, after, "a")
		require.NotNil(t, x.Verdict.Component, words(x))
		assert.Equal(t, Path, x.Verdict.Class)
		assert.Contains(t, words(x), "now dead")
	})
	t.Run("even ports are no finding", func(t *testing.T) {
		e := above(world(nil, 9000))
		ports(e, [2]float64{0.3, 0.55}, [2]float64{0.3, 0.55})
		assert.NotEqual(t, Path, explain(t, e, "a").Verdict.Class)
	})
}

// A line does not become slower by itself: what it carries more, though nobody asks for more, comes by it instead of by another way. One that was
// set to a lower speed is slower by itself.
func TestALineThatCarriesMoreThoughNobodyAsksForMore(t *testing.T) {
	scene := func(speed float64) *tiny.Estate {
		e := above(world(nil, 9000))
		for _, p := range []string{"hba_port:h0-0", "hba_port:h0-1"} {
			e.Set(tiny.Key("hyp", p), "rx_bytes_s", tiny.From(onset, 3e7, 9.8e7))
			e.Set(tiny.Key("hyp", p), "tx_bytes_s", tiny.Always(1e6))
			state(e, tiny.Key("hyp", p), estate.Facts{"speed_bytes_s": speed})
		}
		return e
	}
	x := over(t, scene(1e8), scene(1e8), "a")
	assert.Equal(t, Path, x.Verdict.Class, words(x))
	assert.Contains(t, words(x), "though nobody asks for more")
	assert.Contains(t, x.Verdict.Summary, "came by other ways before")
	x = over(t, scene(1e9), scene(1e8), "a")
	assert.Equal(t, Degraded, x.Verdict.Class, words(x))
}

// A queue that was made shorter makes I/Os wait in the host whoever asks for what.
func TestAQueueThatWasMadeShorter(t *testing.T) {
	scene := func(depth float64) *tiny.Estate {
		e := above(world(nil, 9000))
		e.Set(tiny.Key("hyp", "device:h0-v"), "queue_latency_us", tiny.From(onset, 0, 7900))
		state(e, tiny.Key("hyp", "device:h0-v"), estate.Facts{"queue_depth": depth})
		return e
	}
	x := over(t, scene(64), scene(4), "a")
	assert.Equal(t, HostQueue, x.Verdict.Class, words(x))
	assert.Equal(t, "device:h0-v@hyp", x.Verdict.Component.Ref)
	said := false
	for _, v := range x.Evidence {
		said = said || strings.Contains(v.Words, "its queue has 4 places, before 64")
	}
	assert.True(t, said)
}

// A LUN's limit that stood before and is reached because one machine asks for more is a noisy neighbour, not a limit.
func TestALimitThatOneFills(t *testing.T) {
	rates := map[string][2]float64{"d": {50, 1500}, "a": {300, 120}, "b": {300, 120}, "c": {300, 120}}
	scene := func(limit estate.Facts) *tiny.Estate {
		e := world(rates, 9000)
		e.Set(pool, "read_latency_us", tiny.Always(800))
		state(e, volume, limit)
		return e
	}
	stood := scene(estate.Facts{"iops_limit": 1860.0})
	x := over(t, stood, stood, "a")
	require.NotNil(t, x.Verdict.Component, words(x))
	assert.Equal(t, volume.String(), x.Verdict.Component.Ref)
	assert.Equal(t, NoisyNeighbour, x.Verdict.Class, words(x))
	assert.Equal(t, []string{"d"}, accused(x))

	x = over(t, scene(nil), stood, "a")
	assert.Equal(t, Limit, x.Verdict.Class, "it was set as it began to hurt")
	assert.Empty(t, accused(x))
}

// Who alone waits, for what it asks for itself, has nobody to blame.
func TestItsOwnDemand(t *testing.T) {
	e := tiny.New(cells)
	e.AddVM("a", 0)
	e.IO(tiny.Key("hyp", "vdisk:a"), tiny.From(onset, 100, 3000), tiny.Always(8192), tiny.From(onset, 1200, 9200))
	e.IO(tiny.Key("hyp", "device:h0-v"), tiny.From(onset, 100, 3000), tiny.Always(8192), tiny.From(onset, 1150, 9150))
	e.IO(volume, tiny.From(onset, 100, 3000), tiny.Always(8192), tiny.From(onset, 1000, 9000))
	e.Set(volume, "cache_hit_share", tiny.Always(0))
	e.IO(pool, tiny.From(onset, 100, 3000), tiny.Always(8192), tiny.From(onset, 800, 8800))
	e.Set(pool, "busy_share", tiny.From(onset, 0.1, 0.98))
	x := explain(t, e, "a")
	assert.Equal(t, OwnDemand, x.Verdict.Class, words(x))
	assert.Equal(t, []string{"a"}, accused(x))
	assert.Contains(t, words(x), "waits for itself")
}

// Whoever did it is told so when asked itself.
func TestTheCulpritIsToldSo(t *testing.T) {
	e := world(map[string][2]float64{"d": {50, 3000}}, 9000)
	e.Set(pool, "busy_share", tiny.From(onset, 0.3, 0.97))
	x := explain(t, e, "d")
	assert.Equal(t, NoisyNeighbour, x.Verdict.Class)
	assert.Contains(t, words(x), "It did that itself")
	assert.NotContains(t, words(x), "d did it")
}

// Those of the highest tier come first among who suffers, then those for whom most was added.
func TestSufferersByTier(t *testing.T) {
	e := world(map[string][2]float64{"d": {50, 3000}}, 9000)
	e.Set(pool, "busy_share", tiny.From(onset, 0.3, 0.97))
	for name, tier := range map[string]string{"a": "3", "b": "1", "c": ""} {
		facts := estate.Facts{"tier": tier}
		if tier == "" {
			facts = estate.Facts{"tier": nil}
		}
		state(e, tiny.Key("hyp", "vm:"+name), facts)
	}
	var order []string
	for _, s := range explain(t, e, "a").Sufferers {
		order = append(order, s.Name)
	}
	assert.Equal(t, []string{"b", "a", "c"}, order)
}

// Every class can be said.
func TestClassesHaveWords(t *testing.T) {
	seen := map[string]bool{}
	for _, c := range Classes {
		w := c.Words()
		assert.NotEmpty(t, w)
		assert.False(t, seen[w], w)
		assert.NotContains(t, w, "_", "it is said, not coded")
		seen[w] = true
	}
	assert.Len(t, seen, 12)
}

// What the second step asks for is what it uses: without it nothing is accused that could not be seen.
func TestWhatIsFetchedBetweenTheSteps(t *testing.T) {
	e := world(nil, 9000)
	e.Set(pool, "busy_share", tiny.From(onset, 0.3, 0.97))
	e.Set(volume, "read_bytes_s", tiny.From(onset, 1200*8192, 90e6))
	l, err := Locate(Input{Grid: e.Grid(), First: 20, Moments: e.Moments(), Of: tiny.Key("hyp", "vm:a"), From: e})
	require.NoError(t, err)
	assert.Empty(t, l.Doubt(), "the pool accounts for most: nobody who is silent is asked about")
	assert.Equal(t, HalfSeen, l.Sight(), "ports tell nothing")
	assert.Greater(t, l.Standing(), 0.5)
	of, from, to := l.Watched()
	assert.Len(t, of, 4, "events of all disks on it count")
	assert.True(t, from.Before(e.Grid().At(onset)) && to.After(e.Grid().At(onset)))
	kinds := map[estate.Kind]int{}
	for _, n := range l.ForeignNeeds() {
		kinds[n.Key.Ref.Kind]++
		assert.Equal(t, []string{"read_bytes_s", "write_bytes_s"}, n.Metrics)
	}
	assert.Equal(t, 1, kinds[estate.Volume])
	assert.Equal(t, 4, kinds[estate.VDisk])
	l.Also(e, []Event{{Of: tiny.Key("hyp", "vdisk:c"), Time: e.Grid().At(onset), What: "move_begun"}})
	in, ok := l.Compare()
	require.True(t, ok)
	s, err := suspect.Compute(in)
	require.NoError(t, err)
	assert.Equal(t, []string{"c"}, accused(l.Conclude(&s)))
}

func TestNothingIsAskedForWhereNothingHurt(t *testing.T) {
	l, err := Locate(Input{Grid: world(nil, 1000).Grid(), First: 20, Moments: world(nil, 1000).Moments(), Of: tiny.Key("hyp", "vm:a"), From: world(nil, 1000)})
	require.NoError(t, err)
	assert.Empty(t, l.Doubt())
	assert.Empty(t, l.ForeignNeeds())
	assert.Zero(t, l.Standing())
	of, _, _ := l.Watched()
	assert.Empty(t, of)
	_, ok := l.Compare()
	assert.False(t, ok)
}

// What is told by who waits must be used by half of them at least, and half of its users must wait.
func TestAFaintHintIsNotKnowledge(t *testing.T) {
	e := world(nil, 9000)
	drop(e, append(io, "busy_share", "cache_hit_share", "write_pending_share"), pool, volume, controller)
	for _, name := range []string{"b", "c", "d"} { // only a waits, of four that use all the same
		e.Set(tiny.Key("hyp", "vdisk:"+name), "read_latency_us", tiny.Always(1200))
	}
	for _, h := range []string{"h0", "h1"} {
		drop(e, append(io, "queue_latency_us"), tiny.Key("hyp", "device:"+h+"-v"))
	}
	x := explain(t, e, "a")
	assert.Equal(t, Unknown, x.Verdict.Class, words(x))
	assert.Nil(t, x.Verdict.Component)
	assert.Zero(t, x.Verdict.Confidence)
	assert.NotEmpty(t, x.Settle)
}
