// Package phrase makes the sentence one would say on the phone: words with figures, each part of
// which can lead to its evidence. API, CLI and console render the same phrases.
package phrase

import (
	"fmt"
	"math"
	"strings"
	"time"
)

// Tone says how a phrase is to be set.
type Tone string

// Tones.
const (
	Plain  Tone = "plain"
	Strong Tone = "strong"
	Bad    Tone = "bad"
	Good   Tone = "good"
)

// Phrase is a part of a sentence.
type Phrase struct {
	Text string `json:"text" doc:"The words, with their own spaces"`
	Tone Tone   `json:"tone" doc:"How it is set" enum:"plain,strong,bad,good"`
	Ref  string `json:"ref,omitempty" doc:"The object it speaks of, kind:id@source; the number of an incident"`
	Page string `json:"page,omitempty" doc:"The page that holds its evidence" enum:"section,strata,suspects,incident"`
	// Time is set for a phrase that is a moment: it is written after Text, in the reader's time zone.
	Time *time.Time `json:"time,omitempty" doc:"A moment, to be written after the text in the reader's time zone"`
}

// At makes a phrase of a moment.
func At(t time.Time) Phrase { return Phrase{Tone: Plain, Time: &t} }

// Text joins phrases to plain text, moments as hours and minutes in loc.
func Text(phrases []Phrase, loc *time.Location) string {
	var b strings.Builder
	for _, p := range phrases {
		b.WriteString(p.Text)
		if p.Time != nil {
			b.WriteString(p.Time.In(loc).Format("15:04"))
		}
	}
	return b.String()
}

// Say makes a plain phrase.
func Say(format string, args ...any) Phrase {
	return Phrase{Text: fmt.Sprintf(format, args...), Tone: Plain}
}

// Micros writes a time given in µs with three significant digits: 640 µs, 14.2 ms, 1.20 s; "–" for NaN.
func Micros(us float64) string {
	switch a := math.Abs(us); {
	case math.IsNaN(us):
		return "–"
	case a < 999.5 && a >= 0.9995:
		return digits(us) + " µs"
	case a < 1:
		return "0 µs"
	case a < 999.5e3:
		return digits(us/1e3) + " ms"
	default:
		return digits(us/1e6) + " s"
	}
}

// Between writes a span of times in µs, with their unit once where it is the same: 0.90 to 1.40 ms.
func Between(low, high float64) string {
	a, b := Micros(low), Micros(high)
	figure, unit, ok := strings.Cut(a, " ")
	if _, other, _ := strings.Cut(b, " "); ok && unit == other {
		return figure + " to " + b
	}
	return a + " to " + b
}

// Sure writes a confidence of 0–1, never as more than it is: 99.5 % is 99 %, for nothing is certain. "–" for NaN.
func Sure(confidence float64) string {
	if math.IsNaN(confidence) {
		return "–"
	}
	return fmt.Sprintf("%d %%", int(confidence*100+1e-9))
}

// Bytes writes bytes with IEC prefixes and three significant digits; "–" for NaN.
func Bytes(n float64) string {
	if math.IsNaN(n) {
		return "–"
	}
	units := []string{"B", "KiB", "MiB", "GiB", "TiB", "PiB"}
	k := 0
	for math.Abs(n) >= 999.5 && k < len(units)-1 {
		n, k = n/1024, k+1
	}
	return digits(n) + " " + units[k]
}

// Rate writes a rate in 1/s: 812, 1,840, 20.4 k; "–" for NaN.
func Rate(n float64) string {
	switch a := math.Abs(n); {
	case math.IsNaN(n):
		return "–"
	case a < 999.5:
		return digits(n)
	case a < 9999.5:
		s := fmt.Sprintf("%.0f", n)
		return s[:len(s)-3] + "," + s[len(s)-3:]
	case a < 999.5e3:
		return digits(n/1e3) + " k"
	default:
		return digits(n/1e6) + " M"
	}
}

// Percent writes a share of 0–1 as a percentage; "–" for NaN.
func Percent(share float64) string {
	switch p := share * 100; {
	case math.IsNaN(p):
		return "–"
	case math.Abs(p) >= 9.95 || p == 0:
		return fmt.Sprintf("%.0f %%", p)
	case math.Abs(p) < 0.05:
		return "<0.1 %"
	default:
		return fmt.Sprintf("%.1f %%", p)
	}
}

// Span writes a length of time in words: 40 s, 46 min, 2 h 10 min.
func Span(d time.Duration) string {
	switch d = d.Round(time.Second); {
	case d < 2*time.Minute:
		return fmt.Sprintf("%d s", int(d.Seconds()))
	case d < 2*time.Hour:
		return fmt.Sprintf("%d min", int(d.Minutes()))
	case int(d.Minutes())%60 == 0:
		return fmt.Sprintf("%d h", int(d.Hours()))
	default:
		return fmt.Sprintf("%d h %d min", int(d.Hours()), int(d.Minutes())%60)
	}
}

// Count writes a count with its noun: 1 VM, 41 VMs.
func Count(n int, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %s", n, many)
}

// List joins words as in speech: "a, b and c".
func List(words []string) string {
	switch len(words) {
	case 0:
		return ""
	case 1:
		return words[0]
	}
	return strings.Join(words[:len(words)-1], ", ") + " and " + words[len(words)-1]
}

// digits writes n with three significant digits, and as many as it has where it is larger.
func digits(n float64) string {
	switch a := math.Abs(n); {
	case a < 1e-9:
		return "0"
	case a < 0.995:
		return fmt.Sprintf("%.2f", n)
	case a < 9.995:
		return fmt.Sprintf("%.2f", n)
	case a < 99.95:
		return fmt.Sprintf("%.1f", n)
	default:
		return fmt.Sprintf("%.0f", n)
	}
}
