package verdict

import (
	"math"
	"slices"

	"dowsingrod/core/estate"
	"dowsingrod/core/reading"
)

// Standing is how far what is named stands out: the part of the added time it can account for, less half of what its strongest rival can,
// 0–1. It is 0 where nothing is named. Confidence is looked up by it.
func (l *Located) Standing() float64 {
	c := l.chosen()
	if c == nil {
		return 0
	}
	rival := 0.0
	for _, o := range l.causes {
		if o.at != c.at && !l.scene.joined(o.at, c.at) {
			rival = math.Max(rival, math.Min(o.weight, c.weight)) // one that was told too faintly may weigh more
		}
	}
	return c.weight - 0.5*rival
}

// joined reports whether two objects are ends of the same: a link between switches and a port it ends at, or a port and the one it is plugged
// into. What is read at one is read at the other, so neither is the other's rival.
func (x *scene) joined(a, b int32) bool {
	e := x.m.Estate()
	for _, k := range []estate.LinkKind{estate.Joins, estate.Attached} {
		for _, pair := range [][2]int32{{a, b}, {b, a}} {
			if slices.Contains(e.From(pair[0], k), pair[1]) {
				return true
			}
		}
	}
	return false
}

// Sight is how well what is named could be seen.
type Sight string

// Sights.
const (
	Seen     Sight = "seen"      // its own readings speak, and everything else that could be the cause tells of itself
	HalfSeen Sight = "half seen" // its own readings speak, and something else tells nothing
	Told     Sight = "told"      // it tells nothing itself: it was told by who waits
)

// Sight says how well what is named could be seen.
func (l *Located) Sight() Sight {
	switch c := l.chosen(); {
	case c == nil:
		return ""
	case c.told:
		return Told
	}
	for _, i := range l.scene.below {
		if _, may := silent[l.scene.m.Estate().Kind(i)]; may && !l.scene.speaks(i) {
			return HalfSeen
		}
	}
	return Seen
}

// grounds are what a verdict rests on, as far as its being right depends on it: the sight, and whether the component is held to be slower by
// itself, for which nothing speaks but that nobody is seen to ask for more.
type grounds struct {
	sight  Sight
	itself bool
}

// rightly is how often verdicts were right that stand out so far or farther.
type rightly struct{ standing, right float64 }

// measured is how often verdicts were right, class and component, by what they rest on and how far what they name stands out: on incidents of the
// lab with seeds for tuning, as sources report, with gaps, on estates of another shape, and with next to nothing to see (docs/diagnosis.md).
// Neighbours are taken together until they only rise. What stands out least of what was told was measured before such were called unknown.
var measured = map[grounds][]rightly{
	{Seen, false}:     {{0, 0.995}},                                          // 653 of 655
	{Seen, true}:      {{0, 0.995}},                                          // 218 of 218
	{HalfSeen, false}: {{0, 0.88}, {0.75, 0.99}},                             // 258 of 294, 1057 of 1068
	{HalfSeen, true}:  {{0, 0.99}},                                           // 422 of 424
	{Told, false}:     {{0, 0.23}, {0.45, 0.75}, {0.60, 0.94}, {0.90, 0.99}}, // 3 of 13, 80 of 107, 212 of 226, 135 of 135
	{Told, true}:      {{0, 0.04}, {0.55, 0.33}, {0.60, 0.63}, {0.90, 0.94}}, // 1 of 26, 7 of 21, 64 of 102, 50 of 53
}

// likely is the least confidence with which anything is named: what is more likely wrong than right is not known.
const likely = 0.5

// confidence is how often verdicts like this one were right.
func (l *Located) confidence(c Class) reading.Figure {
	right, standing := 0.0, l.Standing()
	for _, step := range measured[grounds{l.Sight(), c == Degraded}] {
		if standing >= step.standing {
			right = step.right
		}
	}
	return reading.Figure(right)
}

// clearedRight is how often "cleared" was right, measured as above.
const clearedRight = 0.995

// wellSeen is the least part of a window that was seen where that was measured; where less is, what was not seen may hold anything.
const wellSeen = 0.7

// clearedBy is how sure it is that the storage is well.
func (l *Located) clearedBy() reading.Figure {
	return reading.Figure(clearedRight * math.Min(1, float64(l.Strata.Coverage)/wellSeen))
}
