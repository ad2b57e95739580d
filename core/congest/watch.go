package congest

import (
	"math"
	"math/bits"
	"time"

	"dowsingrod/core/estate"
	"dowsingrod/core/reading"
)

// A stretch past a limit begins when a fifth of the last cells was past it, and is over when none of the last five was. One cell is
// chance, and what comes and goes within minutes is one stretch.
const (
	remembered = 10 // cells
	beginsAt   = 3  // of them past the limit
	calmAfter  = 5  // cells on end that are not
)

// Stretch is a time in which an object was past a limit.
type Stretch struct {
	Of     estate.Key
	Limit  Limit // as it was then
	Level  Condition
	From   time.Time
	To     time.Time // end of the last cell past the limit
	Worst  float64
	Ended  bool
	Broken bool // it ended because readings did
}

// judged is what is remembered of one limit of one object: 40 bytes.
type judged struct {
	strained, failing float32 // the level, +Inf for never
	past, worse       uint16  // the last cells, newest in bit 0
	worst             float32
	since, last       int64 // Unix seconds: first and end of last cell past the limit
	unknown           uint8 // cells on end
	level             uint8 // 0 none, 1 strained, 2 failing
}

// Watch judges every object of an estate cell by cell, as readings come in. It is for one goroutine.
type Watch struct {
	rows  []judged
	limit []Limit
	of    []estate.Key
	start map[estate.Key]int32 // first row of an object
}

// NewWatch returns a watch of all objects of an estate that have limits. What an earlier watch remembered of them is kept, where their
// limits are the same; it may be nil.
func NewWatch(b *Book, e *estate.Estate, earlier *Watch) *Watch {
	w := &Watch{start: make(map[estate.Key]int32, e.Len())}
	for i := range int32(e.Len()) {
		limits := b.Of(e, i)
		if len(limits) == 0 {
			continue
		}
		key := e.At(i).Key
		first := int32(len(w.rows))
		w.start[key] = first
		for _, l := range limits {
			row := judged{strained: level(l.Strained), failing: level(l.Failing)}
			if earlier != nil {
				if old, ok := earlier.row(key, l.Metric); ok && old.strained == row.strained && old.failing == row.failing {
					row = old
				}
			}
			w.rows, w.limit, w.of = append(w.rows, row), append(w.limit, l), append(w.of, key)
		}
	}
	return w
}

func level(f reading.Figure) float32 {
	if !f.Known() {
		return float32(math.Inf(1))
	}
	return float32(f)
}

func (w *Watch) row(key estate.Key, metric string) (judged, bool) {
	first, ok := w.start[key]
	for k := first; ok && int(k) < len(w.rows) && w.of[k] == key; k++ {
		if w.limit[k].Metric == metric {
			return w.rows[k], true
		}
	}
	return judged{}, false
}

// Len is how many limits are watched, and Row what the k-th is: an object and its limit. Rows of an object follow each other.
func (w *Watch) Len() int { return len(w.rows) }

// Row returns the object and the limit of a row.
func (w *Watch) Row(k int) (estate.Key, Limit) { return w.of[k], w.limit[k] }

// Observe takes the figures of a cell that begins at t, one for each row, NaN where not known, and returns the stretches that began, got
// worse, or ended with it.
func (w *Watch) Observe(t time.Time, cell time.Duration, figures []float64) (changed []Stretch) {
	from, to := t.Unix(), t.Add(cell).Unix()
	for k := range w.rows {
		if w.rows[k].observe(from, to, figures[k]) {
			changed = append(changed, w.stretch(k))
			if w.rows[k].level == 0 {
				w.rows[k].worst, w.rows[k].since = 0, 0
			}
		}
	}
	return changed
}

// Open lists the stretches that last.
func (w *Watch) Open() (open []Stretch) {
	for k := range w.rows {
		if w.rows[k].level > 0 {
			open = append(open, w.stretch(k))
		}
	}
	return open
}

func (w *Watch) stretch(k int) Stretch {
	r := &w.rows[k]
	s := Stretch{Of: w.of[k], Limit: w.limit[k], Level: Strained, From: time.Unix(r.since, 0).UTC(), To: time.Unix(r.last, 0).UTC(), Worst: float64(r.worst),
		Ended: r.level == 0, Broken: r.unknown >= remembered}
	if r.level == 2 || s.Ended && r.worst > r.failing {
		s.Level = Failing
	}
	return s
}

// observe reports whether a stretch began, got worse, or ended.
func (r *judged) observe(from, to int64, v float64) bool {
	if math.IsNaN(v) {
		if r.unknown < 250 {
			r.unknown++
		}
		if r.unknown == remembered && r.level > 0 { // nobody knows what it is now
			r.level, r.past, r.worse = 0, 0, 0
			return true
		}
		return false
	}
	f := float32(v)
	r.unknown = 0
	if fell := r.past>>(remembered-1)&1 == 1; fell && r.level == 0 {
		// The first of them is too long ago to count: it begins with the next that is remembered.
		if rest := r.past &^ (1 << (remembered - 1)); rest != 0 {
			r.since = from - int64(bits.Len16(rest))*(to-from)
		}
	}
	r.past, r.worse = r.past<<1&(1<<remembered-1), r.worse<<1&(1<<remembered-1)
	if f > r.strained {
		if r.past == 0 && r.level == 0 {
			r.since, r.worst = from, 0
		}
		r.past |= 1
		r.last = to
		r.worst = max(r.worst, f)
		if f > r.failing {
			r.worse |= 1
		}
	}
	was := r.level
	if r.level == 0 && bits.OnesCount16(r.past) >= beginsAt {
		r.level = 1
	}
	if r.level == 1 && bits.OnesCount16(r.worse) >= beginsAt {
		r.level = 2
	}
	if r.level > 0 && r.past&(1<<calmAfter-1) == 0 {
		r.level, r.past, r.worse = 0, 0, 0
	}
	return r.level != was
}

// Adopt goes on with stretches that were open when another watch ended: they began when they began. It returns those that are not open
// any more.
func (w *Watch) Adopt(open []Stretch) (over []Stretch) {
	for _, s := range open {
		first, ok := w.start[s.Of]
		found := false
		for k := first; ok && int(k) < len(w.rows) && w.of[k] == s.Of; k++ {
			if r := &w.rows[k]; w.limit[k].Metric == s.Limit.Metric && r.level > 0 {
				found = true
				r.since = min(r.since, s.From.Unix())
				r.worst = max(r.worst, float32(s.Worst))
				if s.Level == Failing {
					r.level = 2
				}
			}
		}
		if !found {
			over = append(over, s)
		}
	}
	return over
}
