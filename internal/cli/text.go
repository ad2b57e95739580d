package cli

import (
	"fmt"
	"io"
	"math"
	"os"
	"strings"
	"time"
	"unicode/utf8"

	"golang.org/x/term"

	"dowsingrod/core/estate"
	"dowsingrod/core/phrase"
)

// width is what all output fits into.
const width = 100

func isTerminal(w io.Writer) bool {
	f, ok := w.(*os.File)
	return ok && term.IsTerminal(int(f.Fd()))
}

// Colours of 256-colour terminals: the console's earth and water tones, and its two alarms.
var layerColor = map[estate.Layer]int{estate.LayerGuest: 152, estate.LayerHost: 110, estate.LayerDatastore: 66,
	estate.LayerFabric: 180, estate.LayerFrontEnd: 137, estate.LayerBackEnd: 95,
	estate.LayerAboveArray: 109, estate.LayerInArray: 131}

const (
	ochre   = 172
	magenta = 162
	quiet   = 245
)

func (a *App) paint(color int, s string) string {
	if !a.color || s == "" {
		return s
	}
	return fmt.Sprintf("\x1b[38;5;%dm%s\x1b[0m", color, s)
}

func (a *App) bold(s string) string {
	if !a.color {
		return s
	}
	return "\x1b[1m" + s + "\x1b[0m"
}

// say prints a statement, wrapped, its tones as colours.
func (a *App) say(phrases []phrase.Phrase) {
	var words []string // with their colour
	for _, p := range phrases {
		text := phrase.Text([]phrase.Phrase{p}, time.Local)
		for k, w := range strings.SplitAfter(text, " ") {
			if w == "" {
				continue
			}
			painted := w
			switch p.Tone {
			case phrase.Bad:
				painted = a.paint(magenta, w)
			case phrase.Strong, phrase.Good:
				painted = a.bold(w)
			}
			if k == 0 && len(words) > 0 && !strings.HasSuffix(words[len(words)-1], " ") && !strings.HasSuffix(words[len(words)-1], " \x1b[0m") {
				words[len(words)-1] += painted
				continue
			}
			words = append(words, painted)
		}
	}
	line, col := "", 0
	for _, w := range words {
		n := visible(strings.TrimRight(w, " "))
		if col > 0 && col+n > width {
			fmt.Fprintln(a.Out, strings.TrimRight(line, " "))
			line, col = "", 0
		}
		line += w
		col += visible(w)
	}
	fmt.Fprintln(a.Out, strings.TrimRight(line, " "))
}

// visible counts the characters of s that take room.
func visible(s string) int {
	n, escape := 0, false
	for _, r := range s {
		switch {
		case r == '\x1b':
			escape = true
		case escape:
			escape = r != 'm'
		default:
			n++
		}
	}
	return n
}

// table prints rows under headings, each column as wide as needed, the widest cut so that all fits.
// A heading that begins with > is set to the right.
type table struct {
	heads []string
	rows  [][]string
}

func (t *table) add(cells ...string) { t.rows = append(t.rows, cells) }

func (a *App) print(t table) {
	widths := make([]int, len(t.heads))
	right := make([]bool, len(t.heads))
	for i, h := range t.heads {
		if right[i] = strings.HasPrefix(h, ">"); right[i] {
			t.heads[i] = h[1:]
		}
		widths[i] = utf8.RuneCountInString(t.heads[i])
		for _, r := range t.rows {
			widths[i] = max(widths[i], visible(r[i]))
		}
	}
	for total(widths) > width {
		widest := 0
		for i, w := range widths {
			if w > widths[widest] {
				widest = i
			}
		}
		widths[widest]--
	}
	line := func(cells []string, style func(string) string) {
		var b strings.Builder
		for i, c := range cells {
			c = cut(c, widths[i])
			pad := strings.Repeat(" ", widths[i]-visible(c))
			if i > 0 {
				b.WriteString("  ")
			}
			if right[i] {
				b.WriteString(pad + style(c))
			} else {
				b.WriteString(style(c) + pad)
			}
		}
		fmt.Fprintln(a.Out, strings.TrimRight(b.String(), " "))
	}
	line(t.heads, func(s string) string { return a.paint(quiet, s) })
	for _, r := range t.rows {
		line(r, func(s string) string { return s })
	}
}

func total(widths []int) int {
	n := 2 * (len(widths) - 1)
	for _, w := range widths {
		n += w
	}
	return n
}

// cut shortens s to n characters, with an ellipsis. Painted text is left as it is.
func cut(s string, n int) string {
	if visible(s) <= n || strings.Contains(s, "\x1b") {
		return s
	}
	r := []rune(s)
	return string(r[:max(0, n-1)]) + "…"
}

var ticks = []rune("▁▂▃▄▅▆▇█")

// sparkline draws values in n characters, from zero to the greatest; a blank is no reading.
func sparkline(values []float64, n int) string {
	top := 0.0
	cells := resample(values, n)
	for _, v := range cells {
		if v > top {
			top = v
		}
	}
	var b strings.Builder
	for _, v := range cells {
		switch {
		case math.IsNaN(v):
			b.WriteRune(' ')
		case top == 0:
			b.WriteRune(ticks[0])
		default:
			b.WriteRune(ticks[min(len(ticks)-1, int(v/top*float64(len(ticks))))])
		}
	}
	return b.String()
}

// resample averages values into n cells.
func resample(values []float64, n int) []float64 {
	out := make([]float64, n)
	for i := range out {
		lo, hi := i*len(values)/n, max(i*len(values)/n+1, (i+1)*len(values)/n)
		sum, known := 0.0, 0
		for _, v := range values[min(lo, len(values)):min(hi, len(values))] {
			if !math.IsNaN(v) {
				sum += v
				known++
			}
		}
		out[i] = sum / float64(known)
	}
	return out
}

func greatest(values []float64) float64 {
	top := math.NaN()
	for _, v := range values {
		if math.IsNaN(top) || v > top {
			top = v
		}
	}
	return top
}

// clockLine writes the start, the middle and the end of a window under n characters.
func clockLine(from time.Time, span time.Duration, n int) string {
	layout := "15:04"
	if span > 20*time.Hour {
		layout = "Mon 15:04"
	}
	at := func(f float64) string {
		return from.Add(time.Duration(f * float64(span))).Local().Format(layout)
	}
	l, m, r := at(0), at(0.5), at(1)
	gap := n - len(l) - len(m) - len(r)
	return l + strings.Repeat(" ", gap/2) + m + strings.Repeat(" ", gap-gap/2) + r
}

// bar draws a share of 0–1 in n characters.
func bar(share float64, n int) string {
	if !(share > 0) {
		return ""
	}
	eighths := int(math.Round(math.Min(1, share) * float64(n) * 8))
	s := strings.Repeat("█", eighths/8)
	if part := eighths % 8; part > 0 {
		s += string([]rune("▏▎▍▌▋▊▉")[part-1])
	}
	return s
}
