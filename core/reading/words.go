package reading

import "strings"

// Words is a metric as one says it: read_latency_us is "read latency", tx_bytes_s "tx bytes a second".
func Words(metric string) string {
	for _, suffix := range []string{"_us", "_share"} {
		metric = strings.TrimSuffix(metric, suffix)
	}
	if rate, ok := strings.CutSuffix(metric, "_s"); ok {
		metric = rate + " a second"
	}
	return strings.ReplaceAll(strings.ReplaceAll(metric, "_", " "), "iops", "IOPS")
}
