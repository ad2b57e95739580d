package suspect_test

import (
	"encoding/json"
	"fmt"
	"math"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dowsingrod/core/estate"
	"dowsingrod/core/internal/tiny"
	"dowsingrod/core/phrase"
	"dowsingrod/core/reading"
	. "dowsingrod/core/suspect"
)

// drawn is a pool with so many tenants whose demand changes by chance, and one who may have done it.
func drawn(seed uint64, culprit bool) (tenants map[string]vm, slower float64) {
	r := rand.New(rand.NewPCG(seed, 21))
	tenants = map[string]vm{}
	for k := range 3 + r.IntN(12) {
		reads := 20 + 600*r.Float64()
		tenants[fmt.Sprintf("radar-replay-%02d", k)] = vm{reads, reads * (0.8 + 0.15*r.Float64()), 8192, 8192}
	}
	total := 0.0
	for _, v := range tenants {
		total += v.reads
	}
	if culprit {
		tenants["sonar-tiles-05"] = vm{10, total * (0.6 + 2*r.Float64()), 16384, 16384}
	}
	return tenants, 2 + 6*r.Float64()
}

// Whoever brings most of what was added is accused, however many others there are and however busy they were; where nobody brings more,
// nobody is.
func TestWhoBroughtItIsAccusedAndNobodyElse(t *testing.T) {
	for seed := range uint64(40) {
		tenants, slower := drawn(seed, true)
		s := compare(t, tenants, slower)
		assert.Equal(t, Culprit, s.Outcome, "%d: %s", seed, phrase.Text(s.Statement, time.UTC))
		assert.Equal(t, []string{"sonar-tiles-05"}, accused(s), seed)
		tenants, slower = drawn(seed, false)
		s = compare(t, tenants, slower)
		assert.Equal(t, Itself, s.Outcome, seed)
		assert.Empty(t, accused(s), seed)
	}
}

// What a comparison says is well made, whatever was read.
func TestEveryComparisonIsWellMade(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 22))
	for seed := range uint64(60) {
		tenants, slower := drawn(seed, seed%2 == 0)
		for name, v := range tenants {
			if r.IntN(3) == 0 {
				v.after *= math.Exp(r.NormFloat64())
				tenants[name] = v
			}
		}
		s := compare(t, tenants, slower)
		said := phrase.Text(s.Statement, time.UTC)
		assert.Len(t, s.Tenants, len(tenants), "every tenant is told of")
		assert.NotContains(t, said, "NaN")
		sum := 0.0
		for _, x := range s.Tenants {
			if x.Share.Known() {
				assert.LessOrEqual(t, float64(x.Share), 1+1e-9, said)
				sum += math.Max(0, float64(x.Share))
			}
		}
		assert.LessOrEqual(t, sum, 1+1e-6, "parts of what was added are no more than it: %s", said)
		named := len(accused(s))
		switch s.Outcome {
		case Culprit:
			assert.Equal(t, 1, named, said)
		case Several:
			assert.True(t, named == 2 || named == 3, said)
		default:
			assert.Zero(t, named, said)
		}
		assert.Equal(t, named > 0, s.Confidence.Known(), said)
		if named > 0 {
			assert.True(t, s.Confidence > 0 && s.Confidence < 1, said)
			assert.Equal(t, Suspect, s.Tenants[0].Role, "who did it stands first")
		}
		text, err := json.Marshal(s)
		require.NoError(t, err)
		var again Suspects
		require.NoError(t, json.Unmarshal(text, &again))
		assert.Equal(t, s.Outcome, again.Outcome)
		assert.Len(t, again.Tenants, len(s.Tenants))
	}
}

// later are the readings of an estate moved by some days.
type later struct {
	of *tiny.Estate
	by time.Duration
}

func (x later) Runs(k estate.Key, metric string) (out []reading.Series) {
	for _, run := range x.of.Runs(k, metric) {
		run.From = run.From.Add(x.by)
		out = append(out, run)
	}
	return out
}

// It does not matter in which order machines are listed, nor when it happened.
func TestOrderAndTimeDoNotMatter(t *testing.T) {
	for seed := range uint64(10) {
		e := tiny.New(cells)
		names := []string{"berth-plan-01", "manifest-db-02", "tide-model-03", "sonar-tiles-05", "crew-roster-09"}
		r := rand.New(rand.NewPCG(seed, 23))
		rates := map[string][2]float64{}
		whole := [2]float64{}
		for _, n := range names {
			rates[n] = [2]float64{100 + 300*r.Float64(), 100 + 300*r.Float64()}
		}
		rates["sonar-tiles-05"] = [2]float64{20, 4000}
		order := r.Perm(len(names))
		for k, i := range order {
			n := names[i]
			e.AddVM(n, k%2)
			e.IO(tiny.Key("hyp", "vdisk:"+n), tiny.From(onset, rates[n][0], rates[n][1]), tiny.Always(8192), tiny.From(onset, 2000, 9000))
			whole[0], whole[1] = whole[0]+rates[n][0], whole[1]+rates[n][1]
		}
		pool := tiny.Key("array", "pool:p")
		e.IO(pool, tiny.From(onset, whole[0], whole[1]), tiny.Always(8192), tiny.From(onset, 3000, 12000))
		in := Input{Grid: e.Grid(), First: 40, Moments: e.Moments(), Of: pool, From: e}
		first, err := Compute(in)
		require.NoError(t, err)
		by := 9 * 24 * time.Hour
		in.Grid.From = in.Grid.From.Add(by)
		in.Moments[0].From, in.Moments[0].To = in.Moments[0].From.Add(by), in.Moments[0].To.Add(by)
		in.From = later{e, by}
		second, err := Compute(in)
		require.NoError(t, err)
		assert.Equal(t, []string{"sonar-tiles-05"}, accused(first))
		assert.Equal(t, accused(first), accused(second))
		assert.Equal(t, first.Onset.Add(by), *second.Onset)
		for k := range first.Tenants {
			assert.Equal(t, first.Tenants[k].Ref, second.Tenants[k].Ref)
			assert.InDelta(t, float64(first.Tenants[k].Demand.During), float64(second.Tenants[k].Demand.During), 1e-9)
		}
	}
}
