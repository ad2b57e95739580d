package estate

import (
	"fmt"
	"slices"
	"strings"

	"dowsingrod/core/phrase"
)

// Difference is one thing that changed about an object.
type Difference struct {
	Code string `json:"code" doc:"Stable word for what changed" enum:"appeared,gone,renamed,migrated,moved,mapped,path_state,state,grew,shrank,firmware,used,fact,link"`
	Says string `json:"says" doc:"In words"`
}

// Codes of differences.
const (
	Appeared  = "appeared"
	Gone      = "gone"
	Renamed   = "renamed"
	Migrated  = "migrated"   // a virtual machine runs on another host
	Moved     = "moved"      // a virtual disk is stored elsewhere
	Mapped    = "mapped"     // a host device or a volume's exposure came or went
	PathState = "path_state" // a path died, came back, became standby
	StateFact = "state"
	Grew      = "grew"
	Shrank    = "shrank"
	Firmware  = "firmware"
	Used      = "used" // how full it is
	Fact      = "fact"
	LinkSent  = "link"
)

// Differ tells what changed from one version of an object to the next; nil stands for not being there. name finds the
// name of what a link leads to.
func Differ(before, after *Node, name func(Ref) string) []Difference {
	switch {
	case before == nil && after == nil:
		return nil
	case before == nil:
		return []Difference{{appearance(after, Appeared), "appeared"}}
	case after == nil:
		return []Difference{{appearance(before, Gone), "is gone"}}
	}
	var out []Difference
	if before.Name != after.Name {
		out = append(out, Difference{Renamed, fmt.Sprintf("was renamed from %q to %q", before.Name, after.Name)})
	}
	out = append(out, differLinks(before, after, name)...)
	return append(out, differFacts(before, after)...)
}

// appearance is the code for an object that came or went: devices and paths are how a LUN is mapped.
func appearance(o *Node, code string) string {
	if k := o.Key.Ref.Kind; k == Device || k == Path {
		return Mapped
	}
	return code
}

func differLinks(before, after *Node, name func(Ref) string) []Difference {
	was, is := linksOf(before), linksOf(after)
	kinds := make([]LinkKind, 0, len(was)+len(is))
	for k := range was {
		kinds = append(kinds, k)
	}
	for k := range is {
		if _, both := was[k]; !both {
			kinds = append(kinds, k)
		}
	}
	slices.Sort(kinds)
	names := func(refs []string) string {
		var out []string
		for _, text := range refs {
			if ref, err := ParseRef(text); err == nil {
				out = append(out, name(ref))
			} else {
				out = append(out, text)
			}
		}
		if len(out) > 4 {
			out = append(out[:3], fmt.Sprintf("%d more", len(out)-3))
		}
		return phrase.List(out)
	}
	var out []Difference
	for _, k := range kinds {
		lost, won := minus(was[k], is[k]), minus(is[k], was[k])
		switch {
		case len(lost) == 0 && len(won) == 0:
			if !slices.Equal(was[k], is[k]) {
				out = append(out, Difference{LinkSent, fmt.Sprintf("its links %s are in another order: %s first", k, names(is[k][:1]))})
			}
		case k == RunsOn && len(lost) > 0 && len(won) > 0:
			out = append(out, Difference{Migrated, fmt.Sprintf("migrated from %s to %s", names(lost), names(won))})
		case k == StoredOn && len(lost) > 0 && len(won) > 0:
			out = append(out, Difference{Moved, fmt.Sprintf("moved from %s to %s", names(lost), names(won))})
		case k == ExposedOn:
			out = append(out, Difference{Mapped, exposure(names(lost), names(won))})
		case len(won) == 0:
			out = append(out, Difference{LinkSent, fmt.Sprintf("no longer %s %s", words(k), names(lost))})
		case len(lost) == 0:
			out = append(out, Difference{LinkSent, fmt.Sprintf("now %s %s", words(k), names(won))})
		default:
			out = append(out, Difference{LinkSent, fmt.Sprintf("%s %s, no longer %s", words(k), names(won), names(lost))})
		}
	}
	return out
}

func exposure(lost, won string) string {
	switch {
	case lost == "":
		return "is now exposed on " + won
	case won == "":
		return "is no longer exposed on " + lost
	}
	return "is exposed on " + won + ", no longer on " + lost
}

func words(k LinkKind) string { return strings.ReplaceAll(string(k), "_", " ") }

func linksOf(o *Node) map[LinkKind][]string {
	out := make(map[LinkKind][]string)
	o.eachLink(func(k LinkKind, refs []string) { out[k] = refs })
	return out
}

func minus(a, b []string) (out []string) {
	for _, x := range a {
		if !slices.Contains(b, x) {
			out = append(out, x)
		}
	}
	return out
}

func differFacts(before, after *Node) []Difference {
	was, is := rawFacts(before), rawFacts(after)
	var facts []string
	for f := range was {
		facts = append(facts, f)
	}
	for f := range is {
		if _, both := was[f]; !both {
			facts = append(facts, f)
		}
	}
	slices.Sort(facts)
	var out []Difference
	for _, f := range facts {
		if was[f] == is[f] {
			continue
		}
		x, okX := before.Facts.Number(f)
		y, okY := after.Facts.Number(f)
		switch {
		case strings.HasSuffix(f, "bytes") && okX && okY:
			code, verb := Grew, "grew"
			if y < x {
				code, verb = Shrank, "shrank"
			}
			if f != "bytes" {
				code, verb = Used, strings.ReplaceAll(f, "_", " ")+" went"
			}
			out = append(out, Difference{code, fmt.Sprintf("%s from %s to %s", verb, phrase.Bytes(x), phrase.Bytes(y))})
		case f == "state" && after.Key.Ref.Kind == Path:
			out = append(out, Difference{PathState, fmt.Sprintf("the path went from %s to %s", text(was[f]), text(is[f]))})
		case f == "state" || f == "power":
			out = append(out, Difference{StateFact, fmt.Sprintf("its %s went from %s to %s", f, text(was[f]), text(is[f]))})
		case f == "firmware":
			out = append(out, Difference{Firmware, fmt.Sprintf("its firmware went from %s to %s", text(was[f]), text(is[f]))})
		case was[f] == "":
			out = append(out, Difference{Fact, fmt.Sprintf("its %s is %s now; it was not stated before", plain(f), text(is[f]))})
		case is[f] == "":
			out = append(out, Difference{Fact, fmt.Sprintf("its %s is no longer stated; it was %s", plain(f), text(was[f]))})
		default:
			out = append(out, Difference{Fact, fmt.Sprintf("its %s went from %s to %s", plain(f), text(was[f]), text(is[f]))})
		}
	}
	return out
}

func plain(fact string) string { return strings.ReplaceAll(fact, "_", " ") }

func text(raw string) string {
	switch {
	case raw == "":
		return "not stated"
	case raw[0] == '"':
		return unquote(raw)
	case raw[0] == '[':
		return phrase.List(texts(raw))
	}
	return raw
}

func rawFacts(o *Node) map[string]string {
	out := make(map[string]string)
	o.Facts.each(func(name, raw string) bool {
		out[name] = strings.Join(strings.Fields(raw), " ")
		return true
	})
	return out
}
