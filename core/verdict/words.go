package verdict

import (
	"fmt"
	"math"
	"strings"
	"time"

	"dowsingrod/core/congest"
	"dowsingrod/core/estate"
	"dowsingrod/core/phrase"
	"dowsingrod/core/reading"
	"dowsingrod/core/strata"
	"dowsingrod/core/suspect"
)

// clear lists what is not the cause: layers that added next to nothing, and components that were looked at and have no part in it.
func (l *Located) clear(out *Explanation) {
	s := &l.Strata
	if s.Change == nil {
		if out.Verdict.Class == Cleared {
			l.well(out)
		}
		return
	}
	for _, layer := range s.Change.Cleared {
		for _, x := range out.Layers {
			if x.Layer == layer {
				words := "added " + phrase.Micros(float64(x.Added)) + " an I/O"
				if x.Added < 0 {
					words = "takes " + phrase.Micros(-float64(x.Added)) + " less an I/O"
				}
				out.Cleared = append(out.Cleared, Ground{Layer: layer, Words: words + ", where " + phrase.Micros(float64(s.Change.During-s.Change.Usual)) + " were added in all"})
			}
		}
	}
	x := l.scene
	chosen := l.chosen()
	rivals := map[int32]bool{}
	for k := range l.causes {
		if l.causes[k].weight >= 0.1 {
			rivals[l.causes[k].at] = true
		}
	}
	for _, i := range x.below {
		if chosen != nil && i == chosen.at || rivals[i] || len(out.Cleared) >= 12 {
			continue
		}
		for _, m := range map[estate.Kind][]string{estate.Pool: {"busy_share"}, estate.Controller: {"busy_share"}, estate.HBAPort: {congest.Utilization}, estate.TargetPort: {congest.Utilization}}[x.m.Estate().Kind(i)] {
			if b, d := x.pair(i, m); d < 0.6 {
				unit := "busy"
				if m == congest.Utilization {
					unit = "of line rate"
				}
				out.Cleared = append(out.Cleared, Ground{Ref: x.m.Estate().At(i).Key.String(), Words: fmt.Sprintf("%s: %s %s%s", x.m.FullName(i), phrase.Percent(d), unit, was(phrase.Percent(b)))})
			}
		}
	}
}

// well says how well the storage is: not only on average, but how the times spread, and in every layer; and how the machine's processors
// are, which are not part of it.
func (l *Located) well(out *Explanation) {
	s := &l.Strata
	for _, d := range []struct {
		name string
		of   *strata.Direction
	}{{"reads", &s.Read}, {"writes", &s.Write}} {
		if !d.of.P50.Known() || d.of.WorstAt == nil {
			continue
		}
		out.Cleared = append(out.Cleared, Ground{Ref: s.Of, Words: fmt.Sprintf("half of its %s within %s, 95 %% within %s, 99 %% within %s; the slowest %s took %s each", d.name, phrase.Micros(float64(d.of.P50)),
			phrase.Micros(float64(d.of.P95)), phrase.Micros(float64(d.of.P99)), phrase.Span(time.Duration(s.Step*float64(time.Second))), phrase.Micros(float64(d.of.Worst)))})
	}
	worst := map[estate.Layer]float64{}
	for _, d := range []*strata.Direction{&s.Read, &s.Write} {
		for _, b := range d.Bands {
			for _, us := range b.Time {
				worst[b.Layer] = math.Max(worst[b.Layer], known(us))
			}
		}
	}
	for _, layer := range out.Layers {
		if layer.Read > 0 || layer.Write > 0 {
			out.Cleared = append(out.Cleared, Ground{Layer: layer.Layer, Words: each(layer.Read, layer.Write) + ", never above " + phrase.Micros(worst[layer.Layer])})
		}
	}
	i, ok := l.place(s.Of)
	if !ok || s.Kind != estate.VM {
		return
	}
	for _, metric := range []string{"steal_share", "busy_share"} {
		row := l.row(s.Of, metric)
		if row == nil {
			continue
		}
		most := 0.0
		for _, v := range row {
			most = math.Max(most, known(v))
		}
		mean := reading.MeanOver(row, 0, len(row))
		words := fmt.Sprintf("its processors are %s busy, %s at most", phrase.Percent(mean), phrase.Percent(most))
		if metric == "steal_share" {
			words = fmt.Sprintf("waits %s of the time for a processor, %s at most", phrase.Percent(mean), phrase.Percent(most))
		}
		o := l.estate().At(i)
		out.Evidence = append(out.Evidence, Evidence{Of: s.Of, Name: o.Title(), Kind: s.Kind, Metric: metric, Before: reading.Missing, During: reading.Figure(mean), Weight: reading.Missing, Words: words, Unit: reading.SharePart, Trace: row})
	}
}

func known(v float64) float64 {
	if math.IsNaN(v) {
		return 0
	}
	return v
}

func each(read, write reading.Figure) string {
	switch {
	case !read.Known():
		return phrase.Micros(float64(write)) + " a write"
	case !write.Known():
		return phrase.Micros(float64(read)) + " a read"
	}
	return phrase.Micros(float64(read)) + " a read, " + phrase.Micros(float64(write)) + " a write"
}

// helps says what usually helps against a class of cause.
var helps = map[Class][]string{
	NoisyNeighbour: {"Limit the I/Os per second of who did it, or move its disk to another pool.", "If it is a job, let it run at another hour."},
	OwnDemand:      {"Give it a deeper queue or more paths, or a LUN for each of its disks.", "If it is a job, let it do less at a time."},
	Crowd:          {"Stagger what many begin at the same time.", "Keep a limit per machine for the hour it runs."},
	Growth:         {"Add drives or faster media, or move some of the load to a pool with room.", "Look at when it passed its limit first: it will again."},
	Degraded:       {"Look at what its source says of it, and replace or restart what failed.", "Move who suffers most elsewhere until then."},
	SlowReceiver:   {"Look at the host behind the port: its load, its adapter, its driver and optics.", "Until then disable the port, so that its paths go another way."},
	Path:           {"Bring the dead paths back, or spread the I/O over all ports by the path policy.", "Look at cables, zones and the adapter on that side."},
	HostQueue:      {"Raise the queue depth as far as the array allows, or spread the disks over more LUNs."},
	Limit:          {"Raise the limit if the layers below have room, which they have where they are cleared.", "Or leave it: then this is what it was set for."},
	SiteLink:       {"Ask the carrier which way the link takes.", "Until then write to one site only, if what it protects against allows."},
	Cleared:        {"Look above the storage: processors, memory, locks, network, the application itself."},
}

// word says it in sentences.
func (l *Located) word(out *Explanation, tenants *suspect.Suspects) {
	v := &out.Verdict
	s := &l.Strata
	out.Helps = append(out.Helps, helps[v.Class]...)
	switch {
	case v.Class == Cleared:
		v.Summary = out.Name + " is not slow because of its storage"
		out.Statement = s.Statement
		return
	case s.Change == nil:
		v.Summary = "too little is known to say"
		out.Statement = s.Statement
		out.Settle = append(out.Settle, "Readings of its virtual disks over an hour before it hurt.")
		return
	}
	c := s.Change
	verb, usually := " take ", ", usually "
	if !c.Persists {
		verb, usually = " took ", ", before "
	}
	name := strings.ToUpper(c.Direction[:1]) + c.Direction[1:] + "s of " + out.Name
	say := []phrase.Phrase{phrase.Say("%s%s", name, verb), {Text: phrase.Micros(float64(c.During)), Tone: phrase.Bad, Ref: s.Of, Page: "strata"}}
	if c.Persists {
		say = append(say, phrase.Say(" since "), phrase.At(c.From))
	} else {
		say = append(say, phrase.Say(" from "), phrase.At(c.From), phrase.Say(" to "), phrase.At(c.To))
	}
	say = append(say, phrase.Say("%s%s. ", usually, phrase.Micros(float64(c.Usual))))
	if v.Component == nil {
		v.Summary = fmt.Sprintf("%s slower %s; no component's readings tell why", out.Name, c.Layer.Within())
		out.Statement = append(say, phrase.Phrase{Text: phrase.Micros(float64(c.Added)) + " of it arises " + c.Layer.Within(), Tone: phrase.Strong, Ref: s.Of, Page: "strata"},
			phrase.Say(", but no component's readings account for it: who or what did it is not known."))
		out.Settle = append(out.Settle, "Readings of the components there: see what is not seen.")
		return
	}
	w := v.Component.Name
	link := func(text string) phrase.Phrase {
		return phrase.Phrase{Text: text, Tone: phrase.Strong, Ref: v.Component.Ref, Page: "suspects"}
	}
	also := func(text, page string) phrase.Phrase {
		return phrase.Phrase{Text: text, Tone: phrase.Plain, Ref: v.Component.Ref, Page: page}
	}
	how := ""
	if chosen := l.chosen(); chosen != nil && len(chosen.signs) > 0 {
		how = chosen.signs[0].Words
	}
	names := accusedNames(out)
	who := phrase.List(names)
	switch v.Class {
	case NoisyNeighbour, OwnDemand:
		if len(names) == 0 {
			v.Summary = "I/O that no virtual disk asked for fills " + w
			say = append(say, link("It waits for "+w), phrase.Say(" (%s), which is full of I/O that no virtual disk asked for.", how))
			break
		}
		first := out.Suspects[0]
		if v.Class == OwnDemand {
			v.Summary = who + " asks for more than " + w + " lets through; nobody else is part of it"
			say = append(say, link("It waits for itself at "+w), phrase.Say(" (%s): it %s. Nobody else has a part in it.", how, first.Evidence))
			break
		}
		v.Summary = who + " did it: " + w + " is full of its I/O"
		did := phrase.Phrase{Text: who + " did it", Tone: phrase.Strong, Ref: first.Ref, Page: "strata"}
		switch {
		case len(names) > 1:
			did.Text = who + " did it together"
		case first.Ref == out.Subject:
			did.Text = "It did that itself"
		}
		say = append(say, link("It waits for "+w), phrase.Say(" (%s). ", how), did)
		say = append(say, phrase.Say(": %s.", first.Evidence))
	case Crowd:
		v.Summary = "many began to ask for much more of " + w + " at the same time; no one of them did it"
		say = append(say, link("It waits for "+w), phrase.Say(" (%s): ", how), also("many began to ask for much more of it at the same time", "suspects"), phrase.Say(". No one of them did it."))
	case Growth:
		v.Summary = "everybody asks for more of " + w + " than before; no one of them did it"
		say = append(say, link("It waits for "+w), phrase.Say(" (%s): ", how), also("everybody asks for more of it than before", "suspects"), phrase.Say(". No one of them did it."))
	case Degraded:
		v.Summary = w + " became slower by itself; nobody did it"
		say = append(say, link(w+" became slower by itself"), phrase.Say(" (%s). ", how), also("Nobody asked for more: no VM is to blame", "suspects"), phrase.Say("."))
	case SlowReceiver:
		v.Summary = w + " takes its frames slowly and holds up what shares a link with it"
		say = append(say, link(w+" takes its frames slowly"), phrase.Say(": the switch %s. ", how), also("Whatever shares a link with it waits as well", "section"), phrase.Say("."))
	case Path:
		v.Summary = w + " carries what other ports of its host should"
		if chosen := l.chosen(); chosen.way == loaded {
			v.Summary = w + " carries what came by other ways before"
			say = append(say, link(w+" carries more than before"), phrase.Say(" (%s), though ", how), also("nobody asks for more", "suspects"), phrase.Say(": it comes by it instead of by another way."))
			break
		}
		say = append(say, link(w+" "+how), phrase.Say("."))
	case HostQueue:
		v.Summary = "I/Os wait in the host for a place in the queue of " + w
		say = append(say, link("It waits in its host, at "+w), phrase.Say(" (%s); what lies below is no slower than before.", how))
	case Limit:
		v.Summary = w + " has reached the limit that was set for it"
		say = append(say, link(w+" has reached its limit"), phrase.Say(": it %s.", how))
	case SiteLink:
		v.Summary = "the way between the sites, " + w + ", takes longer"
		say = append(say, link("The way between the sites takes longer"), phrase.Say(" (%s: %s), and every write waits for it.", w, how))
	}
	if n := len(out.Sufferers); n > 1 {
		say = append(say, phrase.Say(" "), also(phrase.Count(n, "VM", "VMs")+" wait because of it"+first(out.Sufferers), "suspects"), phrase.Say("."))
	}
	out.Statement = say
	l.settle(out, tenants)
}

// first says how many of those who suffer are of the highest tier; they are in its order.
func first(of []Sufferer) string {
	tier, n := of[0].Tier, 0
	for _, s := range of {
		if s.Tier == tier {
			n++
		}
	}
	if tier == "" || n == len(of) {
		return ""
	}
	return fmt.Sprintf(", %d of tier %s", n, tier)
}

func accusedNames(out *Explanation) (names []string) {
	for _, s := range out.Suspects {
		if s.Accused {
			names = append(names, s.Name)
		}
	}
	return names
}

// settle says what would make it surer.
func (l *Located) settle(out *Explanation, tenants *suspect.Suspects) {
	chosen := l.chosen()
	for k := range l.causes {
		if rival := &l.causes[k]; rival.at != chosen.at && rival.weight > 0.4*chosen.weight {
			out.Settle = append(out.Settle, fmt.Sprintf("Whether %s has a part in it: %s.", l.scene.m.FullName(rival.at), rival.signs[0].Words))
			break
		}
	}
	if tenants != nil && tenants.Coverage < 0.95 {
		out.Settle = append(out.Settle, fmt.Sprintf("Readings of all who use it: %s are there.", phrase.Percent(float64(tenants.Coverage))))
	}
	if len(chosen.signs) > 0 && math.IsNaN(float64(chosen.signs[0].During)) {
		out.Settle = append(out.Settle, fmt.Sprintf("Readings of %s itself.", out.Verdict.Component.Name))
	}
	if out.Verdict.Class == NoisyNeighbour && len(accusedNames(out)) > 0 {
		out.Settle = append(out.Settle, "A limit on who did it for ten minutes: if the others recover, it did.")
	}
}
