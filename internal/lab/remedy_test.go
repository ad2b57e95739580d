package lab

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestWhatIsEndedLeavesTheEstateAsItWas(t *testing.T) {
	for _, kind := range Kinds() {
		f := grow(t, Options{VMs: 200, Seed: 6})
		l := f.Parts[0]
		speeds := func() (out []float64) {
			for _, h := range l.hosts {
				out = append(out, h.ports[0].speed, h.ports[1].speed)
			}
			for _, c := range l.controllers {
				out = append(out, c.ports[0].speed, c.ports[1].speed)
			}
			for _, at := range l.fronts {
				for _, v := range l.main.net.Legs[at.at[0]].Visits {
					if v.Next < 0 {
						out = append(out, v.PerByte)
					}
				}
			}
			return append(out, l.islSpeed, float64(len(l.effects)))
		}
		before := speeds()
		x, err := f.Begin(kind.Name, 0, 6, f.From, 0, 1)
		require.NoError(t, err)
		f.End(x, f.From.Add(10*Step))
		after := speeds()
		assert.Equal(t, before[:len(before)-1], after[:len(before)-1], kind.Name)
		assert.LessOrEqual(t, after[len(after)-1], before[len(before)-1]+2, "%s: only faults that are over are left", kind.Name)
	}
}
