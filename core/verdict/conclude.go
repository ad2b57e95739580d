package verdict

import (
	"cmp"
	"math"
	"slices"
	"strings"
	"time"

	"dowsingrod/core/congest"
	"dowsingrod/core/estate"
	"dowsingrod/core/reading"
	"dowsingrod/core/strata"
	"dowsingrod/core/suspect"
)

// Conclude adds the comparison of the component's tenants, nil where there was none to make.
func (l *Located) Conclude(tenants *suspect.Suspects) Explanation {
	s := &l.Strata
	out := Explanation{Subject: s.Of, Name: s.Name, Kind: s.Kind, From: s.From, To: l.in.Grid.End(), Step: s.Step, Usual: reading.Missing, During: reading.Missing,
		Layers: layersOf(s), Evidence: []Evidence{}, Suspects: []Accused{}, Sufferers: []Sufferer{}, Cleared: []Ground{}, Unseen: slices.Clone(s.Notes), Settle: []string{}, Helps: []string{}}
	for _, c := range s.Conflicts {
		out.Unseen = append(out.Unseen, c.Words)
	}
	if out.Unseen == nil {
		out.Unseen = []string{}
	}
	if ch := s.Change; ch != nil {
		out.Onset, out.Direction, out.Usual, out.During = &ch.From, ch.Direction, ch.Usual, ch.During
		if !ch.Persists {
			out.Until = &ch.To
		}
	}
	c := l.chosen()
	if c != nil {
		out.Evidence = append(out.Evidence, c.signs...)
	}
	for k := range l.causes {
		if o := &l.causes[k]; o != c {
			out.Evidence = append(out.Evidence, o.signs...)
		}
	}
	l.judge(&out, tenants)
	l.trace(&out)
	l.clear(&out)
	l.word(&out, tenants)
	return out
}

// layersOf lists what every layer takes of a read and a write.
func layersOf(s *strata.Strata) []LayerTimes {
	var out []LayerTimes
	at := map[estate.Layer]int{}
	for n, d := range []*strata.Direction{&s.Read, &s.Write} {
		for _, b := range d.Bands {
			k, ok := at[b.Layer]
			if !ok {
				k = len(out)
				at[b.Layer] = k
				out = append(out, LayerTimes{b.Layer, reading.Missing, reading.Missing, reading.Missing})
			}
			v := b.Mean
			if s.Change != nil {
				v = b.During
			}
			if n == 0 {
				out[k].Read = v
			} else {
				out[k].Write = v
			}
		}
	}
	if s.Change == nil {
		return out
	}
	// Per I/O of both directions together: weighted by what each direction did while it hurt.
	weight := [2]float64{}
	for n, d := range []*strata.Direction{&s.Read, &s.Write} {
		i, j := cellsOf(s)
		if r := reading.MeanOver(d.IOPS, i, j); r > 0 {
			weight[n] = r
		}
	}
	for k := range out {
		sum, known := 0.0, false
		for n, d := range []*strata.Direction{&s.Read, &s.Write} {
			for _, b := range d.Bands {
				if b.Layer == out[k].Layer && b.Added.Known() {
					sum, known = sum+float64(b.Added)*weight[n], true
				}
			}
		}
		if known && weight[0]+weight[1] > 0 {
			out[k].Added = reading.Figure(sum / (weight[0] + weight[1]))
		}
	}
	return out
}

// judge decides the class, whom to accuse, and how sure that is.
func (l *Located) judge(out *Explanation, tenants *suspect.Suspects) {
	s := &l.Strata
	v := &out.Verdict
	c := l.chosen()
	switch {
	case s.Change == nil && s.Verdict == strata.Cleared:
		v.Class, v.Confidence = Cleared, l.clearedBy()
		return
	case s.Change == nil:
		v.Class, v.Confidence = Unknown, 0
		return
	case c == nil:
		v.Class, v.Confidence = Unknown, 0
		return
	}
	x := l.scene
	v.Component = &Component{x.m.Estate().At(c.at).Key.String(), x.m.FullName(c.at), x.m.Estate().Kind(c.at)}
	if tenants != nil {
		out.Outcome = tenants.Outcome
		l.list(out, tenants)
	}
	v.Class = l.class(c, tenants, out)
	if v.Confidence = l.confidence(v.Class); v.Confidence < likely {
		v.Class, v.Component, v.Confidence = Unknown, nil, 0
		for k := range out.Suspects {
			out.Suspects[k].Accused = false
		}
	}
}

// class is what kind of cause it is.
func (l *Located) class(c *cause, tenants *suspect.Suspects, out *Explanation) Class {
	x := l.scene
	switch c.way {
	case slowTaking:
		return SlowReceiver
	case erring, broken, uncached:
		return Degraded
	case longer:
		return SiteLink
	case lopsided:
		return Path
	case limited:
		before, now, _ := x.fact(c.at, "iops_limit")
		if kindOf(x, c) == estate.VDisk || math.IsNaN(before) || now < before {
			return Limit // it was set or lowered: nobody asked for more
		}
		if class, ok := l.accuse(c, tenants, out); ok {
			return class
		}
		return Limit
	case queued:
		if before, now, ok := x.fact(c.at, "queue_depth"); ok && now < before {
			return HostQueue
		}
		if class, ok := l.accuse(c, tenants, out); ok {
			return class
		}
		return HostQueue
	}
	if class, ok := l.moving(c, out); ok {
		return class
	}
	if l.asked(c, tenants) {
		if class, ok := l.accuse(c, tenants, out); ok {
			return class
		}
		if tenants.Outcome == suspect.Everybody {
			return crowdOrGrowth(tenants)
		}
	}
	if class, ok := l.copied(c, out); ok {
		return class
	}
	if l.saturated(c, tenants) {
		return crowdOrGrowth(tenants)
	}
	if l.diverted(c, tenants) {
		return Path
	}
	return Degraded
}

// diverted reports whether a line carries more though nobody asks for more. A line takes as long for a byte as its speed says, so it cannot
// have become slower by itself: what it carries comes by it instead of by another way.
func (l *Located) diverted(c *cause, tenants *suspect.Suspects) bool {
	if c.way != loaded || c.told || tenants == nil || tenants.Outcome != suspect.Itself {
		return false
	}
	switch kindOf(l.scene, c) {
	case estate.HBAPort, estate.SwitchPort, estate.TargetPort, estate.ISL:
		before, now, _ := l.scene.fact(c.at, "speed_bytes_s")
		return !(now < before) // it was not set slower
	}
	return false
}

// asked reports whether a component is busier because it is asked for more, and not because each I/O holds it longer. By the utilization
// law busy = demand × service, so what it became busier by is the product of what both became more by; the larger factor is the reason.
func (l *Located) asked(c *cause, tenants *suspect.Suspects) bool {
	if tenants == nil {
		return false
	}
	demand := float64(tenants.Demand.During) / float64(tenants.Demand.Before)
	var busy float64
	for _, s := range c.signs {
		if s.Metric == "busy_share" || s.Metric == congest.Utilization {
			busy = float64(s.During) / float64(s.Before)
			break
		}
	}
	if !(busy > 0) || math.IsNaN(demand) || math.IsInf(busy, 0) {
		return true // nothing says otherwise
	}
	return demand*demand >= busy
}

// saturated reports whether a component takes no longer for an I/O than before and has no time left: then what is completed cannot grow, but
// what is asked for did.
func (l *Located) saturated(c *cause, tenants *suspect.Suspects) bool {
	if tenants == nil || c.way != loaded {
		return false
	}
	for _, s := range c.signs {
		if s.Metric == "busy_share" || s.Metric == congest.Utilization {
			service := float64(s.During/s.Before) / float64(tenants.Demand.During/tenants.Demand.Before)
			return s.During > 0.95 && service < 1.15 // readings and prices err by less
		}
	}
	return false
}

// accuse accuses those whose demand it was. It reports false where it was nobody's.
func (l *Located) accuse(c *cause, tenants *suspect.Suspects, out *Explanation) (Class, bool) {
	if tenants == nil || tenants.Outcome != suspect.Culprit && tenants.Outcome != suspect.Several {
		return "", false
	}
	if c.told {
		// Which component it is was told by who waits. Whoever's own I/Os are no slower does not use it much, whatever else it does.
		for _, t := range tenants.Tenants {
			if t.Role == suspect.Suspect && !(t.TimePair.During >= 1.1*t.TimePair.Before) {
				return "", false
			}
		}
	}
	others := false
	for k := range out.Suspects {
		for _, t := range tenants.Tenants {
			if t.Ref == out.Suspects[k].Ref && t.Role == suspect.Suspect {
				out.Suspects[k].Accused = true
			}
			others = others || t.Role == suspect.Sufferer
		}
	}
	if len(tenants.Tenants) == 1 || !others && out.Suspects[0].Accused && out.Suspects[0].Ref == out.Subject {
		return OwnDemand, true
	}
	return NoisyNeighbour, true
}

// list takes over the tenants: suspects by their part, sufferers by harm.
func (l *Located) list(out *Explanation, tenants *suspect.Suspects) {
	for _, t := range tenants.Tenants {
		out.Suspects = append(out.Suspects, Accused{Ref: t.Ref, Name: t.Name, Tier: t.Tier, Application: t.Application, Score: t.Share, Onset: t.Onset, Evidence: t.Why})
		if t.Role == suspect.Sufferer {
			out.Sufferers = append(out.Sufferers, Sufferer{t.Ref, t.Name, t.Tier, t.Application, t.TimePair.During - t.TimePair.Before, t.IOPSPair.Before - t.IOPSPair.During})
		}
	}
	slices.SortStableFunc(out.Suspects, func(a, b Accused) int { return -compare(a.Score, b.Score) })
	slices.SortStableFunc(out.Sufferers, func(a, b Sufferer) int { return cmp.Or(byTier(a.Tier, b.Tier), -compare(a.Added, b.Added)) })
}

// byTier puts tiers in their order and what has none last.
func byTier(a, b string) int {
	switch {
	case a == b:
		return 0
	case a == "":
		return 1
	case b == "":
		return -1
	}
	return strings.Compare(a, b)
}

// compare puts what is missing last in descending order.
func compare(a, b reading.Figure) int {
	x, y := float64(a), float64(b)
	if math.IsNaN(x) {
		x = math.Inf(-1)
	}
	if math.IsNaN(y) {
		y = math.Inf(-1)
	}
	return cmp.Compare(x, y)
}

// crowdOrGrowth tells many that begin something at the same time from all that have come to ask for more of the same: a tenant that begins
// something asks for twice as much, or for pieces of another size. In a crowd that is half of them; two fifths leave room for errors.
func crowdOrGrowth(tenants *suspect.Suspects) Class {
	anew, all := 0, 0
	for _, t := range tenants.Tenants {
		ratio, size := float64(t.Demand.During/t.Demand.Before), float64(t.SizePair.During/t.SizePair.Before)
		if math.IsNaN(ratio) {
			continue
		}
		all++
		if ratio >= 2 || size >= 1.3 || size <= 1/1.3 {
			anew++
		}
	}
	if 5*anew > 2*all {
		return Crowd
	}
	return Growth
}

// cellsOf returns the shown cells in which it hurt.
func cellsOf(s *strata.Strata) (i, j int) {
	cell := func(t time.Time) int { return int(t.Sub(s.From).Seconds() / s.Step) }
	return cell(s.Change.From), cell(s.Change.To)
}
