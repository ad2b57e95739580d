package service_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dowsingrod/core/estate"
	"dowsingrod/core/phrase"
	"dowsingrod/core/verdict"
	"dowsingrod/internal/service"
	"dowsingrod/internal/testbed"
)

// An application is all machines that state it: its strata are theirs together, and its explanation is that of the one that waits most.
func TestAnApplication(t *testing.T) {
	d := testbed.LoadDemo(t)
	tr := truth(d, "noisy")
	w := window(t, d, -2*time.Hour, 0)
	s, err := d.Service.Strata(t.Context(), "application:manifests", w)
	require.NoError(t, err)
	assert.Equal(t, "manifests", s.Name)
	assert.EqualValues(t, "application", s.Kind)
	one, err := d.Service.Strata(t.Context(), tr.Sufferer, w)
	require.NoError(t, err)
	assert.Greater(t, s.Disks, one.Disks)
	require.NotNil(t, s.Change)
	assert.Equal(t, estate.LayerBackEnd, s.Change.Layer)
	assert.Equal(t, tr.Component, s.Change.Component, "looked for from the machine that waits most")
	assert.WithinDuration(t, tr.From, s.Change.From, time.Minute)
	for i, sum := range s.Read.Total {
		parts := 0.0
		for _, b := range s.Read.Bands {
			parts += b.Time[i]
		}
		assert.InDelta(t, sum, parts, 1e-6*sum, "layers add up in cell %d", i)
	}

	x, err := d.Service.Explain(t.Context(), "application:manifests", w)
	require.NoError(t, err)
	assert.Equal(t, verdict.NoisyNeighbour, x.Verdict.Class)
	assert.Equal(t, tr.Component, x.Verdict.Component.Ref)
	assert.Contains(t, phrase.Text(x.Statement, time.UTC), "machines of manifests, manifest-db-")
	assert.Contains(t, phrase.Text(x.Statement, time.UTC), "waits most")

	// Where nothing goes wrong it says that none waits.
	quiet, _, calm := imported(t, "quiet", 1204)
	x, err = quiet.Explain(t.Context(), "application:tide model", calm)
	require.NoError(t, err)
	assert.Equal(t, verdict.Cleared, x.Verdict.Class, phrase.Text(x.Statement, time.UTC))
	assert.Contains(t, phrase.Text(x.Statement, time.UTC), "None of ")

	for _, ask := range []func() error{
		func() error { _, err := d.Service.Strata(t.Context(), "application:chess", w); return err },
		func() error { _, err := d.Service.Explain(t.Context(), "application:chess", w); return err },
	} {
		var none *service.ApplicationError
		require.ErrorAs(t, ask(), &none)
		assert.ErrorContains(t, none, "manifests", "it says which there are")
	}
}
