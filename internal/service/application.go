package service

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"dowsingrod/core/estate"
	"dowsingrod/core/phrase"
	"dowsingrod/core/strata"
	"dowsingrod/core/verdict"
)

// ApplicationPrefix stands before the name of an application where all its machines are meant.
const ApplicationPrefix = string(strata.Application) + ":"

// applicationOf is the application that a question is about, as application:NAME; false where it is about an object.
func applicationOf(query string) (name string, ok bool) {
	name, ok = strings.CutPrefix(strings.TrimSpace(query), ApplicationPrefix)
	return strings.TrimSpace(name), ok
}

// ApplicationError is for an application that no machine states.
type ApplicationError struct {
	Name  string
	Known []string
}

func (e *ApplicationError) Error() string {
	if len(e.Known) == 0 {
		return fmt.Sprintf("no machine states the application %q, nor any other: sources give it as the fact \"application\"", e.Name)
	}
	return fmt.Sprintf("no machine states the application %q; there are %s", e.Name, phrase.List(e.Known))
}

// application is a question about all machines of an application, with the readings of what they depend on.
func (s *Service) application(ctx context.Context, name string, w Window) (question, runs, error) {
	q, err := s.over(ctx, w)
	if err != nil {
		return q, runs{}, err
	}
	if len(strata.Machines(q.latest(), name)) == 0 {
		e := q.latest().Estate()
		known := []string{}
		for _, vm := range e.OfKind(estate.VM) {
			if other := e.At(vm).Facts.Text("application"); other != "" && !slices.Contains(known, other) && len(known) < 24 {
				known = append(known, other)
			}
		}
		slices.Sort(known)
		return q, runs{}, &ApplicationError{name, known}
	}
	r, err := s.fetch(ctx, q.moments, strata.ApplicationNeeds(q.moments, name), q.grid.From, q.grid.End())
	return q, r, err
}

// explainApplication explains the machine of an application that waits most, and says of how many it is that.
func (s *Service) explainApplication(ctx context.Context, name string, w Window) (verdict.Explanation, error) {
	q, r, err := s.application(ctx, name, w)
	if err != nil {
		return verdict.Explanation{}, err
	}
	machines := strata.Machines(q.latest(), name)
	worst, slow := strata.Worst(q.grid, q.first, q.moments, name, r)
	if worst == (estate.Key{}) {
		worst = q.latest().Estate().At(machines[0]).Key // nothing of any is read: it says so
	}
	q.key = worst
	q.at, _ = q.latest().Estate().Position(worst)
	x, err := s.explain(ctx, q)
	if err != nil {
		return x, err
	}
	of := phrase.Phrase{Text: name, Tone: phrase.Strong, Ref: string(strata.Application) + ":" + name, Page: "strata"}
	lead := []phrase.Phrase{phrase.Say("Of %s of ", phrase.Count(len(machines), "machine", "machines")), of, phrase.Say(", %s waits most. ", x.Name)}
	if !slow {
		lead = []phrase.Phrase{phrase.Say("None of %s of ", phrase.Count(len(machines), "machine", "machines")), of, phrase.Say(" became slow; %s holds most in flight. ", x.Name)}
	}
	x.Statement = append(lead, x.Statement...)
	err = s.held(ctx, q.latest().Estate(), &x)
	return x, err
}
