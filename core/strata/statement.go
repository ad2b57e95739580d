package strata

import (
	"strings"

	"dowsingrod/core/congest"
	"dowsingrod/core/estate"
	"dowsingrod/core/onset"
	"dowsingrod/core/phrase"
	"dowsingrod/core/reading"
	"dowsingrod/core/route"
)

func micros(f reading.Figure) string { return phrase.Micros(float64(f)) }

// statement says the finding as one would on the phone.
func (s *Strata) statement(g reading.Grid, m *route.Map, of subject, r route.Readings) []phrase.Phrase {
	switch s.Verdict {
	case Unknown:
		return s.unknown()
	case Cleared:
		return s.cleared(g, m, of, r)
	}
	c := s.Change
	verb, usually := " take ", ", usually "
	if !c.Persists {
		verb, usually = " took ", ", before "
	}
	name := strings.ToUpper(c.Direction[:1]) + c.Direction[1:] + "s"
	out := []phrase.Phrase{phrase.Say("%s%s", name, verb), {Text: micros(c.During), Tone: phrase.Bad, Ref: s.Of, Page: "strata"}}
	if c.Persists {
		out = append(out, phrase.Say(" since "), phrase.At(c.From))
	} else {
		out = append(out, phrase.Say(" from "), phrase.At(c.From), phrase.Say(" to "), phrase.At(c.To))
	}
	out = append(out, phrase.Say("%s%s. ", usually, micros(c.Usual)))
	switch {
	case c.Component != "" && c.Shared > 1:
		out = append(out, phrase.Phrase{Text: micros(c.Added) + " of it arises in " + c.Name, Tone: phrase.Strong, Ref: c.Component, Page: "suspects"},
			phrase.Say(" (%s), shared with %s.", c.Why, phrase.Count(c.Shared-1, "other VM", "other VMs")))
	case c.Component != "":
		out = append(out, phrase.Phrase{Text: micros(c.Added) + " of it arises in " + c.Name, Tone: phrase.Strong, Ref: c.Component, Page: "section"}, phrase.Say(" (%s).", c.Why))
	case c.Layer == estate.LayerAboveArray:
		out = append(out, phrase.Phrase{Text: micros(c.Added) + " of it arises " + c.Layer.Within(), Tone: phrase.Strong, Ref: s.Of, Page: "strata"}, phrase.Say("; no source tells the layers there apart."))
	case c.Layer == estate.LayerInArray:
		out = append(out, phrase.Phrase{Text: micros(c.Added) + " of it arises " + c.Layer.Within(), Tone: phrase.Strong, Ref: s.Of, Page: "strata"}, phrase.Say("; it does not tell its front and back end apart."))
	case c.Layer == estate.LayerUnsplit:
		out = append(out, phrase.Phrase{Text: micros(c.Added) + " of it arises " + c.Layer.Within(), Tone: phrase.Strong, Ref: s.Of, Page: "strata"}, phrase.Say("."))
	default:
		out = append(out, phrase.Phrase{Text: micros(c.Added) + " of it arises " + c.Layer.Within(), Tone: phrase.Strong, Ref: s.Of, Page: "strata"},
			phrase.Say("; no single component's readings explain it."))
	}
	if len(c.Cleared) > 0 {
		words := make([]string, 0, len(c.Cleared))
		for _, l := range c.Cleared {
			switch l {
			case estate.LayerAboveArray:
				words = append(words, "all above the array")
			case estate.LayerInArray:
				words = append(words, "the array")
			default:
				words = append(words, string(l))
			}
		}
		list := phrase.List(words)
		are := " are cleared."
		if len(words) == 1 {
			are = " is cleared."
		}
		out = append(out, phrase.Phrase{Text: " " + strings.ToUpper(list[:1]) + list[1:] + are, Tone: phrase.Plain, Ref: s.Of, Page: "strata"})
	}
	return out
}

func (s *Strata) unknown() []phrase.Phrase {
	if s.Disks == 0 {
		return []phrase.Phrase{phrase.Say("No virtual disk depends on %s, so there is no latency to split.", s.Name)}
	}
	if s.Coverage == 0 {
		return []phrase.Phrase{phrase.Say("There are no readings of its virtual disks in this window: nothing can be said, good or bad. Choose another window, or look whether its source is silent.")}
	}
	return []phrase.Phrase{phrase.Say("Only %s of this window is covered by readings of its virtual disks: too little to judge.", phrase.Percent(float64(s.Coverage)))}
}

func (s *Strata) cleared(g reading.Grid, m *route.Map, of subject, r route.Readings) []phrase.Phrase {
	out := []phrase.Phrase{}
	switch {
	case s.Read.Mean.Known() && s.Write.Mean.Known():
		out = append(out, phrase.Say("Reads take %s and writes %s, as before: ", micros(s.Read.Mean), micros(s.Write.Mean)))
	case s.Read.Mean.Known():
		out = append(out, phrase.Say("Reads take %s, as before: ", micros(s.Read.Mean)))
	case s.Write.Mean.Known():
		out = append(out, phrase.Say("Writes take %s, as before: ", micros(s.Write.Mean)))
	default:
		return []phrase.Phrase{phrase.Say("It did no I/O in this window.")}
	}
	out = append(out, phrase.Phrase{Text: "nothing in the storage slowed down.", Tone: phrase.Good, Ref: s.Of, Page: "strata"})
	if of.kind != estate.VM {
		return out
	}
	at, ok := m.Estate().Position(of.at(onset.Episode{}))
	if !ok {
		return out
	}
	o := m.Estate().At(at)
	window := reading.Grid{From: s.From, Step: g.Step, N: s.N}
	a := (*congest.Book)(nil).Assess(window, m.Estate(), at, r)
	if a.Condition != congest.Strained && a.Condition != congest.Failing {
		return out
	}
	out = append(out, phrase.Phrase{Text: " The storage is not the cause: ", Tone: phrase.Good})
	for k, why := range a.Reasons {
		link, who, whose := "", o.Title(), o.Title()+"'s"
		if k > 0 {
			link, who, whose = ", and ", "it", "its"
		}
		words := whose + " processors are up to " + phrase.Percent(float64(why.Worst)) + " busy"
		if why.Metric == "steal_share" {
			words = who + " waits up to " + phrase.Percent(float64(why.Worst)) + " of the time for a processor"
		}
		out = append(out, phrase.Say("%s", link), phrase.Phrase{Text: words, Tone: phrase.Strong, Ref: s.Of, Page: "section"})
	}
	return append(out, phrase.Say("."))
}
