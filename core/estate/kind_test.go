package estate_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	. "dowsingrod/core/estate"
)

// Where something lies is said so that it can end a sentence, whatever the layer.
func TestWithinEndsASentence(t *testing.T) {
	for layer, want := range map[Layer]string{
		LayerFabric: "in the fabric", LayerBackEnd: "in the back end", LayerInArray: "in the array",
		LayerAboveArray: "above the array, between guest and fabric", LayerUnsplit: "in layers that no source tells apart",
	} {
		assert.Equal(t, want, layer.Within())
	}
}
