package service_test

import (
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dowsingrod/core/suspect"
	"dowsingrod/core/verdict"
	"dowsingrod/internal/feed"
	"dowsingrod/internal/lab"
	"dowsingrod/internal/service"
	"dowsingrod/internal/testbed"
)

// imported is a service that knows an estate of the lab in which something went wrong.
func imported(t *testing.T, fault string, seed uint64) (*service.Service, lab.TruthFile, service.Window) {
	to := time.Date(2026, 3, 2, 12, 0, 0, 0, time.UTC)
	o := lab.Options{VMs: 120, Seed: seed, From: to.Add(-2 * time.Hour), To: to, Fault: fault}
	if fault != "quiet" {
		o.Onset, o.Lasts = to.Add(-70*time.Minute), 60*time.Minute
	}
	f, err := lab.Grow(o)
	require.NoError(t, err)
	svc := service.New(testbed.Store(t), func() time.Time { return to })
	var mu sync.Mutex
	of := map[string][]feed.Record{} // sources write side by side
	require.NoError(t, f.Write(func(source string, r feed.Record) error {
		mu.Lock()
		defer mu.Unlock()
		of[source] = append(of[source], r)
		return nil
	}))
	_, err = svc.ImportRecords(t.Context(), func(write func(feed.Record) error) error {
		for _, records := range of {
			for _, r := range records {
				if err := write(r); err != nil {
					return err
				}
			}
		}
		return nil
	})
	require.NoError(t, err)
	w, err := svc.Window(to.Add(-2*time.Hour), to)
	require.NoError(t, err)
	return svc, f.Truth(), w
}

// What is said of a component's tenants is what is said to one of them who waits for it: nobody is accused on one page and cleared on another.
func TestSuspectsAndExplanationsAgree(t *testing.T) {
	for _, fault := range []string{"cache-off", "neighbour-pool", "growth", "rebuild", "slow-receiver", "lopsided-paths", "limit-lun"} {
		t.Run(fault, func(t *testing.T) {
			svc, truth, w := imported(t, fault, 1204)
			cause := truth.Causes[0]
			require.NotEmpty(t, cause.Sufferers)
			x, err := svc.Explain(t.Context(), cause.Sufferers[0].VM, w)
			require.NoError(t, err)
			require.NotNil(t, x.Verdict.Component, x.Verdict.Summary)
			s, err := svc.Suspects(t.Context(), x.Verdict.Component.Ref, w)
			require.NoError(t, err)
			var said, shown []string
			for _, a := range x.Suspects {
				if a.Accused {
					said = append(said, a.Ref)
				}
			}
			for _, tenant := range s.Tenants {
				if tenant.Role == suspect.Suspect {
					shown = append(shown, tenant.Ref)
				}
			}
			assert.ElementsMatch(t, said, shown, "%s; %s", x.Verdict.Summary, s.Outcome)
			if len(said) > 0 {
				assert.Equal(t, verdict.NoisyNeighbour, x.Verdict.Class)
				assert.InDelta(t, float64(x.Verdict.Confidence), float64(s.Confidence), 1e-9, "and just as sure")
				assert.Subset(t, cause.Culprits, shown)
			} else {
				assert.False(t, s.Confidence.Known())
			}
		})
	}
}
