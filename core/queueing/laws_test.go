package queueing_test

import (
	"math"
	"testing"

	"github.com/stretchr/testify/assert"

	. "dowsingrod/core/queueing"
)

func TestOneServerIsExact(t *testing.T) {
	for _, rho := range []float64{0.1, 0.5, 0.9, 0.99} {
		assert.InDelta(t, rho/(1-rho)*2, WaitMultiserver(rho, 2, 1, 1), 1e-9, "M/M/1: W = ρS/(1−ρ)")
	}
}

// erlangC is the exact wait of M/M/n.
func erlangC(rho float64, n int) float64 {
	a := rho * float64(n)
	term, sum := 1.0, 1.0
	for k := 1; k < n; k++ {
		term *= a / float64(k)
		sum += term
	}
	last := term * a / float64(n) / (1 - rho)
	return last / (sum + last) / (float64(n) * (1 - rho))
}

// The approximation is held against the response time, for it errs most where there is next to no wait.
func TestManyServersAreClose(t *testing.T) {
	for _, n := range []int{2, 4, 16, 32} {
		for _, rho := range []float64{0.7, 0.9, 0.97} {
			exact, got := erlangC(rho, n), WaitMultiserver(rho, 1, n, 1)
			assert.InDelta(t, 1+exact, 1+got, 0.03*(1+exact), "n=%d ρ=%v", n, rho)
		}
	}
}

func TestEdges(t *testing.T) {
	assert.Zero(t, WaitMultiserver(0, 1, 4, 1))
	assert.True(t, math.IsInf(WaitMultiserver(1, 1, 4, 1), 1))
	assert.True(t, math.IsInf(WaitMultiserver(.5, 1, 0, 1), 1))
	assert.True(t, math.IsInf(Utilization(1, 1, 0), 1))
	assert.InDelta(t, 0.5, Utilization(100, 0.02, 4), 1e-12)
	assert.InDelta(t, 2, Little(1000, 0.002), 1e-12)
	assert.InDelta(t, 100, ClosedRate(1, 0.004, 0.006), 1e-9)
	assert.True(t, math.IsInf(ClosedRate(1, 0, 0), 1))
}
