package route

import "dowsingrod/core/estate"

// Web is a part of the map as a plain graph: objects, and who depends on whom.
type Web struct {
	Focus string `json:"focus" doc:"The object it is of, kind:id@source"`
	Nodes []Node `json:"nodes" doc:"Objects or groups of them, upper ones first"`
	Links []Link `json:"links" doc:"From what depends to what it depends on, or from the upper to the lower"`
	More  int    `json:"more" doc:"Objects left out because there are too many"`
}

// Web returns the section as a plain graph.
func (s *Section) Web() Web { return Web{Focus: s.Focus, Nodes: s.Nodes, Links: s.Links} }

// ReachWeb returns all that depends on i, and how, as a plain graph of at most so many objects, nearest first.
func (m *Map) ReachWeb(i int32, most int) Web {
	w := Web{Focus: m.e.At(i).Key.String(), Nodes: []Node{}, Links: []Link{}}
	index := map[int32]int{i: 0}
	at := []int32{i}
	for _, r := range m.Reach(i) {
		if len(at) >= most {
			w.More++
			continue
		}
		index[r.At] = len(at)
		at = append(at, r.At)
	}
	c := &cutter{Map: m, of: make([]int32, m.e.Len())}
	for _, o := range at {
		k := m.e.Kind(o)
		c.put(o, k.Layer(), rowOf(k))
		w.Nodes = append(w.Nodes, c.describe(o))
	}
	for _, from := range at {
		seen := map[int]bool{}
		m.down(from, func(to int32, s State) {
			if k, ok := index[to]; ok && !seen[k] && m.e.Kind(to) != estate.Site {
				seen[k] = true
				w.Links = append(w.Links, Link{index[from], k, s, 1})
			}
		})
	}
	return w
}
