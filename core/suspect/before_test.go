package suspect_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dowsingrod/core/internal/tiny"
	. "dowsingrod/core/suspect"
)

// A component may take as long as ever for what it takes on, while its tenants wait to be taken on: looked at where they wait, who did it shows.
func TestTenantsMayWaitBeforeTheComponent(t *testing.T) {
	e := tiny.New(cells)
	for k, name := range []string{"a", "b", "loud"} {
		e.AddVM(name, k%2)
		before, after := 200.0, 190.0
		if name == "loud" {
			before, after = 20, 3000
		}
		e.IO(tiny.Key("hyp", "vdisk:"+name), tiny.From(onset, before, after), tiny.Always(8192), tiny.From(onset, 1500, 7000))
	}
	pool := tiny.Key("array", "pool:p")
	e.IO(pool, tiny.From(onset, 420, 3380), tiny.Always(8192), tiny.Always(1200))
	in := Input{Grid: e.Grid(), First: 40, Moments: e.Moments(), Of: pool, From: e}
	s, err := Compute(in)
	require.NoError(t, err)
	assert.Equal(t, NoChange, s.Outcome)
	in.AtTenants = true
	s, err = Compute(in)
	require.NoError(t, err)
	assert.Equal(t, Culprit, s.Outcome)
	assert.Equal(t, []string{"loud"}, accused(s))
	assert.Contains(t, s.Measured, "as long as before")
	assert.Equal(t, e.Grid().At(onset), *s.Onset)
}
