package service

import (
	"fmt"
	"strconv"
	"strings"
	"time"
)

// ParseTime reads a moment: RFC 3339, "now", or a time back from now as -2h, -90m, -1d, -45s. "" is the
// zero time.
func ParseTime(s string, now time.Time) (time.Time, error) {
	switch s = strings.TrimSpace(s); {
	case s == "":
		return time.Time{}, nil
	case s == "now":
		return now, nil
	case strings.HasPrefix(s, "-"):
		if days, ok := strings.CutSuffix(s[1:], "d"); ok {
			if n, err := strconv.ParseFloat(days, 64); err == nil && n >= 0 && n < 1e5 {
				return now.Add(-time.Duration(n * float64(24*time.Hour))), nil
			}
		}
		if d, err := time.ParseDuration(s); err == nil {
			return now.Add(d), nil
		}
	default:
		for _, layout := range []string{time.RFC3339, "2006-01-02T15:04Z07:00"} {
			if t, err := time.Parse(layout, s); err == nil {
				return t, nil
			}
		}
	}
	return time.Time{}, &WindowError{fmt.Sprintf("%q is not a time: write it as 2026-03-02T09:00:00Z, or back from now as -2h, -90m, -1d", s)}
}
