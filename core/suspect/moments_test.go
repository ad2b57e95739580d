package suspect_test

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dowsingrod/core/estate"
	"dowsingrod/core/internal/tiny"
	"dowsingrod/core/reading"
	"dowsingrod/core/route"
	. "dowsingrod/core/suspect"
)

// A disk that moved here in mid-window counts from then on; what it did elsewhere is not this pool's.
func TestATenantCountsWhileItIsOne(t *testing.T) {
	e := tiny.New(cells)
	e.AddVM("stays", 0)
	e.AddVM("comes", 1)
	e.Add("array", "pool:q", "pool 2", nil)
	const other = "naa.600d05e0000000000000000000000009"
	e.Add("array", "volume:w", "vol-2", estate.Facts{"naa": other}, "carved_from", "pool:q")
	e.Add("hyp", "datastore:ds2", "ds-2", estate.Facts{"extents": []any{other}})
	move := func(store string) *route.Map {
		objects := append([]estate.Object{}, e.Objects...)
		for i, o := range objects {
			if o.Key == tiny.Key("hyp", "vdisk:comes") {
				o.Links = estate.Links{estate.StoredOn: {tiny.Key("hyp", store).Ref}}
				objects[i] = o
			}
		}
		return route.NewMap(estate.Build(objects))
	}
	at := tiny.Start.Add(onset * time.Minute)
	moments := []route.Moment{{From: tiny.Start, To: at, Map: move("datastore:ds2")}, {From: at, To: tiny.Start.Add(cells * time.Minute), Map: move("datastore:ds")}}
	for _, name := range []string{"stays", "comes"} {
		e.IO(tiny.Key("hyp", "vdisk:"+name), tiny.Always(1000), tiny.Always(8192), tiny.From(onset, 2000, 8000))
	}
	pool := tiny.Key("array", "pool:p")
	e.IO(pool, tiny.From(onset, 1000, 2000), tiny.Always(8192), tiny.From(onset, 2000, 8000))
	s, err := Compute(Input{Grid: e.Grid(), First: 40, Moments: moments, Of: pool, From: e})
	require.NoError(t, err)
	require.Equal(t, Culprit, s.Outcome)
	assert.Equal(t, []string{"comes"}, accused(s), "it always did so much, but not here")
	assert.Zero(t, float64(s.Tenants[0].Demand.Before))
}

type listed struct {
	*tiny.Estate
	allowed map[string]bool
	missed  []string
}

func (l *listed) Runs(k estate.Key, metric string) []reading.Series {
	if runs := l.Estate.Runs(k, metric); len(runs) == 0 || l.allowed[k.String()+" "+metric] {
		return runs
	}
	l.missed = append(l.missed, k.String()+" "+metric)
	return nil
}

func TestNeedsNamesAllThatIsLookedAt(t *testing.T) {
	e := tiny.New(cells)
	for k, name := range []string{"a", "b", "c"} {
		e.AddVM(name, k%2)
	}
	for _, o := range e.Objects {
		for _, m := range reading.Catalogue {
			if m.On(o.Key.Ref.Kind) {
				e.Set(o.Key, m.Name, tiny.From(onset, 0.2, 0.9))
			}
		}
	}
	for _, of := range []estate.Key{tiny.Key("array", "pool:p"), tiny.Key("array", "controller:c0"), tiny.Key("array", "volume:v"), tiny.Key("fab", "switch_port:p1"), tiny.Key("hyp", "datastore:ds")} {
		l := &listed{Estate: e, allowed: map[string]bool{}}
		for _, n := range Needs(e.Moments(), of) {
			for _, m := range n.Metrics {
				l.allowed[n.Key.String()+" "+m] = true
			}
		}
		_, err := Compute(Input{Grid: e.Grid(), First: 40, Moments: e.Moments(), Of: of, From: l})
		require.NoError(t, err)
		assert.Empty(t, l.missed, of)
	}
}

func TestSharesOfTheAddedDemandSumToOne(t *testing.T) {
	s := compare(t, map[string]vm{"a": {100, 900, 8192, 8192}, "b": {300, 700, 8192, 65536}, "c": steady(500), "d": {50, 60, 4096, 4096}}, 4)
	var sum float64
	for _, tn := range s.Tenants {
		if tn.Share.Known() {
			sum += float64(tn.Share)
		}
	}
	assert.InDelta(t, 1, sum, 1e-9)
	assert.InDelta(t, float64(s.Demand.During), func() (d float64) {
		for _, tn := range s.Tenants {
			d += float64(tn.Demand.During)
		}
		return d
	}(), 1e-6, "the whole is the sum of its tenants")
}

func TestARiseAtAnotherTimeIsTold(t *testing.T) {
	at := func(begins int) Suspects {
		e := tiny.New(cells)
		for k, name := range []string{"rises", "b", "c"} {
			e.AddVM(name, k%2)
			after := 300.0
			if k == 0 {
				after = 4000
			}
			e.IO(tiny.Key("hyp", "vdisk:"+name), tiny.From(begins, 300, after), tiny.Always(8192), tiny.From(onset, 2000, 8000))
		}
		pool := tiny.Key("array", "pool:p")
		e.IO(pool, tiny.From(begins, 900, 4600), tiny.Always(8192), tiny.From(onset, 3000, 12000))
		s, err := Compute(Input{Grid: e.Grid(), First: 40, Moments: e.Moments(), Of: pool, From: e})
		require.NoError(t, err)
		require.Equal(t, Culprit, s.Outcome)
		return s
	}
	then, later := at(onset), at(onset+12)
	assert.GreaterOrEqual(t, float64(then.Confidence), float64(later.Confidence))
	assert.Contains(t, strings.Join(then.Grounds, "; "), "it began with the slowness")
	assert.Contains(t, strings.Join(later.Grounds, "; "), "it began 12 min off the slowness")
	assert.EqualValues(t, 0, then.Tenants[0].Onset)
	assert.EqualValues(t, 12*60, later.Tenants[0].Onset)
}

func TestNobodyDependsOnIt(t *testing.T) {
	e := tiny.New(cells)
	s, err := Compute(Input{Grid: e.Grid(), First: 40, Moments: e.Moments(), Of: tiny.Key("array", "pool:p"), From: e})
	require.NoError(t, err)
	assert.Equal(t, Unknown, s.Outcome)
	assert.Contains(t, s.Statement[0].Text, "nobody to compare")
	_, err = Compute(Input{Grid: e.Grid(), First: 40, Moments: e.Moments(), Of: tiny.Key("array", "pool:none"), From: e})
	assert.Error(t, err)
}
