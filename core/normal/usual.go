package normal

import (
	"fmt"
	"math"

	"dowsingrod/core/phrase"
	"dowsingrod/core/reading"
)

// Usual is what is usual over a window, cell by cell.
type Usual struct {
	Low   reading.Row `json:"low" doc:"A tenth of usual readings lie below this, per cell"`
	Mid   reading.Row `json:"mid" doc:"Half of them do"`
	High  reading.Row `json:"high" doc:"Nine tenths do"`
	Basis Basis       `json:"basis" doc:"What it rests on" enum:"hour of the week,hour of the day,all hours,nothing"`
	Seen  int         `json:"seen" doc:"Weeks, days or hours, by the basis"`
	Words string      `json:"words" doc:"What it rests on, in words"`
}

// UsualOf puts the bands of a window's cells together. It rests on what the last that is known rests on.
func UsualOf(bands []Band) Usual {
	u := Usual{Low: make(reading.Row, len(bands)), Mid: make(reading.Row, len(bands)), High: make(reading.Row, len(bands)), Basis: Nothing}
	for k, b := range bands {
		u.Low[k], u.Mid[k], u.High[k] = b.Low, b.Mid, b.High
		if !math.IsNaN(b.Mid) || k == 0 {
			u.Basis, u.Seen = b.Basis, b.Seen
		}
	}
	switch u.Basis {
	case HourOfWeek:
		u.Words = fmt.Sprintf("this hour of the week, seen in %s", phrase.Count(u.Seen, "week", "weeks"))
	case HourOfDay:
		u.Words = fmt.Sprintf("this hour of the day, seen on %s; of the week once three weeks were seen", phrase.Count(u.Seen, "day", "days"))
	case All:
		u.Words = fmt.Sprintf("all of %s seen; of the day once three days were", phrase.Count(u.Seen, "hour", "hours"))
	default:
		u.Words = fmt.Sprintf("nothing yet: %s seen, six are needed", phrase.Count(u.Seen, "hour was", "hours were"))
	}
	return u
}

// Better reports whether a band rests on more than another.
func (b Band) Better(than Band) bool {
	rank := map[Basis]int{HourOfWeek: 3, HourOfDay: 2, All: 1}
	if rank[b.Basis] != rank[than.Basis] {
		return rank[b.Basis] > rank[than.Basis]
	}
	return b.Seen > than.Seen
}
