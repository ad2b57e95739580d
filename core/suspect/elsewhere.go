package suspect

import (
	"cmp"
	"math"
	"slices"

	"dowsingrod/core/phrase"
	"dowsingrod/core/reading"
)

// Where is the component that tenants wait for.
type Where struct {
	Ref  string `json:"ref" doc:"kind:id@source"`
	Name string `json:"name" doc:"Its name"`
	Why  string `json:"why" doc:"What its readings say, in words"`
}

// Waiting lists the tenants that hold most in flight beyond what is usual because their I/Os take longer, at most n: whom to ask what they
// wait for. Those who are accused come last, for they wait for themselves.
func (s *Suspects) Waiting(n int) (refs []string) {
	type waits struct {
		ref     string
		accused bool
		more    float64
	}
	var all []waits
	for _, t := range s.Tenants {
		more := float64(t.TimePair.During-t.TimePair.Before) * math.Min(float64(t.IOPSPair.Before), float64(t.IOPSPair.During))
		if t.TimePair.During >= slowerBy*t.TimePair.Before && more > 0 {
			all = append(all, waits{t.Ref, t.Role == Suspect, more})
		}
	}
	slices.SortStableFunc(all, func(a, b waits) int {
		switch {
		case a.accused && !b.accused:
			return 1
		case b.accused && !a.accused:
			return -1
		}
		return -cmp.Compare(a.more, b.more)
	})
	for _, w := range all[:min(n, len(all))] {
		refs = append(refs, w.ref)
	}
	return refs
}

// Slower counts the tenants whose own I/Os take longer.
func (s *Suspects) Slower() (n int) {
	for _, t := range s.Tenants {
		if t.TimePair.During > slowerBy*t.TimePair.Before {
			n++
		}
	}
	return n
}

// Yield takes back what was found where its tenants wait for something else: it slowed only because that did. Nobody is accused at it.
func (s *Suspects) Yield(where Where) {
	s.Outcome, s.Where, s.Confidence, s.Grounds = Elsewhere, &where, reading.Missing, []string{}
	for k := range s.Tenants {
		t := &s.Tenants[k]
		if t.Role != Suspect {
			continue
		}
		t.Role = Bystander
		if t.TimePair.During > slowerBy*t.TimePair.Before {
			t.Role = Sufferer
		}
	}
	s.rank()
	slowed := s.slowed()
	s.Statement = []phrase.Phrase{
		{Text: s.Name, Tone: phrase.Strong, Ref: s.Of, Page: "section"},
		phrase.Say(" slowed because its tenants wait for "),
		{Text: where.Name, Tone: phrase.Bad, Ref: where.Ref, Page: "suspects"},
		phrase.Say(" (%s): %s. Who asks for more here is not the reason, so nobody is accused; compare the tenants of %s.", where.Why, slowed, where.Name),
	}
}
