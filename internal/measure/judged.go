package main

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"time"

	"dowsingrod/core/estate"
	"dowsingrod/core/reading"
	"dowsingrod/core/suspect"
	"dowsingrod/core/verdict"
	"dowsingrod/internal/lab"
)

// result is how diagnosis did on one incident.
type result struct {
	kind                  string
	seed                  uint64
	look, silent          string // what was taken away
	truth, said           verdict.Class
	component             float64 // 1 where the right one was named, NaN where there is none
	suspect               float64 // 1 where the first suspect did it, NaN where it is no matter of who
	innocent              float64 // 1 where somebody was accused who did not do it
	onset                 float64 // |found − true| in s, NaN where there is none
	confidence            float64
	busiest, change, like float64 // what would be done by hand: 1 where that names who did it
	standing              float64 // what confidence is looked up by
	sight                 verdict.Sight
	blame, blamed         float64 // confidence of an accusation at what is named, as its suspects show it, and 1 where it is right; NaN for none
	note                  string
}

func (r result) class() float64 { return truthOf(r.truth == r.said) }

// right is that the class is right, and the component where there is one.
func (r result) right() float64 {
	if math.IsNaN(r.component) {
		return r.class()
	}
	return r.class() * r.component
}

// judge makes an incident and lets diagnosis look at the worst complaint, once for every loss.
func (j job) judge(looks []look) (out []result, err error) {
	f, err := lab.Grow(j.options())
	if err != nil {
		return nil, err
	}
	t, err := take(f)
	if err != nil {
		return nil, err
	}
	truth := f.Truth()
	for _, look := range looks {
		for _, loss := range look.losses(j.seed) {
			r, ok, err := j.look(t.without(loss), truth)
			if err != nil {
				return nil, fmt.Errorf("%s without %s: %w", look.name, loss, err)
			}
			if !ok {
				continue
			}
			r.look, r.silent = look.name, loss.String()
			r.note = fmt.Sprintf("%s -%s %d VMs %s %.2f %s", look.name, loss, f.VMs, f.Ramp, f.Force, r.note)
			out = append(out, r)
		}
	}
	return out, nil
}

// complaint is who complains, of what: the worst sufferer, but not one whose own work changed as well, which does not know what to complain of.
// On a quiet day it is anybody. It is empty where nobody is hurt.
func (j job) complaint(v *view, truth lab.TruthFile) (subject string, cause lab.TruthCause) {
	if len(truth.Causes) == 0 {
		e := v.latest().Estate()
		vms := e.OfKind(estate.VM)
		return e.At(vms[int(j.seed)%len(vms)]).Key.String(), cause
	}
	cause = truth.Causes[0]
	if cause.Subject != "" {
		return cause.Subject, cause
	}
	for _, s := range cause.Sufferers {
		if !slices.Contains(truth.Decoys, s.VM) {
			return s.VM, cause
		}
	}
	return "", cause
}

// look holds what diagnosis says of an incident against the truth. It is not ok where nobody is hurt or no source tells of the component.
func (j job) look(v *view, truth lab.TruthFile) (out result, ok bool, err error) {
	nan := math.NaN()
	out = result{kind: j.kind, seed: j.seed, truth: verdict.Cleared, component: nan, suspect: nan, onset: nan, busiest: nan, change: nan, like: nan, blame: nan, blamed: nan}
	subject, cause := j.complaint(v, truth)
	if subject == "" {
		return out, false, nil
	}
	if cause.Class != "" {
		out.truth = verdict.Class(cause.Class)
	}
	g, err := reading.NewGrid(v.from, v.to, 20*time.Second)
	if err != nil {
		return out, false, err
	}
	x, err := explain(v, g, subject)
	if err != nil {
		return out, false, err
	}
	out.said, out.confidence, out.standing, out.sight = x.Verdict.Class, float64(x.Verdict.Confidence), x.standing, x.sight
	named := ""
	if x.Verdict.Component != nil {
		named = x.Verdict.Component.Ref
	}
	if cause.Component != "" {
		if _, err := v.latest().Estate().Resolve(cause.Component); err != nil {
			return out, false, nil
		}
		out.component = truthOf(named == cause.Component || slices.Contains(cause.Alike, named))
		if x.Onset != nil {
			out.onset = math.Abs(x.Onset.Sub(cause.Onset).Seconds())
		}
	}
	if x.whole != nil && x.whole.Confidence.Known() {
		out.blame, out.blamed = float64(x.whole.Confidence), 1
		for _, t := range x.whole.Tenants {
			if t.Role == suspect.Suspect && !slices.Contains(cause.Culprits, t.Ref) {
				out.blamed = 0
			}
		}
	}
	first := ""
	for _, s := range x.Suspects {
		if s.Accused {
			first = cmp.Or(first, s.Ref)
			if !slices.Contains(cause.Culprits, s.Ref) {
				out.innocent = 1
			}
		}
	}
	if out.truth == verdict.NoisyNeighbour || out.truth == verdict.OwnDemand {
		out.suspect = truthOf(first != "" && slices.Contains(cause.Culprits, first))
		if x.whole != nil {
			out.byHand(v, *x.whole, cause.Onset, cause.Culprits)
		}
	}
	out.note = fmt.Sprintf("%s said %s (%.2f)  at %s named %s  by %v accused %s  %s outcome %s", out.truth, out.said, out.confidence, cause.Component, named, cause.Culprits, first, subject, x.Outcome)
	out.note += x.note()
	return out, true, nil
}

// answer is what diagnosis says of an object.
type answer struct {
	verdict.Explanation
	standing float64
	sight    verdict.Sight
	whole    *suspect.Suspects // the tenants of what is named over the whole window, as one looks at them by hand; nil for none
}

// note is what an answer rests on, in a few lines.
func (x answer) note() (out string) {
	for _, l := range x.Layers {
		if l.Added > 50 {
			out += fmt.Sprintf("\n    %s +%.0f", l.Layer, float64(l.Added))
		}
	}
	for k, e := range x.Evidence {
		if k < 6 {
			out += fmt.Sprintf("\n    %.2f %s: %s", float64(e.Weight), e.Of, e.Words)
		}
	}
	for k, s := range x.Suspects {
		if k < 4 {
			out += fmt.Sprintf("\n    . %s %.2f %s", s.Ref, float64(s.Score), s.Evidence)
		}
	}
	return out
}

// explain asks about one object.
func explain(t *view, g reading.Grid, subject string) (answer, error) {
	latest := t.latest()
	at, err := latest.Estate().Resolve(subject)
	if err != nil {
		return answer{}, err
	}
	l, err := verdict.Locate(verdict.Input{Grid: g, First: g.N / 8, Moments: t.moments, Of: latest.Estate().At(at).Key, From: t, Events: t.events})
	if err != nil {
		return answer{}, err
	}
	l.Infer(t)
	in, ok := l.Compare()
	if !ok {
		return answer{l.Conclude(nil), l.Standing(), l.Sight(), nil}, nil
	}
	sus, err := suspect.Compute(in)
	if err != nil {
		return answer{}, err
	}
	x := l.Conclude(&sus)
	in.Episode = nil
	whole, err := suspect.Compute(in)
	return answer{x, l.Standing(), l.Sight(), &whole}, err
}

func truthOf(ok bool) float64 {
	if ok {
		return 1
	}
	return 0
}
