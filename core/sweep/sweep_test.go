package sweep_test

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dowsingrod/core/internal/tiny"
	. "dowsingrod/core/sweep"
)

const (
	cells = 120
	onset = 80
)

// estateOf has so many quiet machines beside one that does something else from onset on.
func estateOf(quiet int, slower float64, loud func(i int) float64) (*tiny.Estate, Input) {
	e := tiny.New(cells)
	for k := range quiet {
		name := fmt.Sprintf("quiet-%d", k)
		e.AddVM(name, k%2)
		e.IO(tiny.Key("hyp", "vdisk:"+name), func(i int) float64 { return 200 + float64((i*7+k*3)%11) }, tiny.Always(8192), tiny.From(onset, 1500, 1500*slower))
	}
	e.AddVM("loud", 0)
	e.IO(tiny.Key("hyp", "vdisk:loud"), loud, tiny.Always(64<<10), tiny.From(onset, 1500, 1500*slower))
	return e, Input{Grid: e.Grid(), First: cells / 3, Map: e.Moments()[0].Map, From: e}
}

func name(in Input, at int32) string { return in.Map.Estate().At(at).Key.Ref.String() }

func TestANoisyNeighbourIsFoundInAWholeEstate(t *testing.T) {
	e, in := estateOf(9, 4, tiny.From(onset, 50, 3000))
	_ = e
	found := Compute(in)
	require.Len(t, found, 1, "a LUN, its pool and its controller are one finding")
	f := found[0]
	assert.Equal(t, Culprit, f.Outcome)
	assert.Equal(t, "vm:loud", name(in, f.First[0].At))
	assert.Greater(t, f.First[0].Share, 0.95)
	assert.Greater(t, f.First[0].Correlation, 0.9)
	assert.Equal(t, onset, f.Begin)
	assert.True(t, f.Persists)
	assert.Equal(t, 10, f.Tenants)
	assert.Equal(t, 10, f.Slower)
	assert.Len(t, f.Also, 2)
	from, to := f.Window(in.Grid)
	assert.Equal(t, in.Grid.At(onset), from)
	assert.Equal(t, in.Grid.End(), to)
	// What waits, by Little's law: all I/Os of the time times what each takes longer.
	assert.InEpsilon(t, (9*205+3000)*0.0045, f.Waits, 0.05)
}

func TestNobodyIsNamedWhereNobodyDidIt(t *testing.T) {
	outcome := func(in Input) (of []Outcome) {
		for _, f := range Compute(in) {
			of = append(of, f.Outcome)
		}
		return of
	}
	_, in := estateOf(9, 1, tiny.From(onset, 50, 3000))
	assert.Empty(t, outcome(in), "it did not slow")
	_, in = estateOf(9, 4, tiny.Always(50))
	assert.Equal(t, []Outcome{Itself}, outcome(in), "nobody asks for more")
	_, in = estateOf(9, 4, func(i int) float64 {
		if i < onset-35 {
			return 50
		}
		return 3000 // long before it slowed, and all the same since
	})
	for _, o := range outcome(in) {
		assert.NotEqual(t, Culprit, o)
	}
	e, in := estateOf(9, 4, tiny.Always(50))
	for k := range 9 {
		e.IO(tiny.Key("hyp", fmt.Sprintf("vdisk:quiet-%d", k)), tiny.From(onset, 200, 900), tiny.Always(8192), tiny.From(onset, 1500, 6000))
	}
	in.From = e
	assert.Equal(t, []Outcome{Everybody}, outcome(in))
}

// A machine of which nothing is read, or that has nobody beside it, changes nothing.
func TestWhatIsNotReadIsLeftOut(t *testing.T) {
	e, in := estateOf(3, 4, tiny.From(onset, 50, 3000))
	e.AddVM("silent", 1)
	in.Map = e.Moments()[0].Map
	found := Compute(in)
	require.Len(t, found, 1)
	assert.Equal(t, 4, found[0].Tenants)
	lone, in := estateOf(0, 4, tiny.From(onset, 50, 3000))
	_ = lone
	assert.Empty(t, Compute(in), "alone on all it uses")
	assert.Empty(t, Compute(Input{Grid: in.Grid, Map: tiny.New(1).Moments()[0].Map, From: e}))
}
