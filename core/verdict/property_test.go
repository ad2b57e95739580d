package verdict_test

import (
	"encoding/json"
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dowsingrod/core/estate"
	"dowsingrod/core/internal/tiny"
	"dowsingrod/core/reading"
	"dowsingrod/core/route"
	. "dowsingrod/core/verdict"
)

// through are readings of a tiny estate after something was done to each run.
type through struct {
	of *tiny.Estate
	do func(k estate.Key, metric string, run reading.Series) []reading.Series
}

func (x through) Runs(k estate.Key, metric string) (out []reading.Series) {
	for _, run := range x.of.Runs(k, metric) {
		out = append(out, x.do(k, metric, run)...)
	}
	return out
}

// troubles are worlds in which something hurts, each of another class.
func troubles() map[string]*tiny.Estate {
	out := map[string]*tiny.Estate{}
	for name, c := range map[string]struct {
		rates map[string][2]float64
		busy  [2]float64
	}{
		"one asks for more": {map[string][2]float64{"d": {50, 3000}}, [2]float64{0.3, 0.97}},
		"all ask for more":  {map[string][2]float64{"a": {300, 460}, "b": {300, 460}, "c": {300, 460}, "d": {300, 460}}, [2]float64{0.6, 0.97}},
		"nobody does":       {nil, [2]float64{0.3, 0.9}},
	} {
		e := world(c.rates, 9000)
		e.Set(pool, "busy_share", tiny.From(onset, c.busy[0], c.busy[1]))
		out[name] = e
	}
	return out
}

func inputOf(e *tiny.Estate) Input {
	return Input{Grid: e.Grid(), First: 20, Moments: e.Moments(), Of: tiny.Key("hyp", "vm:a"), From: e}
}

// The same trouble at another time, in an estate that was looked at in pieces, or with its readings sent in pieces, has the same verdict.
func TestTheVerdictIsThatOfWhatHappened(t *testing.T) {
	for name, e := range troubles() {
		want := answer(t, inputOf(e))
		for how, in := range map[string]func() (Input, time.Duration){
			"eleven days later": func() (Input, time.Duration) {
				in, by := inputOf(e), 11*24*time.Hour
				in.Grid.From = in.Grid.From.Add(by)
				in.Moments[0].From, in.Moments[0].To = in.Moments[0].From.Add(by), in.Moments[0].To.Add(by)
				in.From = through{e, func(_ estate.Key, _ string, run reading.Series) []reading.Series {
					run.From = run.From.Add(by)
					return []reading.Series{run}
				}}
				return in, by
			},
			"in moments of ten minutes": func() (Input, time.Duration) {
				in := inputOf(e)
				whole := in.Moments[0]
				in.Moments = nil
				for at := whole.From; at.Before(whole.To); at = at.Add(10 * time.Minute) {
					in.Moments = append(in.Moments, route.Moment{From: at, To: at.Add(10 * time.Minute), Map: whole.Map})
				}
				return in, 0
			},
			"in runs of seven cells": func() (Input, time.Duration) {
				in := inputOf(e)
				in.From = through{e, func(_ estate.Key, _ string, run reading.Series) (out []reading.Series) {
					for at := 0; at < len(run.Values); at += 7 {
						out = append(out, reading.Series{From: run.From.Add(time.Duration(at) * run.Step), Step: run.Step, Values: run.Values[at:min(len(run.Values), at+7)]})
					}
					return out
				}}
				return in, 0
			},
		} {
			t.Run(name+", "+how, func(t *testing.T) {
				in, by := in()
				got := answer(t, in)
				assert.Equal(t, want.Verdict.Class, got.Verdict.Class)
				assert.Equal(t, want.Verdict.Component, got.Verdict.Component)
				assert.InDelta(t, float64(want.Verdict.Confidence), float64(got.Verdict.Confidence), 1e-9)
				assert.Equal(t, accused(want), accused(got))
				assert.Equal(t, want.Onset.Add(by), *got.Onset)
				assert.InDelta(t, float64(want.During), float64(got.During), 1e-6)
			})
		}
	}
}

// Sources that report every two or four minutes tell the same, and when it began to within their interval.
func TestTheVerdictIsTheSameAtLongerIntervals(t *testing.T) {
	for name, e := range troubles() {
		want := answer(t, inputOf(e))
		for _, every := range []int{2, 4} {
			in := inputOf(e)
			in.From = through{e, func(_ estate.Key, _ string, run reading.Series) []reading.Series {
				out := reading.Series{From: run.From, Step: run.Step * time.Duration(every)}
				for at := 0; at+every <= len(run.Values); at += every {
					out.Values = append(out.Values, reading.MeanOver(run.Values, at, at+every))
				}
				return []reading.Series{out}
			}}
			got := answer(t, in)
			assert.Equal(t, want.Verdict.Class, got.Verdict.Class, "%s, every %d min", name, every)
			assert.Equal(t, want.Verdict.Component, got.Verdict.Component, name)
			assert.Equal(t, accused(want), accused(got), name)
			assert.LessOrEqual(t, got.Onset.Sub(*want.Onset).Abs(), time.Duration(every)*time.Minute, name)
		}
	}
}

// An estate ten times as large in every rate waits in the same places: what is asked is not told from what is large.
func TestTheVerdictIsFreeOfScale(t *testing.T) {
	for name, e := range troubles() {
		want := answer(t, inputOf(e))
		in := inputOf(e)
		in.From = through{e, func(_ estate.Key, metric string, run reading.Series) []reading.Series {
			if m, _ := reading.Lookup(metric); m.Unit == reading.PerSecond || m.Unit == reading.BytesPerSecond {
				run.Values = slices.Clone(run.Values)
				for i := range run.Values {
					run.Values[i] *= 10
				}
			}
			return []reading.Series{run}
		}}
		got := answer(t, in)
		assert.Equal(t, want.Verdict.Class, got.Verdict.Class, name)
		assert.Equal(t, want.Verdict.Component, got.Verdict.Component, name)
		assert.Equal(t, accused(want), accused(got), name)
		assert.InDelta(t, float64(want.During), float64(got.During), 0.01, name)
	}
}

// Whatever is read, an explanation is well made: it can be written and read, names only what exists, and is as sure as it may be.
func TestEveryExplanationIsWellMade(t *testing.T) {
	r := rand.New(rand.NewPCG(11, 12))
	for n := range 60 {
		rates := map[string][2]float64{}
		for _, name := range []string{"a", "b", "c", "d"} {
			before := 20 + 800*r.Float64()
			rates[name] = [2]float64{before, before * math.Exp(1.2*r.NormFloat64())}
		}
		e := world(rates, 1000*math.Exp(2*r.Float64()))
		busy := 0.1 + 0.5*r.Float64()
		e.Set(pool, "busy_share", tiny.From(onset, busy, busy+(1-busy)*r.Float64()))
		for _, key := range []estate.Key{pool, volume, controller, tiny.Key("hyp", "device:h0-v"), tiny.Key("hyp", "vdisk:b")} {
			for _, metric := range []string{"read_latency_us", "busy_share", "read_iops"} {
				if r.IntN(5) == 0 {
					e.Drop(key, metric)
				}
			}
		}
		x := explain(t, e, "a")
		about := fmt.Sprintf("world %d: %s", n, words(x))
		m := e.Moments()[0].Map.Estate()
		assert.Contains(t, Classes, x.Verdict.Class, about)
		assert.NotContains(t, about, "NaN")
		assert.NotContains(t, about, "Inf")
		assert.NotContains(t, about, "in the in ")
		assert.NotContains(t, about, "the the ")
		if x.Verdict.Confidence.Known() {
			assert.GreaterOrEqual(t, float64(x.Verdict.Confidence), 0.0, about)
			assert.Less(t, float64(x.Verdict.Confidence), 1.0, about)
		}
		if c := x.Verdict.Component; c != nil {
			_, err := m.Resolve(c.Ref)
			assert.NoError(t, err, about)
			assert.NotEqual(t, Cleared, x.Verdict.Class, about)
		}
		if x.Verdict.Class == Cleared || x.Verdict.Class == Degraded {
			assert.Empty(t, accused(x), about)
		}
		for _, s := range x.Suspects {
			_, err := m.Resolve(s.Ref)
			assert.NoError(t, err, about)
			if s.Score.Known() { // it is not where nobody asks for more
				assert.True(t, float64(s.Score) >= 0 && float64(s.Score) <= 1, "%s: %s scores %v", about, s.Name, s.Score)
			}
			assert.NotEmpty(t, s.Evidence, about)
		}
		for _, piece := range x.Evidence {
			if piece.Trace != nil {
				assert.Len(t, piece.Trace, cells-20, about)
			}
			assert.True(t, float64(piece.Weight) >= 0 && float64(piece.Weight) <= 1, about)
		}
		if x.Onset != nil && x.Until != nil {
			assert.True(t, x.Onset.Before(*x.Until), about)
		}
		for _, p := range x.Statement {
			if p.Ref != "" {
				_, err := m.Resolve(p.Ref)
				assert.NoError(t, err, about)
			}
		}
		text, err := json.Marshal(x)
		require.NoError(t, err, about)
		var again Explanation
		require.NoError(t, json.Unmarshal(text, &again), about)
		assert.Equal(t, x.Verdict.Class, again.Verdict.Class)
		assert.Len(t, again.Evidence, len(x.Evidence))
		assert.Equal(t, words(x), words(again))
	}
}
