package estate_test

import (
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	. "dowsingrod/core/estate"
)

// picture writes an estate down apart from the positions of its objects.
func picture(e *Estate) map[string]string {
	out := map[string]string{}
	for i := range e.All() {
		o := e.At(i)
		text := o.Name + " " + string(o.Facts) + " " + string(o.Links)
		for _, x := range e.Out(i) {
			text += fmt.Sprintf("\n  > %s %s %v", x.Kind, e.At(x.To).Key, x.Derived)
		}
		var in []string
		for _, x := range e.In(i) {
			in = append(in, fmt.Sprintf("\n  < %s %s %v", x.Kind, e.At(x.From).Key, x.Derived))
		}
		slices.Sort(in)
		for _, f := range e.FindingsOf(i) {
			in = append(in, fmt.Sprintf("\n  ! %s %s", f.Code, f.Detail))
		}
		out[o.Key.String()] = text + fmt.Sprint(in)
	}
	for _, k := range []Kind{VM, Volume, Pool, Device, HBAPort} {
		names := []string{}
		for _, i := range e.OfKind(k) {
			names = append(names, e.At(i).Key.String())
		}
		out["of kind "+string(k)] = fmt.Sprint(names, e.Number(k))
	}
	out["count"] = fmt.Sprint(e.Count())
	return out
}

// invent makes objects that know one another by identifiers of few values, so that they collide, dangle and go in circles.
func invent(r *rand.Rand) Object {
	id := func() string { return fmt.Sprint(r.IntN(4)) }
	source := []string{"a", "b", "c"}[r.IntN(3)]
	long := func(n int) string { return fmt.Sprintf("naa.6%031x", n) }
	port := func(n int) string { return fmt.Sprintf("%016x", 0x5000+n) }
	to := func(kinds ...Kind) []Ref {
		var refs []Ref
		for range r.IntN(3) {
			refs = append(refs, Ref{kinds[r.IntN(len(kinds))], id()})
		}
		return refs
	}
	switch r.IntN(9) {
	case 0:
		return obj(source, VM, id(), "vm "+id(), Facts{"tier": id()}, Links{Uses: to(VDisk), RunsOn: to(Host)})
	case 1:
		return obj(source, VDisk, id(), "", nil, Links{StoredOn: to(Datastore, Volume)})
	case 2:
		return obj(source, Datastore, id(), "", Facts{"extents": []any{long(r.IntN(4)), long(r.IntN(4))}}, nil)
	case 3:
		return obj(source, Device, id(), "", Facts{"naa": long(r.IntN(4))}, Links{PartOf: to(Host)})
	case 4:
		return obj(source, Volume, id(), "", Facts{"naa": long(r.IntN(4)), "number": r.Float64()}, Links{CarvedFrom: to(Pool), MirroredTo: to(Volume), BackedBy: to(Device, Volume)})
	case 5:
		return obj(source, Pool, id(), "", nil, Links{MadeOf: to(Pool, Drive), PartOf: to(Pool, Array)})
	case 6:
		return obj(source, HBAPort, id(), "", Facts{"wwpn": port(r.IntN(4))}, Links{PartOf: to(Host)})
	case 7:
		return obj(source, SwitchPort, id(), "", Facts{"wwpn": port(8 + r.IntN(3)), "attached": []any{port(r.IntN(5)), "x"}}, nil)
	default:
		return obj(source, []Kind{Host, Drive, Array, TargetPort}[r.IntN(4)], id(), "", Facts{"wwpn": port(r.IntN(4))}, nil)
	}
}

// However an estate came to be, by whatever steps in whatever order, it is the same as if all its objects had been given at once.
func TestAChangedEstateIsTheSameAsOneBuiltAnew(t *testing.T) {
	for seed := range uint64(60) {
		r := rand.New(rand.NewPCG(seed, 4))
		now := map[Key]Object{}
		e := Build(nil)
		kept, then := e, picture(e)
		for step := range 25 {
			var c Change
			for range 1 + r.IntN(6) {
				if r.IntN(3) == 0 && len(now) > 0 {
					keys := slices.SortedFunc(maps.Keys(now), func(a, b Key) int { return compareText(a.String(), b.String()) })
					k := keys[r.IntN(len(keys))]
					if !slices.ContainsFunc(c.Set, func(n Node) bool { return n.Key == k }) {
						c.Drop = append(c.Drop, k)
						delete(now, k)
					}
					continue
				}
				o := invent(r)
				if slices.Contains(c.Drop, o.Key) {
					continue
				}
				c.Set = append(c.Set, o.Node())
				now[o.Key] = o
			}
			e = e.With(c)
			all := slices.Collect(maps.Values(now))
			r.Shuffle(len(all), func(i, j int) { all[i], all[j] = all[j], all[i] })
			require.Equal(t, picture(Build(all)), picture(e), "seed %d step %d", seed, step)
			if step == 12 {
				kept, then = e, picture(e)
			}
		}
		assert.Equal(t, then, picture(kept), "an estate does not change by what is made of it")
	}
}

func compareText(a, b string) int {
	if a < b {
		return -1
	} else if a > b {
		return 1
	}
	return 0
}

func TestTwoLegsOfAMirrorMayShareAnIdentifier(t *testing.T) {
	leg := func(id string, links Links) Object {
		return obj("virt", Volume, id, id, Facts{"naa": naaText}, links)
	}
	ds := obj("hyp", Datastore, "ds", "ds", Facts{"extents": []any{naaText}}, nil)
	e := Build([]Object{ds, leg("north", Links{MirroredTo: {ref("volume:south")}}), leg("south", nil)})
	i, _ := e.Position(ds.Key)
	assert.Len(t, e.To(i, Extent), 2)
	assert.Empty(t, e.Findings())
	north := leg("north", nil)
	e = e.With(Change{Set: []Node{north.Node()}})
	assert.Empty(t, e.To(i, Extent), "no longer a mirror: who is meant is not known")
	assert.Equal(t, map[string]int{IdentityClaimedTwice: 2, NotJoined: 1}, codes(e))
}

func TestWhatWasAskedForIsFoundAfterAChange(t *testing.T) {
	e := Build([]Object{obj("a", VM, "1", "berth-plan-01", nil, nil), obj("a", VM, "2", "sonar-tiles-01", nil, nil)})
	renamed := obj("a", VM, "1", "tide-model-01", nil, nil)
	e = e.With(Change{Set: []Node{renamed.Node()}, Drop: []Key{{"a", ref("vm:2")}}})
	for query, want := range map[string]int{"berth": 0, "tide": 1, "sonar": 0, "t": 1, "1": 1} {
		assert.Equal(t, want, e.Find(query, "", 0).Total, query)
	}
	assert.Equal(t, 1, e.Count())
}
