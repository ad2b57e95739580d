package reading_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	. "dowsingrod/core/reading"
)

// Every metric of the catalogue has words without an underscore.
func TestMetricsAreSaidInWords(t *testing.T) {
	for metric, want := range map[string]string{"read_latency_us": "read latency", "tx_bytes_s": "tx bytes a second", "busy_share": "busy", "write_iops": "write IOPS", "outstanding": "outstanding"} {
		assert.Equal(t, want, Words(metric))
	}
	for _, m := range Catalogue {
		assert.NotContains(t, Words(m.Name), "_")
		assert.NotEmpty(t, Words(m.Name))
	}
}
