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
// lab with seeds for tuning, as sources report, with gaps, on estates of another shape, and with next to nothing to see, of which layers are
// silent in every choice in turn: 34,799 verdicts on 4,150 incidents (docs/diagnosis.md). Neighbours are taken together until they only rise.
// What stands out least of what was told was measured before such were called unknown.
var measured = map[grounds][]rightly{
	{Seen, false}:     {{0, 0.98}, {0.44, 0.993}, {0.925, 0.995}},                                           // 157 of 160, 1748 of 1760, 2194 of 2194
	{Seen, true}:      {{0, 0.995}},                                                                         // 1338 of 1338
	{HalfSeen, false}: {{0, 0.89}, {0.78, 0.97}, {0.84, 0.988}, {0.93, 0.995}},                              // 3854 of 4320, 931 of 960, 3163 of 3200, 8170 of 8209
	{HalfSeen, true}:  {{0, 0.90}, {0.47, 0.975}, {0.74, 0.995}},                                            // 72 of 80, 312 of 320, 4983 of 4987
	{Told, false}:     {{0, 0.23}, {0.45, 0.77}, {0.60, 0.875}, {0.845, 0.95}, {0.89, 0.97}, {0.97, 0.995}}, // 3 of 13, 925 of 1200, 1611 of 1840, 758 of 800, 854 of 880, 833 of 833
	{Told, true}:      {{0, 0.04}, {0.55, 0.33}, {0.60, 0.62}, {0.83, 0.86}, {0.91, 0.96}},                  // 1 of 26, 7 of 21, 596 of 960, 276 of 320, 420 of 438
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

// clearedRight is how often "cleared" was right, measured as above (all of 3,805); nothing is certain.
const clearedRight = 0.995

// wellSeen is the least part of a window that was seen where that was measured; where less is, what was not seen may hold anything.
const wellSeen = 0.7

// clearedBy is how sure it is that the storage is well.
func (l *Located) clearedBy() reading.Figure {
	return reading.Figure(clearedRight * math.Min(1, float64(l.Strata.Coverage)/wellSeen))
}
