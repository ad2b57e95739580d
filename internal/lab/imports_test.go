package lab_test

import (
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What is diagnosed must not be known to who diagnoses it, nor the other way round: feeds are all that passes between them.
func TestTheLabAndDiagnosisDoNotKnowOneAnother(t *testing.T) {
	deps := func(of ...string) string {
		out, err := exec.Command("go", append([]string{"list", "-deps"}, of...)...).Output()
		require.NoError(t, err)
		return string(out)
	}
	diagnosis := []string{"dowsingrod/core/strata", "dowsingrod/core/congest", "dowsingrod/core/suspect", "dowsingrod/core/onset", "dowsingrod/core/route", "dowsingrod/internal/service"}
	of := strings.Fields(deps("dowsingrod/internal/lab", "dowsingrod/internal/lab/live"))
	require.Contains(t, of, "dowsingrod/core/queueing")
	for _, p := range diagnosis {
		assert.NotContains(t, of, p)
	}
	for _, p := range strings.Fields(deps(diagnosis...)) {
		assert.False(t, strings.HasPrefix(p, "dowsingrod/internal/lab"), p)
	}
}
