package cli

import (
	"bytes"
	"math"
	"strings"
	"testing"
	"time"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"

	"dowsingrod/core/phrase"
	"dowsingrod/core/reading"
)

var nan = math.NaN()

func TestSparkline(t *testing.T) {
	assert.Equal(t, "▁▅█", sparkline([]float64{0, 5, 10}, 3))
	assert.Equal(t, "█ █", sparkline([]float64{4, nan, 4}, 3), "no reading is a blank, not a low")
	assert.Equal(t, "▁▁", sparkline([]float64{0, 0}, 2))
	assert.Equal(t, "    ", sparkline([]float64{nan, nan}, 4))
	assert.Equal(t, "    ", sparkline(nil, 4))
	for n := 1; n < 60; n++ {
		assert.Equal(t, n, utf8.RuneCountInString(sparkline([]float64{1, 2, 3, 4, 5}, n)))
	}
}

func TestResampleKeepsTheMean(t *testing.T) {
	values := make([]float64, 360)
	for i := range values {
		values[i] = float64(i)
	}
	var sum float64
	for _, v := range resample(values, 40) {
		sum += v
	}
	assert.InDelta(t, 179.5, sum/40, 1e-9)
	assert.True(t, math.IsNaN(resample([]float64{nan, nan}, 1)[0]))
}

func TestBar(t *testing.T) {
	assert.Equal(t, "████", bar(1, 4))
	assert.Equal(t, "██", bar(0.5, 4))
	assert.Equal(t, "▌", bar(0.125, 4))
	assert.Equal(t, "", bar(0, 4))
	assert.Equal(t, "", bar(nan, 4))
	assert.Equal(t, "████", bar(7, 4))
}

func TestTablesFit(t *testing.T) {
	var out bytes.Buffer
	a := &App{Out: &out}
	long := table{heads: []string{"name", ">count", "what"}}
	long.add("short", "1", strings.Repeat("very long words ", 20))
	long.add(strings.Repeat("n", 80), "12,345", "x")
	a.print(long)
	lines := strings.Split(strings.TrimRight(out.String(), "\n"), "\n")
	assert.Len(t, lines, 3)
	for _, l := range lines {
		assert.LessOrEqual(t, utf8.RuneCountInString(l), width)
	}
	assert.Contains(t, lines[1], "…")
	assert.Contains(t, lines[0], " count", "right headings stand over their figures")
	out.Reset()
	a.print(table{heads: []string{"a"}})
	assert.Equal(t, "a\n", out.String())
}

func TestStatementsWrapWithoutBreakingWords(t *testing.T) {
	var out bytes.Buffer
	a := &App{Out: &out, color: true}
	var phrases []phrase.Phrase
	for range 30 {
		phrases = append(phrases, phrase.Say("some plain words "), phrase.Phrase{Text: "and bad ones", Tone: phrase.Bad}, phrase.Phrase{Text: ", and strong. ", Tone: phrase.Strong})
	}
	a.say(phrases)
	text := out.String()
	for _, l := range strings.Split(text, "\n") {
		assert.LessOrEqual(t, visible(l), width)
	}
	plain := &bytes.Buffer{}
	(&App{Out: plain}).say(phrases)
	assert.Equal(t, strings.Repeat("some plain words and bad ones, and strong. ", 30), strings.Join(strings.Fields(plain.String()), " ")+" ")
	assert.Contains(t, text, "\x1b[38;5;162m")
}

func TestVisibleCountsWhatTakesRoom(t *testing.T) {
	assert.Equal(t, 2, visible("\x1b[38;5;12m▌a\x1b[0m"))
	assert.Equal(t, 0, visible(""))
	assert.Equal(t, "abc", cut("abc", 3))
	assert.Equal(t, "ab…", cut("abcd", 3))
}

func TestSignedAndQuantities(t *testing.T) {
	assert.Equal(t, "+12.4 ms", signed(12_400))
	assert.Equal(t, "−640 µs", signed(-640))
	assert.Equal(t, "0 µs", signed(0.9))
	assert.Equal(t, "–", signed(nan))
	assert.Equal(t, "1.00 KiB/s", quantity(reading.BytesPerSecond, 1024))
	assert.Equal(t, "97 %", quantity(reading.SharePart, 0.97))
	assert.Equal(t, "812/s", quantity(reading.PerSecond, 812))
	assert.Equal(t, "–", quantity(reading.Microseconds, nan))
	assert.Equal(t, "4", fact("vcpus", 4.0))
	assert.Equal(t, "16.0 GiB", fact("memory_bytes", float64(16<<30)))
	assert.Equal(t, "a, b", fact("extents", []any{"a", "b"}))
}

func TestClockLineSpansItsChart(t *testing.T) {
	from := time.Date(2026, 3, 2, 14, 20, 0, 0, time.Local)
	line := clockLine(from, 2*time.Hour, 56)
	assert.Equal(t, 56, utf8.RuneCountInString(line))
	assert.True(t, strings.HasPrefix(line, "14:20"))
	assert.True(t, strings.HasSuffix(line, "16:20"))
	assert.Contains(t, line, "15:20")
	assert.Contains(t, clockLine(from, 24*time.Hour, 56), "Mon")
}

func TestGreatest(t *testing.T) {
	assert.InDelta(t, 3, greatest([]float64{nan, 3, 1}), 0)
	assert.True(t, math.IsNaN(greatest(nil)))
}
