package incident_test

import (
	"math"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dowsingrod/core/estate"
	. "dowsingrod/core/incident"
	"dowsingrod/core/internal/tiny"
	"dowsingrod/core/verdict"
)

var start = time.Date(2026, 3, 2, 9, 0, 0, 0, time.UTC)

func at(minute int) time.Time { return start.Add(time.Duration(minute) * time.Minute) }

// feed shows a detector the latency of disks minute by minute.
func feed(d *Detector, from, to int, latency func(disk string, minute int) float64, disks ...string) {
	for i := from; i < to; i++ {
		for _, name := range disks {
			d.Observe(tiny.Key("hyp", "vdisk:"+name), at(i), Sample{Rate: [2]float64{200, math.NaN()}, Time: [2]float64{latency(name, i), math.NaN()}})
		}
	}
}

func TestADiskHurtsFromItsFirstSlowMinuteUntilItHasRecovered(t *testing.T) {
	d := NewDetector(time.Minute)
	slow := func(_ string, i int) float64 {
		if i >= 60 && i < 90 {
			return 5000
		}
		return 1000 + 30*math.Sin(float64(i))
	}
	feed(d, 0, 62, slow, "a")
	assert.Empty(t, d.Hurts(), "two minutes may be chance")
	feed(d, 62, 63, slow, "a")
	require.Len(t, d.Hurts(), 1)
	h := d.Hurts()[0]
	assert.Equal(t, at(60), h.Since)
	assert.InDelta(t, 1000, h.Usual, 60)
	assert.InDelta(t, 200*4e-3, h.InFlight, 0.1, "what waits, by Little's law")
	feed(d, 63, 94, slow, "a")
	assert.Len(t, d.Hurts(), 1, "four good minutes are not enough")
	feed(d, 94, 96, slow, "a")
	assert.Empty(t, d.Hurts())
}

func TestWhatIsNoTrouble(t *testing.T) {
	for name, f := range map[string]func(string, int) float64{
		"single slow minutes":      func(_ string, i int) float64 { return map[bool]float64{true: 9000, false: 1000}[i%10 == 0] },
		"a day's slow rise":        func(_ string, i int) float64 { return 1000 + 2*float64(i) },
		"much of next to nothing":  func(_ string, i int) float64 { return map[bool]float64{true: 400, false: 100}[i > 60] },
		"a little more from a lot": func(_ string, i int) float64 { return map[bool]float64{true: 12000, false: 9000}[i > 60] },
	} {
		d := NewDetector(time.Minute)
		feed(d, 0, 200, f, "a")
		assert.Empty(t, d.Hurts(), name)
	}
}

func TestUnknownCellsSayNothing(t *testing.T) {
	d := NewDetector(time.Minute)
	feed(d, 0, 100, func(string, int) float64 { return math.NaN() }, "a")
	assert.Empty(t, d.Hurts())
}

// folded runs a detector and the folding over an estate of four machines, of which some hurt from minute 60 to 90.
func folded(t *testing.T, hurt map[string]bool, class verdict.Class, component string) (all []*Incident) {
	e := tiny.New(10)
	names := []string{"a", "b", "c", "d"}
	for k, n := range names {
		e.AddVM(n, k%2)
	}
	m := e.Moments()[0].Map
	d := NewDetector(time.Minute)
	var open []*Incident
	for i := range 150 {
		feed(d, i, i+1, func(n string, i int) float64 {
			if hurt[n] && i >= 60 && i < 90 {
				return 8000
			}
			return 1000
		}, names...)
		changed, err := Fold(m, d.Hurts(), open, at(i+1), time.Minute, func(vm estate.Key) (verdict.Explanation, error) {
			began := at(60)
			x := verdict.Explanation{Subject: vm.String(), Onset: &began, Verdict: verdict.Verdict{Class: class, Confidence: 0.9}}
			if class == verdict.Cleared {
				x.Onset = nil
			}
			if component != "" {
				x.Verdict.Component = &verdict.Component{Ref: component}
			}
			return x, nil
		})
		require.NoError(t, err)
		for _, x := range changed {
			found := false
			for _, o := range all {
				found = found || o == x
			}
			if !found {
				all = append(all, x)
			}
		}
		open = nil
		for _, o := range all {
			if o.Ended == nil {
				open = append(open, o)
			}
		}
	}
	return all
}

func TestAllThatHurtsForOneReasonIsOneIncident(t *testing.T) {
	all := folded(t, map[string]bool{"a": true, "b": true, "c": true}, verdict.Degraded, "pool:p@array")
	require.Len(t, all, 1)
	x := all[0]
	assert.Len(t, x.Sufferers, 3)
	assert.Equal(t, at(60), x.Onset)
	require.NotNil(t, x.Ended)
	assert.InDelta(t, 0, x.Ended.Sub(at(90)).Minutes(), 6)
	assert.Greater(t, x.Harm, 3*25*60*200*7e-3*0.8, "I/O-seconds waited by three machines in half an hour")
}

func TestWhatIsClearedIsNoIncident(t *testing.T) {
	assert.Empty(t, folded(t, map[string]bool{"a": true}, verdict.Cleared, ""))
}

func TestWhatNoReasonIsKnownForIsOneIncidentOnceItLasts(t *testing.T) {
	all := folded(t, map[string]bool{"a": true, "b": true}, verdict.Unknown, "")
	require.Len(t, all, 1)
	assert.Len(t, all[0].Sufferers, 2)
}

// One that begins to look in the middle of trouble takes it for usual, unless it is told what was.
func TestADiskThatIsKnownHurtsFromTheFirstLook(t *testing.T) {
	slow := func(string, int) float64 { return 6000 }
	d := NewDetector(time.Minute)
	feed(d, 0, 60, slow, "a")
	assert.Empty(t, d.Hurts())
	d = NewDetector(time.Minute)
	d.Seed(tiny.Key("hyp", "vdisk:a"), [2]float64{1000, math.NaN()})
	feed(d, 0, 3, slow, "a")
	require.Len(t, d.Hurts(), 1)
	assert.Equal(t, at(0), d.Hurts()[0].Since)
	assert.InDelta(t, 1000, d.Hurts()[0].Usual, 20)
	feed(d, 3, 200, slow, "a")
	assert.Len(t, d.Hurts(), 1, "for hours")
}

// Who asks for so much that others wait, waits most itself: the incident is told by one of the others.
func TestAnIncidentIsToldByWhoDidNotDoIt(t *testing.T) {
	e := tiny.New(10)
	names := []string{"loud", "b", "c"}
	for k, n := range names {
		e.AddVM(n, k%2)
	}
	d := NewDetector(time.Minute)
	feed(d, 0, 64, func(n string, i int) float64 {
		switch {
		case i < 60:
			return 1000
		case n == "loud":
			return 30_000
		}
		return 8000
	}, names...)
	asked := []string{}
	said := map[string]verdict.Class{"b": verdict.NoisyNeighbour}
	explain := func(vm estate.Key) (verdict.Explanation, error) {
		began := at(60)
		asked = append(asked, vm.Ref.ID)
		class := said[vm.Ref.ID]
		if class == "" {
			class = verdict.NoisyNeighbour
		}
		return verdict.Explanation{Subject: vm.String(), Onset: &began, Verdict: verdict.Verdict{Class: class, Confidence: 0.9, Component: &verdict.Component{Ref: "pool:p@array"}},
			Suspects: []verdict.Accused{{Ref: "vm:loud@hyp", Accused: true}, {Ref: "vm:b@hyp"}}}, nil
	}
	m := e.Moments()[0].Map
	found, err := Fold(m, d.Hurts(), nil, at(64), time.Minute, explain)
	require.NoError(t, err)
	require.Len(t, found, 1)
	assert.Equal(t, []string{"loud", "b"}, asked)
	assert.Equal(t, "vm:b@hyp", found[0].Verdict.Subject)
	assert.Len(t, found[0].Sufferers, 3)

	said["b"] = verdict.HostQueue // it tells another story
	found, err = Fold(m, d.Hurts(), nil, at(64), time.Minute, explain)
	require.NoError(t, err)
	require.Len(t, found, 1)
	assert.Equal(t, "vm:loud@hyp", found[0].Verdict.Subject)
}
