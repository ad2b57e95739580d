package verdict

import (
	"fmt"

	"dowsingrod/core/estate"
)

// Debug prints.
func (l *Located) Debug(kinds ...estate.Kind) (out string) {
	x := l.scene
	if x == nil {
		return "none"
	}
	for k, g := range x.gain {
		out += fmt.Sprintf("gain %s %.3f; ", k, g/x.total)
	}
	out += fmt.Sprintf("write %.2f\n  %d..%d..%d", x.share("write"), x.before, x.begin, x.end)
	list := append([]int32{}, x.below...)
	for _, i := range x.below {
		if x.m.Estate().Kind(i) == estate.ISL {
			list = append(list, x.m.Estate().To(i, estate.Joins)...)
		}
	}
	for _, i := range list {
		for _, k := range kinds {
			if x.m.Estate().Kind(i) == k {
				out += "      " + x.m.Estate().At(i).Key.String()
				for _, m := range []string{"busy_share", "write_pending_share", "read_latency_us", "write_latency_us", "read_iops", "write_iops", "read_bytes_s", "write_bytes_s", "write_service_us", "credit_zero_share", "cache_hit_share", "tx_bytes_s", "rx_bytes_s", "utilization", "allowed_share"} {
					b, d := x.pair(i, m)
					if d == d {
						out += fmt.Sprintf(" %s %.4g→%.4g", m, b, d)
					}
				}
				out += "\n"
			}
		}
	}
	return out
}
