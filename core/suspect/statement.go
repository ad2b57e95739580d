package suspect

import (
	"fmt"
	"math"
	"time"

	"dowsingrod/core/phrase"
	"dowsingrod/core/reading"
)

// statement says the outcome as one would on the phone.
func (s *Suspects) statement() []phrase.Phrase {
	slowed := s.slowed()
	demand := fmt.Sprintf("the demand of all %d tenants is %s of what it was", len(s.Tenants), phrase.Percent(float64(s.Demand.During/s.Demand.Before)))
	itself := phrase.Phrase{Text: s.Name, Tone: phrase.Strong, Ref: s.Of, Page: "section"}
	switch s.Outcome {
	case Culprit:
		c := s.Tenants[0]
		out := []phrase.Phrase{{Text: c.Name + " did it", Tone: phrase.Bad, Ref: c.Ref, Page: "section"},
			phrase.Say(", %s sure%s%s%s. ", phrase.Sure(float64(s.Confidence)), brought(c), began(c), sizes(c))}
		if n, fell := s.sufferers(); n > 0 {
			words := "The others hold more in flight only because each I/O takes longer"
			if fell > n/2 {
				words += ": their data rates fell"
			}
			out = append(out, phrase.Say("%s.", words))
		}
		return out
	case Several:
		out := []phrase.Phrase{}
		var part float64
		for k, c := range s.Tenants {
			if c.Role != Suspect {
				break
			}
			if k > 0 {
				out = append(out, phrase.Say(", "))
			}
			part += float64(c.Share)
			out = append(out, phrase.Phrase{Text: c.Name, Tone: phrase.Bad, Ref: c.Ref, Page: "section"})
		}
		return append(out, phrase.Say(" did it together, %s sure: they brought %s of what was added; %s.", phrase.Sure(float64(s.Confidence)), phrase.Percent(part), slowed))
	case Everybody:
		return []phrase.Phrase{{Text: "Everybody grew", Tone: phrase.Strong}, phrase.Say(": %s, and no few of them brought it (the most is %s). ", demand, phrase.Percent(s.most())), itself, phrase.Say(": %s. No single VM is to blame.", slowed)}
	case Itself:
		return []phrase.Phrase{itself, {Text: " became slower by itself", Tone: phrase.Bad, Ref: s.Of, Page: "section"},
			phrase.Say(": %s, while %s. No VM is to blame.", slowed, demand)}
	case NoChange:
		mean := reading.MeanOver(s.Component.Time, 0, len(s.Component.Time))
		if math.IsNaN(mean) {
			return []phrase.Phrase{itself, phrase.Say(" did no %ss that anybody timed in this window, so nobody is accused.", s.Direction)}
		}
		return []phrase.Phrase{itself, phrase.Phrase{Text: " did not become slower", Tone: phrase.Good, Ref: s.Of, Page: "section"},
			phrase.Say(" in this window: %ss take %s, as before. %s; nobody is accused.",
				s.Direction, phrase.Micros(mean), s.shown())}
	}
	if len(s.Tenants) == 0 {
		return []phrase.Phrase{phrase.Say("No VM depends on %s, so there is nobody to compare.", s.Name)}
	}
	return []phrase.Phrase{phrase.Say("Only %s of its tenants' readings are there in this window: too little to say who loads %s.", phrase.Percent(float64(s.Coverage)), s.Name)}
}

// brought says how much of what was added a tenant brought, where that is known.
func brought(c Tenant) string {
	if !c.Share.Known() {
		return ": " + c.Why
	}
	return ": it brought " + phrase.Percent(float64(c.Share)) + " of what was added"
}

// shown says by what tenants are put in order where nothing slowed.
func (s *Suspects) shown() string {
	if len(s.Tenants) == 1 {
		return "Its one tenant is shown by what it holds in flight"
	}
	return fmt.Sprintf("Its %d tenants are shown by what they hold in flight", len(s.Tenants))
}

// slowed says how much longer an I/O takes there.
func (s *Suspects) slowed() string {
	t := s.Component.TimePair
	return fmt.Sprintf("%ss there take %s instead of %s", s.Direction, phrase.Micros(float64(t.During)), phrase.Micros(float64(t.Before)))
}

func began(c Tenant) string {
	if !c.Onset.Known() {
		return ""
	}
	switch lag := time.Duration(math.Abs(float64(c.Onset))) * time.Second; {
	case lag == 0:
		return ", it began as that slowed"
	case c.Onset < 0:
		return fmt.Sprintf(", it began %s before that slowed", phrase.Span(lag))
	default:
		return fmt.Sprintf(", it began within %s of that slowing", phrase.Span(lag))
	}
}

func sizes(c Tenant) string {
	b, d := float64(c.SizePair.Before), float64(c.SizePair.During)
	if !(d > 1.5*b) {
		return ""
	}
	return fmt.Sprintf(", and its I/Os are %s against the usual %s", phrase.Bytes(d), phrase.Bytes(b))
}

// sufferers counts those that wait, and those of them whose data rate fell.
func (s *Suspects) sufferers() (n, fell int) {
	for _, t := range s.Tenants {
		if t.Role == Sufferer {
			n++
			if t.BytesPair.During < t.BytesPair.Before {
				fell++
			}
		}
	}
	return n, fell
}

func (s *Suspects) most() float64 {
	var top float64
	for _, t := range s.Tenants {
		if t.Share.Known() {
			top = math.Max(top, float64(t.Share))
		}
	}
	return top
}
