package crew_test

import (
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"

	"dowsingrod/core/internal/crew"
)

func TestEachPieceIsDoneOnce(t *testing.T) {
	for _, n := range []int{0, 1, 31, 64, 1000} {
		done := make([]atomic.Int32, n)
		crew.Each(n, func(k int) { done[k].Add(1) })
		for k := range done {
			assert.EqualValues(t, 1, done[k].Load())
		}
	}
}
