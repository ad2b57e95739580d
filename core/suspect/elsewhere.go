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
	s.accuseOnly(nil)
	s.rank()
	slowed := s.slowed()
	s.Statement = []phrase.Phrase{
		{Text: s.Name, Tone: phrase.Strong, Ref: s.Of, Page: "section"},
		phrase.Say(" slowed because its tenants wait for "),
		{Text: where.Name, Tone: phrase.Bad, Ref: where.Ref, Page: "suspects"},
		phrase.Say(" (%s): %s. Who asks for more here is not the reason, so nobody is accused; compare the tenants of %s.", where.Why, slowed, where.Name),
	}
}

// accuseOnly accuses those named, and nobody else.
func (s *Suspects) accuseOnly(refs []string) (n int) {
	for k := range s.Tenants {
		t := &s.Tenants[k]
		switch named := slices.Contains(refs, t.Ref); {
		case named:
			t.Role = Suspect
			n++
		case t.Role == Suspect && t.TimePair.During > slowerBy*t.TimePair.Before:
			t.Role = Sufferer
		case t.Role == Suspect:
			t.Role = Bystander
		}
	}
	return n
}

// Told is what is known of a component from one who waits for it.
type Told struct {
	Name       string         // of who waits
	Outcome    Outcome        // who did it: Culprit or Several, Everybody or Itself
	Accused    []string       // refs of those who did it
	Confidence reading.Figure // how sure that is
}

// Agree takes what is known of the component from one who waits for it: that was held against all else that it could wait for, and against what
// the component does with what it is asked for. It changes nothing where those accused are no tenants.
func (s *Suspects) Agree(with Told) {
	tenants := 0
	for _, t := range s.Tenants {
		if slices.Contains(with.Accused, t.Ref) {
			tenants++
		}
	}
	if tenants < len(with.Accused) {
		return
	}
	before := s.Outcome
	s.Outcome, s.Confidence = with.Outcome, reading.Missing
	if n := s.accuseOnly(with.Accused); n == 0 {
		s.Grounds = []string{}
		if before == Culprit || before == Several {
			s.Notes = append(s.Notes, "One tenant asks for more, and is not the reason: what "+with.Name+" waits for is explained without it.")
		}
	} else {
		s.Confidence = with.Confidence
		s.Grounds = append(s.Grounds, "what "+with.Name+" waits for was held against all else that it could be")
	}
	s.rank()
	s.Statement = s.statement()
}
