package crew_test

import (
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"

	"dowsingrod/core/internal/crew"
)

func TestEachPieceIsDoneOnce(t *testing.T) {
	for name, each := range map[string]func(int, func(int)){"small": crew.Each, "large": crew.Large} {
		for _, n := range []int{0, 1, 2, 31, 64, 1000} {
			done := make([]atomic.Int32, n)
			each(n, func(k int) { done[k].Add(1) })
			for k := range done {
				assert.EqualValues(t, 1, done[k].Load(), name)
			}
		}
	}
}
