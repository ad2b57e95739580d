package phrase_test

import (
	"encoding/json"
	"math"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	. "dowsingrod/core/phrase"
)

func TestQuantities(t *testing.T) {
	for got, want := range map[string]string{
		Micros(640): "640 µs", Micros(14_210): "14.2 ms", Micros(1_200_000): "1.20 s", Micros(0.2): "0 µs", Micros(math.NaN()): "–", Micros(999.7): "1.00 ms",
		Bytes(512): "512 B", Bytes(256 << 10): "256 KiB", Bytes(1.5 * (1 << 30)): "1.50 GiB", Bytes(1023): "1.00 KiB", Bytes(math.NaN()): "–",
		Rate(812.4): "812", Rate(1840): "1,840", Rate(20_400): "20.4 k", Rate(6.1e6): "6.10 M", Rate(0): "0", Rate(math.NaN()): "–",
		Percent(0.974): "97 %", Percent(0.051): "5.1 %", Percent(0): "0 %", Percent(0.0001): "<0.1 %", Percent(math.NaN()): "–",
		Span(40 * time.Second): "40 s", Span(46 * time.Minute): "46 min", Span(130 * time.Minute): "2 h 10 min", Span(3 * time.Hour): "3 h",
		Count(1, "VM", "VMs"): "1 VM", Count(41, "VM", "VMs"): "41 VMs", List([]string{"a", "b", "c"}): "a, b and c", List(nil): "", List([]string{"a"}): "a",
	} {
		assert.Equal(t, want, got)
	}
}

func TestASpanNamesItsUnitOnce(t *testing.T) {
	assert.Equal(t, "640 to 990 µs", Between(640, 990))
	assert.Equal(t, "640 µs to 1.20 ms", Between(640, 1200))
	assert.Equal(t, "– to 1.20 ms", Between(math.NaN(), 1200))
	assert.Equal(t, "– to –", Between(math.NaN(), math.NaN()))
}

func TestTextWritesMomentsInTheReadersZone(t *testing.T) {
	at := time.Date(2026, 3, 2, 15, 34, 0, 0, time.UTC)
	assert.Equal(t, "since 16:34.", Text([]Phrase{Say("since "), At(at), Say(".")}, time.FixedZone("x", 3600)))
}

// The console writes the same figures in the same words: its tests hold the same table.
func TestTheSameWordsAsTheConsole(t *testing.T) {
	text, err := os.ReadFile(filepath.Join("..", "..", "console", "src", "model", "format.cases.json"))
	require.NoError(t, err)
	var cases map[string][][2]any
	require.NoError(t, json.Unmarshal(text, &cases))
	write := map[string]func(float64) string{"micros": Micros, "bytes": Bytes, "rate": Rate, "percent": Percent}
	require.Len(t, cases, len(write))
	for name, list := range cases {
		for _, c := range list {
			assert.Equal(t, c[1], write[name](c[0].(float64)), "%s %v", name, c[0])
		}
	}
}

func TestNothingIsCertain(t *testing.T) {
	for confidence, want := range map[float64]string{0: "0 %", 0.29: "29 %", 0.945: "94 %", 0.99: "99 %", 0.995: "99 %", 0.9999: "99 %", 1: "100 %"} {
		assert.Equal(t, want, Sure(confidence))
	}
	assert.Equal(t, "–", Sure(math.NaN()))
}
