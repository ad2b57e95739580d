package collect

import (
	"fmt"
	"time"

	"dowsingrod/core/phrase"
	"dowsingrod/internal/source"
)

// State of a source as the collector sees it.
type State string

// States, from its first moment on.
const (
	Waiting    State = "waiting"       // not asked yet
	FirstWords State = "first minutes" // it answers; the first rate needs a second reading
	Collecting State = "collecting"
	Failing    State = "failing" // its last pass failed
	Paused     State = "paused"
)

// Health is how a source does.
type Health struct {
	State      State          `json:"state" doc:"How it does" enum:"waiting,first minutes,collecting,failing,paused"`
	Words      string         `json:"words" doc:"In words"`
	Try        string         `json:"try,omitempty" doc:"What to do about it"`
	Since      time.Time      `json:"since" doc:"In this state since"`
	Tried      time.Time      `json:"tried" doc:"When it was last asked"`
	Succeeded  time.Time      `json:"succeeded" doc:"When it last answered in full; the zero time where it never did"`
	Next       time.Time      `json:"next" doc:"When it is asked next"`
	Took       float64        `json:"took_s" doc:"Time the last pass took in s"`
	Delay      float64        `json:"delay_s" doc:"Age of the newest reading when it was stored, in s"`
	Failures   int            `json:"failures" doc:"Passes failed one after another"`
	Passes     int64          `json:"passes" doc:"Passes that succeeded"`
	Objects    map[string]int `json:"objects" doc:"Objects it lists, by kind"`
	Series     int            `json:"series" doc:"Series of readings that came with the last pass"`
	Newest     time.Time      `json:"newest" doc:"End of its newest reading; the zero time where it gave none"`
	FirstRate  time.Time      `json:"first_rate" doc:"When the first rate is due, while there is none"`
	Missing    []string       `json:"missing" doc:"What the last pass could not read, in words"`
	Notes      []string       `json:"notes" doc:"Why something is missing, in words"`
	History    []Mishap       `json:"history" doc:"What went wrong lately, newest first"`
	Compared   []Comparison   `json:"compared" doc:"Our figures beside the source's own"`
	ComparedAt time.Time      `json:"compared_at" doc:"When they were last compared"`
}

// Mishap is a stretch of time in which something went wrong.
type Mishap struct {
	From  time.Time `json:"from" doc:"Since"`
	To    time.Time `json:"to" doc:"Until; the zero time while it lasts"`
	Words string    `json:"words" doc:"What went wrong"`
}

// Comparison is a figure of ours beside the source's own.
type Comparison struct {
	What   string  `json:"what" doc:"What is compared"`
	Unit   string  `json:"unit" doc:"Unit of both"`
	Ours   float64 `json:"ours" doc:"As stored here"`
	Theirs float64 `json:"theirs" doc:"As the source says itself"`
	Agrees bool    `json:"agrees" doc:"Whether they agree within 5 %"`
}

// keptMishaps bounds the history.
const keptMishaps = 12

func (h *Health) enter(s State, now time.Time) {
	if h.State != s {
		h.State, h.Since = s, now
	}
}

func (h *Health) fail(now time.Time, err error) {
	what, try := err.Error(), ""
	if t, ok := asTrouble(err); ok {
		what, try = t.What, t.Try
	}
	h.enter(Failing, now)
	h.Failures++
	h.Words, h.Try = what, try
	if n := len(h.History); n > 0 && h.History[0].To.IsZero() && h.History[0].Words == what {
		return
	}
	h.mend(now)
	h.History = append([]Mishap{{From: now, Words: what}}, h.History...)
	h.trim()
}

// mend ends the mishap that lasts.
func (h *Health) mend(now time.Time) {
	if len(h.History) > 0 && h.History[0].To.IsZero() {
		h.History[0].To = now
	}
}

func (h *Health) note(now time.Time, notes []string) {
	h.Notes = append([]string{}, notes...)
	for _, n := range notes {
		if len(h.History) > 0 && h.History[0].Words == n { // it goes on
			h.History[0].To = now
			continue
		}
		h.History = append([]Mishap{{From: now, To: now, Words: n}}, h.History...)
	}
	h.trim()
}

func (h *Health) trim() {
	if len(h.History) > keptMishaps {
		h.History = h.History[:keptMishaps]
	}
}

func asTrouble(err error) (*source.Trouble, bool) {
	for e := err; e != nil; {
		if t, ok := e.(*source.Trouble); ok {
			return t, true
		}
		u, ok := e.(interface{ Unwrap() error })
		if !ok {
			return nil, false
		}
		e = u.Unwrap()
	}
	return nil, false
}

// describe puts a pass that succeeded into words.
func (h *Health) describe(now time.Time, interval time.Duration) {
	total := 0
	for _, n := range h.Objects {
		total += n
	}
	h.Try = ""
	switch {
	case h.Series == 0 && h.Newest.IsZero():
		h.enter(FirstWords, now)
		h.Words = fmt.Sprintf("%s arrived; rates need two readings, the first is due at %s", phrase.Count(total, "object has", "objects have"), h.FirstRate.UTC().Format("15:04:05 UTC"))
	default:
		h.enter(Collecting, now)
		h.Words = fmt.Sprintf("%s, %s every %s", phrase.Count(total, "object", "objects"), phrase.Count(h.Series, "series", "series"), phrase.Span(interval))
	}
	if len(h.Missing) > 0 {
		h.Words += fmt.Sprintf("; %d things could not be read", len(h.Missing))
	}
}
