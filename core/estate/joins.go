package estate

import (
	"cmp"
	"maps"
	"slices"
)

// Joined counts the links by identity between the objects of one source and those of another.
type Joined struct {
	Kind  LinkKind `json:"link" doc:"What joins them"`
	From  Kind     `json:"from" doc:"Kind of the upper objects"`
	To    Kind     `json:"to" doc:"Kind of the lower objects"`
	With  string   `json:"with" doc:"The other source"`
	Count int      `json:"count" doc:"How many"`
}

// JoinsOf counts the links that Build derived between the objects of a source and those of all others.
func (e *Estate) JoinsOf(source string) []Joined {
	counts := map[Joined]int{}
	for i := range e.All() {
		for _, edge := range *e.out.at(i) {
			if !edge.derived {
				continue
			}
			from, to := e.At(i), e.At(edge.to)
			if from.Key.Source == to.Key.Source || from.Key.Source != source && to.Key.Source != source {
				continue
			}
			with := from.Key.Source
			if with == source {
				with = to.Key.Source
			}
			counts[Joined{Kind: e.words[edge.kind], From: from.Key.Ref.Kind, To: to.Key.Ref.Kind, With: with}]++
		}
	}
	out := make([]Joined, 0, len(counts))
	for j := range maps.Keys(counts) {
		n := counts[j]
		j.Count = n
		out = append(out, j)
	}
	slices.SortFunc(out, func(a, b Joined) int {
		return cmp.Or(cmp.Compare(a.With, b.With), cmp.Compare(a.Kind, b.Kind), cmp.Compare(a.From, b.From), cmp.Compare(a.To, b.To))
	})
	return out
}
