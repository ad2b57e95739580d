package route_test

import (
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dowsingrod/core/estate"
	"dowsingrod/core/internal/tiny"
	. "dowsingrod/core/route"
)

// world is a small estate drawn at random, and what the brute-force judge knows of it: the objects as written.
type world struct {
	e    tiny.Estate
	by   map[string]estate.Object // by kind:id, unique over all sources here
	list []string
}

func (w *world) add(source, ref, name string, facts estate.Facts, links ...string) {
	w.e.Add(source, ref, name, facts, links...)
	w.by[ref] = w.e.Objects[len(w.e.Objects)-1]
	w.list = append(w.list, ref)
}

func invent(r *rand.Rand) *world {
	w := &world{by: map[string]estate.Object{}}
	wwn := 0
	next := func() string { wwn++; return tiny.WWN(wwn) }
	maybe := func(p float64, text string) []string {
		if r.Float64() < p {
			return []string{text}
		}
		return nil
	}
	state := func(p float64) estate.Facts {
		if r.Float64() < p {
			return estate.Facts{"state": "failed"}
		}
		return estate.Facts{}
	}
	w.add("hyp", "site:n", "north", nil)
	w.add("hyp", "cluster:c", "cluster", nil, "member_of", "site:n")
	ports := map[string]string{}    // ref → wwn
	switches := [2][]string{{}, {}} // by fabric
	for f := range 2 {
		fabric := fmt.Sprintf("fabric:%d", f)
		w.add("fab", fabric, fabric, nil)
		for s := range 1 + r.IntN(3) {
			sw := fmt.Sprintf("switch:%d%d", f, s)
			w.add("fab", sw, sw, nil, "member_of", fabric)
			switches[f] = append(switches[f], sw)
		}
		for k := range len(switches[f]) + r.IntN(2) { // now and then a ring, a chain, a gap
			if len(switches[f]) < 2 || r.IntN(6) == 0 {
				continue
			}
			a, b := switches[f][k%len(switches[f])], switches[f][(k+1)%len(switches[f])]
			if a == b {
				continue
			}
			x, y := next(), next()
			id := fmt.Sprintf("%d%d", f, k)
			w.add("fab", "switch_port:i"+id+"a", "", estate.Facts{"wwpn": x}, "part_of", a)
			w.add("fab", "switch_port:i"+id+"b", "", estate.Facts{"wwpn": y}, "part_of", b)
			w.add("fab", "isl:"+id, "", estate.Facts{"ends": []any{x, y}, "cost": float64(1 + r.IntN(2))})
		}
	}
	plug := func(port, wwn string, f int) {
		ports[port] = wwn
		if r.IntN(8) > 0 {
			sp := "switch_port:" + strings.ReplaceAll(port, ":", "-")
			w.add("fab", sp, "", estate.Facts{"wwpn": next(), "attached": []any{wwn}}, "part_of", switches[f][r.IntN(len(switches[f]))])
		}
	}
	var volumes []string
	naa := map[string]string{}
	targets := map[string][]string{} // of each array
	for a := range 2 {
		src := fmt.Sprintf("array%d", a)
		array := fmt.Sprintf("array:%d", a)
		w.add(src, array, array, nil)
		for c := range 2 {
			ctl := fmt.Sprintf("controller:%d%d", a, c)
			w.add(src, ctl, ctl, nil, "part_of", array)
			for f := range 2 {
				port := fmt.Sprintf("target_port:%d%d%d", a, c, f)
				n := next()
				w.add(src, port, port, estate.Facts{"wwpn": n}, "part_of", ctl)
				plug(port, n, f)
				targets[array] = append(targets[array], port)
			}
		}
		enclosure := fmt.Sprintf("enclosure:%d", a)
		w.add(src, enclosure, enclosure, nil, "part_of", array)
		for g := range 2 {
			rg := fmt.Sprintf("raid_group:%d%d", a, g)
			var of []string
			for d := range 1 + r.IntN(4) {
				drive := fmt.Sprintf("drive:%d%d%d", a, g, d)
				w.add(src, drive, drive, state(0.1), append([]string{"part_of"}, enclosure)...)
				of = append(of, "made_of", drive)
			}
			w.add(src, rg, rg, estate.Facts{"raid": []string{"0", "1", "5", "6", "3+1", ""}[r.IntN(6)]}, of...)
			w.add(src, fmt.Sprintf("pool:%d%d", a, g), "", nil, "made_of", rg, "part_of", array)
		}
		for v := range 2 {
			ref := fmt.Sprintf("volume:%d%d", a, v)
			naa[ref] = fmt.Sprintf("naa.6%031x", 16*a+v+1)
			links := []string{"part_of", array, "carved_from", fmt.Sprintf("pool:%d%d", a, r.IntN(2)), "served_by", fmt.Sprintf("controller:%d%d", a, v%2)}
			if r.IntN(2) == 0 {
				links = append(links, "served_by", fmt.Sprintf("controller:%d%d", a, 1-v%2))
			}
			w.add(src, ref, ref, estate.Facts{"naa": naa[ref]}, links...)
			volumes = append(volumes, ref)
		}
	}
	// A virtualizer with one volume on two legs, mirrored or not.
	w.add("virt", "array:v", "virt", estate.Facts{"role": "virtualizer"})
	w.add("virt", "controller:v", "node", nil, "part_of", "array:v")
	for f := range 2 {
		port := fmt.Sprintf("target_port:v%d", f)
		n := next()
		w.add("virt", port, port, estate.Facts{"wwpn": n}, "part_of", "controller:v")
		plug(port, n, f)
		targets["array:v"] = append(targets["array:v"], port)
	}
	path := func(source, device, initiator, target string, k int) {
		w.add(source, fmt.Sprintf("path:%s-%d", strings.ReplaceAll(device, ":", "-"), k), "", estate.Facts{"initiator": ports[initiator], "target": ports[target],
			"state": []string{"active", "active", "standby", "dead"}[r.IntN(4)]}, "part_of", device)
	}
	mirror := r.IntN(3) > 0
	var legs []string
	for a := range 2 {
		leg := fmt.Sprintf("device:leg%d", a)
		links := []string{"part_of", "array:v"}
		if mirror && a == 1 {
			links = append(links, "mirrored_to", "device:leg0")
		}
		facts := estate.Facts{"naa": naa[fmt.Sprintf("volume:%d0", a)]}
		if r.IntN(8) == 0 {
			facts["state"] = "lost"
		}
		w.add("virt", leg, leg, facts, links...)
		legs = append(legs, "backed_by", leg)
		for k := range r.IntN(3) {
			path("virt", leg, fmt.Sprintf("target_port:v%d", k), targets[fmt.Sprintf("array:%d", a)][r.IntN(4)], k)
		}
	}
	naa["volume:vv"] = fmt.Sprintf("naa.6%031x", 99)
	w.add("virt", "volume:vv", "stretched", estate.Facts{"naa": naa["volume:vv"]}, append([]string{"part_of", "array:v", "served_by", "controller:v"}, legs...)...)
	volumes = append(volumes, "volume:vv")

	for d := range 3 {
		var extents []any
		for _, k := range r.Perm(len(volumes))[:1+r.IntN(2)] {
			extents = append(extents, naa[volumes[k]])
		}
		w.add("hyp", fmt.Sprintf("datastore:%d", d), "", estate.Facts{"extents": extents})
	}
	for h := range 2 {
		host := fmt.Sprintf("host:%d", h)
		w.add("hyp", host, host, nil, append([]string{}, slices.Concat(prefixed("member_of", maybe(0.7, "cluster:c")))...)...)
		for f := range 2 {
			port := fmt.Sprintf("hba_port:%d%d", h, f)
			n := next()
			w.add("hyp", port, port, estate.Facts{"wwpn": n}, "part_of", host)
			plug(port, n, f)
		}
		for _, v := range volumes {
			if r.IntN(5) == 0 {
				continue
			}
			device := fmt.Sprintf("device:%d-%s", h, strings.TrimPrefix(v, "volume:"))
			w.add("hyp", device, "", estate.Facts{"naa": naa[v]}, "part_of", host)
			array := w.by[v].Links[estate.PartOf][0].String()
			for k := range r.IntN(4) {
				path("hyp", device, fmt.Sprintf("hba_port:%d%d", h, k%2), targets[array][r.IntN(len(targets[array]))], k)
			}
		}
	}
	for n := range 4 {
		disk := fmt.Sprintf("vdisk:%d", n)
		w.add("hyp", disk, "", nil, "stored_on", fmt.Sprintf("datastore:%d", r.IntN(3)))
		w.add("hyp", fmt.Sprintf("vm:%d", n), fmt.Sprintf("vm %d", n), estate.Facts{"tier": fmt.Sprint(1 + n%2)}, "runs_on", fmt.Sprintf("host:%d", r.IntN(2)), "uses", disk)
	}
	return w
}

func prefixed(kind string, refs []string) (out []string) {
	for _, r := range refs {
		out = append(out, kind, r)
	}
	return out
}

// judge answers by the plainest means: what is gone is gone, with all that is part of it, and a machine runs where every disk
// can be followed down to drives enough.
type judge struct {
	w    *world
	gone map[string]bool
}

func (w *world) without(ref string) judge {
	j := judge{w, map[string]bool{ref: ref != ""}}
	for changed := true; changed; {
		changed = false
		for _, r := range w.list {
			o := w.by[r]
			if j.gone[r] || o.Key.Ref.Kind == estate.VM {
				continue
			}
			for _, kind := range []estate.LinkKind{estate.PartOf, estate.MemberOf} {
				for _, whole := range o.Links[kind] {
					if j.gone[whole.String()] && !(o.Key.Ref.Kind == estate.Path) {
						j.gone[r], changed = true, true
					}
				}
			}
		}
	}
	return j
}

func (j judge) stands(ref string) bool {
	state := j.w.by[ref].Facts.Text("state")
	return !j.gone[ref] && state != "failed" && state != "lost"
}

func (j judge) find(fact, value string, kind estate.Kind) string {
	for _, r := range j.w.list {
		if o := j.w.by[r]; o.Key.Ref.Kind == kind && slices.Contains(o.Facts.Texts(fact), value) {
			return r
		}
	}
	return ""
}

func (j judge) switchOf(wwn string) (port, sw string) {
	if port = j.find("attached", wwn, estate.SwitchPort); port == "" {
		return "", ""
	}
	return port, j.w.by[port].Links[estate.PartOf][0].String()
}

func (j judge) joined(a, b string) bool {
	seen := map[string]bool{a: true}
	for grown := true; grown; {
		grown = false
		for _, r := range j.w.list {
			o := j.w.by[r]
			if o.Key.Ref.Kind != estate.ISL || j.gone[r] {
				continue
			}
			var ends []string
			ok := true
			for _, wwn := range o.Facts.Texts("ends") {
				p := j.find("wwpn", wwn, estate.SwitchPort)
				sw := j.w.by[p].Links[estate.PartOf][0].String()
				ok = ok && !j.gone[p] && !j.gone[sw]
				ends = append(ends, sw)
			}
			if ok && seen[ends[0]] != seen[ends[1]] {
				seen[ends[0]], seen[ends[1]], grown = true, true, true
			}
		}
	}
	return seen[b]
}

func (j judge) path(ref string) bool {
	o := j.w.by[ref]
	if s := o.Facts.Text("state"); j.gone[ref] || s == "dead" {
		return false
	}
	var sides []string
	for _, fact := range []string{"initiator", "target"} {
		wwn := o.Facts.Text(fact)
		port := j.find("wwpn", wwn, estate.HBAPort)
		if port == "" || fact == "target" {
			if p := j.find("wwpn", wwn, estate.TargetPort); p != "" {
				port = p
			}
		}
		if j.gone[port] {
			return false
		}
		sp, sw := j.switchOf(wwn)
		if sp != "" && (j.gone[sp] || j.gone[sw]) {
			return false
		}
		sides = append(sides, sw)
	}
	return sides[0] == "" || sides[1] == "" || sides[0] == sides[1] || j.joined(sides[0], sides[1])
}

func (j judge) reaches(device string) bool {
	if j.gone[device] {
		return false
	}
	listed, usable := false, false
	for _, r := range j.w.list {
		if o := j.w.by[r]; o.Key.Ref.Kind == estate.Path && o.Links[estate.PartOf][0].String() == device {
			listed = true
			usable = usable || j.path(r)
		}
	}
	return !listed || usable
}

func (j judge) volume(ref string) bool {
	o := j.w.by[ref]
	if j.gone[ref] {
		return false
	}
	served := o.Links[estate.ServedBy]
	if len(served) > 0 && !slices.ContainsFunc(served, func(c estate.Ref) bool { return !j.gone[c.String()] }) {
		return false
	}
	for _, p := range o.Links[estate.CarvedFrom] {
		if !j.pool(p.String()) {
			return false
		}
	}
	mirror, up, all := false, false, true
	for _, leg := range o.Links[estate.BackedBy] {
		d := leg.String()
		mirror = mirror || len(j.w.by[d].Links[estate.MirroredTo]) > 0
		back := j.find("naa", j.w.by[d].Facts.Text("naa"), estate.Volume)
		ok := j.stands(d) && j.reaches(d) && j.volume(back)
		up, all = up || ok, all && ok
	}
	return len(o.Links[estate.BackedBy]) == 0 || all || mirror && up
}

func (j judge) pool(ref string) bool {
	if j.gone[ref] {
		return false
	}
	for _, g := range j.w.by[ref].Links[estate.MadeOf] {
		o := j.w.by[g.String()]
		if j.gone[g.String()] {
			return false
		}
		working, drives := 0, o.Links[estate.MadeOf]
		for _, d := range drives {
			if j.stands(d.String()) {
				working++
			}
		}
		may := map[string]int{"0": 0, "1": 1, "5": 1, "6": 2, "3+1": 1, "": 1}[o.Facts.Text("raid")]
		if len(drives)-working > min(may, len(drives)-1) {
			return false
		}
	}
	return true
}

func (j judge) vm(ref string) bool {
	o := j.w.by[ref]
	host := o.Links[estate.RunsOn][0].String()
	if j.gone[ref] || j.gone[host] {
		return false
	}
	for _, d := range o.Links[estate.Uses] {
		store := j.w.by[d.String()].Links[estate.StoredOn][0].String()
		if j.gone[d.String()] || j.gone[store] {
			return false
		}
		for _, naa := range j.w.by[store].Facts.Texts("extents") {
			v := j.find("naa", naa, estate.Volume)
			if !j.volume(v) {
				return false
			}
			for _, r := range j.w.list {
				dev := j.w.by[r]
				if dev.Key.Ref.Kind == estate.Device && dev.Key.Source == "hyp" && dev.Facts.Text("naa") == naa && dev.Links[estate.PartOf][0].String() == host && !j.reaches(r) {
					return false
				}
			}
		}
	}
	return true
}

// What the map says of a loss is what follows from taking the object away and looking whether each machine still reaches
// its disks.
func TestLossesAreThoseFoundByBruteForce(t *testing.T) {
	stops, survives := 0, 0
	for seed := range uint64(120) {
		w := invent(rand.New(rand.NewPCG(seed, 8)))
		m := NewMap(estate.Build(w.e.Objects))
		whole := w.without("")
		for _, ref := range w.list {
			i, ok := m.Estate().Position(w.by[ref].Key)
			require.True(t, ok)
			gone := w.without(ref)
			said := map[string]Outcome{}
			for _, l := range m.Lose(i) {
				said[m.Estate().At(l.VM).Key.Ref.String()] = l.Outcome
			}
			for n := range 4 {
				vm := fmt.Sprintf("vm:%d", n)
				before, after := whole.vm(vm), gone.vm(vm)
				outcome, listed := said[vm]
				if before && !after {
					stops++
					require.Equal(t, WouldStop, outcome, "seed %d: without %s %s stops", seed, ref, vm)
					continue
				}
				if !listed {
					continue // it does not depend on it at all, and runs on
				}
				if !before {
					require.Equal(t, CutOff, outcome, "seed %d: %s does not run with %s either", seed, vm, ref)
					continue
				}
				survives++
				require.NotContains(t, []Outcome{WouldStop, CutOff}, outcome, "seed %d: without %s %s runs on", seed, ref, vm)
			}
		}
	}
	assert.Greater(t, stops, 2000)
	assert.Greater(t, survives, 1000)
}

// On estates drawn at random too, what depends on an object is just what has it below, in the same state.
func TestReachAndBelowAreOneRelationAtRandom(t *testing.T) {
	for seed := range uint64(40) {
		w := invent(rand.New(rand.NewPCG(seed, 9)))
		m := NewMap(estate.Build(w.e.Objects))
		up, down := map[[2]int32]State{}, map[[2]int32]State{}
		for i := range m.Estate().All() {
			for _, r := range m.Reach(i) {
				up[[2]int32{r.At, i}] = r.State
			}
			for _, r := range m.Below(i) {
				down[[2]int32{i, r.At}] = r.State
			}
		}
		for pair, s := range up {
			require.Equal(t, s, down[pair], "seed %d: %s needs %s", seed, m.Estate().At(pair[0]).Key, m.Estate().At(pair[1]).Key)
		}
		require.Len(t, down, len(up), "seed %d", seed)
	}
}

func TestLossesSayWhatKind(t *testing.T) {
	m := build(t, func(e *tiny.Estate) {
		for i, o := range e.Objects {
			if o.Key.Ref.String() == "raid_group:r1" {
				e.Objects[i].Facts = estate.Facts{"raid": "1"}
				e.Objects[i].Links[estate.MadeOf] = append(e.Objects[i].Links[estate.MadeOf], tiny.Key("array", "drive:d2").Ref)
			}
		}
		e.Add("array", "drive:d2", "drive 2", nil)
	})
	outcomes := func(source, ref string) map[Outcome]int {
		out := map[Outcome]int{}
		for _, l := range m.Lose(position(t, m, source, ref)) {
			out[l.Outcome]++
		}
		return out
	}
	for ref, want := range map[string]map[Outcome]int{
		"pool:p": {WouldStop: 2}, "array:x": {WouldStop: 2}, "volume:v": {WouldStop: 2}, "controller:c0": {WouldLosePath: 2}, "target_port:t0A": {WouldLosePath: 2}, "drive:d2": {WouldLoseProtection: 2},
	} {
		assert.Equal(t, want, outcomes("array", ref), ref)
	}
	assert.Equal(t, map[Outcome]int{WouldLosePath: 1}, outcomes("hyp", "hba_port:h0-0"))
	assert.Equal(t, map[Outcome]int{WouldStop: 1}, outcomes("hyp", "host:h0"))
	assert.Equal(t, map[Outcome]int{WouldLosePath: 2}, outcomes("fab", "isl:a"))
	assert.Equal(t, map[Outcome]int{WouldLosePath: 2}, outcomes("fab", "switch:a1"))
	assert.Equal(t, map[Outcome]int{WouldStop: 1}, outcomes("hyp", "vm:manifest-db-01"))
}

func TestTolerance(t *testing.T) {
	for raid, want := range map[string]int{"RAID 6": 2, "6+2": 2, "raid-5": 1, "7+1": 1, "10": 1, "1+0": 1, "0": 0, "JBOD": 0, "": 1, "8+3": 3, "RAID-TP": 3} {
		assert.Equal(t, want, Tolerates(raid, 8), raid)
	}
	assert.Zero(t, Tolerates("6+2", 1), "one alone has no spare")
	assert.Zero(t, Tolerates("", 1))
}

func TestTheShareThatGoesThrough(t *testing.T) {
	m := build(t, nil)
	disk := position(t, m, "hyp", "vdisk:manifest-db-01")
	for key, want := range map[string]float64{"hba_port:h0-0@hyp": 0.5, "hba_port:h1-0@hyp": 0, "target_port:t0A@array": 0.5, "target_port:t1A@array": 0, "controller:c0@array": 1, "pool:p@array": 1,
		"isl:a@fab": 0.5, "switch:a1@fab": 0.5, "path:h0-00@hyp": 0.5} {
		i, err := m.Estate().Resolve(key)
		require.NoError(t, err)
		assert.InDelta(t, want, m.Through(disk, i), 1e-9, key)
	}
}

func TestRowsFoldAndUnfold(t *testing.T) {
	m := build(t, func(e *tiny.Estate) {
		for n := range 30 {
			e.AddVM(fmt.Sprintf("ticket-gate-%02d", n), n%2)
		}
	})
	pool := position(t, m, "array", "pool:p")
	whole := m.Section(pool)
	folded := m.Cut(pool, Folding{Most: 6})
	groups := map[string]int{}
	for _, n := range folded.Nodes {
		if n.Count > 0 {
			groups[n.Ref] = n.Count
		}
	}
	assert.Equal(t, 32, groups["group:vm/0/0:tier 1"], "%v", slices.Collect(maps.Keys(groups)))
	assert.Less(t, len(folded.Nodes), len(whole.Nodes)/2)
	assert.Equal(t, whole.VMs, folded.VMs)
	count := func(s Section) (n int) {
		for _, x := range s.Nodes {
			n += max(1, x.Count)
		}
		return n
	}
	assert.Equal(t, count(whole), count(folded), "nothing is lost in groups")
	unfold := []string{"group:vm/0/0:tier 1"}
	for range 4 { // what is unfolded shows ever smaller groups, down to the machines
		s := m.Cut(pool, Folding{Most: 6, Unfold: unfold})
		assert.Equal(t, count(whole), count(s))
		for _, n := range s.Nodes {
			if n.Kind == estate.VM && n.Count > 0 {
				unfold = append(unfold, n.Ref)
			}
		}
	}
	last := m.Cut(pool, Folding{Most: 6, Unfold: unfold})
	vms := 0
	for _, n := range last.Nodes {
		if n.Kind == estate.VM && n.Count == 0 {
			vms++
		}
	}
	assert.Equal(t, 32, vms, "unfolded far enough each is shown")
	assert.Equal(t, len(whole.Nodes), len(m.Cut(pool, Folding{Most: 6, Above: 1000}).Nodes), "a section of few is not folded")
}

func TestLegsOfAMirror(t *testing.T) {
	m := build(t, func(e *tiny.Estate) {
		e.Add("virt", "array:y", "petrel", estate.Facts{"role": "virtualizer"})
		e.Add("virt", "device:a", "leg a", estate.Facts{"naa": "600d05e0000000000000000000000001"}, "part_of", "array:y")
		e.Add("virt", "device:b", "leg b", estate.Facts{"naa": "600d05e0000000000000000000000099", "state": "lost"}, "part_of", "array:y", "mirrored_to", "device:a")
		e.Add("virt", "volume:vv", "stretched-1", estate.Facts{"naa": "naa.600d05e0000000000000000000000002"}, "part_of", "array:y", "backed_by", "device:a", "backed_by", "device:b")
		e.Add("hyp", "datastore:two", "ds-carrageen-01", estate.Facts{"extents": []any{"naa.600d05e0000000000000000000000002"}})
		e.Add("hyp", "vdisk:s", "s", nil, "stored_on", "datastore:two")
		e.Add("hyp", "vm:s", "s", nil, "runs_on", "host:h0", "uses", "vdisk:s")
	})
	legs := m.Backing(position(t, m, "virt", "volume:vv"))
	require.Len(t, legs, 2)
	assert.True(t, legs[0].Mirror && legs[1].Mirror)
	assert.Equal(t, []State{Active, Dead}, []State{legs[0].State, legs[1].State})
	s := m.Section(position(t, m, "hyp", "vm:s"))
	codes := map[string]bool{}
	for _, r := range s.Remarks {
		codes[r.Code] = true
	}
	assert.True(t, codes["leg_lost"], "%v", s.Remarks)
	outcome := m.Lose(position(t, m, "virt", "device:a"))
	require.Len(t, outcome, 1)
	assert.Equal(t, WouldStop, outcome[0].Outcome, "the other leg is lost already")
	assert.Equal(t, WouldNotNotice, m.Lose(position(t, m, "virt", "device:b"))[0].Outcome)
}

func TestWaysThatAreCabledAndNotZoned(t *testing.T) {
	zone := func(members ...string) func(*tiny.Estate) {
		return func(e *tiny.Estate) {
			for i, o := range e.Objects {
				if o.Key.Ref.String() == "volume:v" {
					for _, p := range []string{"t0A", "t1A"} {
						e.Objects[i].Links[estate.ExposedOn] = append(e.Objects[i].Links[estate.ExposedOn], tiny.Key("array", "target_port:"+p).Ref)
					}
				}
			}
			e.Objects = slices.DeleteFunc(e.Objects, func(o estate.Object) bool { return o.Key.Ref.String() == "path:h0-10" }) // to t1A
			var list []any
			for _, m := range members {
				list = append(list, m)
			}
			e.Add("fab", "zone:z", "z", estate.Facts{"members": list}, "member_of", "fabric:a")
		}
	}
	remarks := func(change func(*tiny.Estate)) []string {
		m := build(t, change)
		var out []string
		for _, r := range m.Section(position(t, m, "hyp", "vm:manifest-db-01")).Remarks {
			out = append(out, r.Code)
		}
		return out
	}
	assert.Equal(t, []string{"not_zoned"}, remarks(zone(tiny.WWN(1), tiny.WWN(20))), "the port and the other controller's are in no zone")
	assert.Empty(t, remarks(zone(tiny.WWN(1), tiny.WWN(20), tiny.WWN(21))), "zoned, though not used: that may be meant")
	m := build(t, zone(tiny.WWN(1), tiny.WWN(20)))
	s := m.Section(position(t, m, "hyp", "vm:manifest-db-01"))
	assert.True(t, slices.ContainsFunc(s.Routes, func(r Route) bool { return r.State == NotZoned }), "it is drawn as what it is")
}

func TestHardwareTree(t *testing.T) {
	m := build(t, func(e *tiny.Estate) {
		e.Add("array", "enclosure:e", "enclosure 1", nil, "part_of", "array:x")
		for _, d := range []string{"drive 10", "drive 2"} {
			e.Add("array", "drive:"+d, d, nil, "part_of", "enclosure:e")
		}
	})
	tree := m.Hardware(position(t, m, "array", "array:x"))
	var names []string
	var walk func(p Part)
	walk = func(p Part) {
		names = append(names, m.Estate().At(p.At).Title())
		for _, x := range p.Parts {
			walk(x)
		}
	}
	walk(tree)
	assert.Equal(t, []string{"heron", "controller 0", "0A", "0B", "controller 1", "1A", "1B", "enclosure 1", "drive 2", "drive 10", "pool 1", "rg-1", "rg-2"}, names)
}

func TestTheReachAsAGraph(t *testing.T) {
	m := build(t, nil)
	pool := position(t, m, "array", "pool:p")
	w := m.ReachWeb(pool, 1000)
	assert.Len(t, w.Nodes, len(m.Reach(pool))+1)
	assert.Equal(t, "pool:p@array", w.Focus)
	into := map[int]int{}
	for _, l := range w.Links {
		into[l.To]++
	}
	for k, n := range w.Nodes[1:] {
		assert.True(t, into[k+1] > 0 || n.Kind == estate.VM, "%s is needed by something, or a machine", n.Ref)
	}
	few := m.ReachWeb(pool, 5)
	assert.Len(t, few.Nodes, 5)
	assert.Equal(t, len(w.Nodes)-5, few.More)
	s := m.Section(pool)
	assert.Equal(t, s.Nodes, s.Web().Nodes)
}

func TestCopiesAndOtherNames(t *testing.T) {
	m := build(t, func(e *tiny.Estate) {
		e.Add("array", "volume:copy", "vol-1-copy", nil, "carved_from", "pool:p")
		e.Add("array", "volume:snap", "vol-1-snap", nil, "snapshot_of", "volume:v")
		for i, o := range e.Objects {
			if o.Key.Ref.String() == "volume:v" {
				e.Objects[i].Links[estate.ReplicatedTo] = []estate.Ref{tiny.Key("array", "volume:copy").Ref}
			}
		}
	})
	at := func(ref string) int32 { return position(t, m, "array", ref) }
	out, of := m.Copies(position(t, m, "hyp", "vm:manifest-db-01"))
	require.Len(t, out, 1)
	assert.Empty(t, of)
	assert.Equal(t, []int32{at("volume:v"), at("volume:copy")}, []int32{out[0].Volume, out[0].To})
	assert.False(t, out[0].Mirror)
	_, of = m.Copies(at("volume:copy"))
	require.Len(t, of, 1)
	assert.Equal(t, at("volume:v"), of[0].Volume)
	_, of = m.Copies(at("volume:snap"))
	require.Len(t, of, 1)
	assert.Empty(t, m.VMs(at("volume:copy")), "nothing depends on a copy")
	assert.Equal(t, []string{"datastore ds-dulse-01"}, m.OtherNames(at("volume:v")))
	assert.Equal(t, []string{"at skerry-a2 port 20"}, m.OtherNames(at("target_port:t0A")))
}

func TestTheFirstLossesAreThoseOfTheWholeOrder(t *testing.T) {
	for seed := range uint64(40) {
		w := invent(rand.New(rand.NewPCG(seed, 8)))
		m := NewMap(estate.Build(w.e.Objects))
		for _, pool := range m.Estate().OfKind(estate.Pool) {
			reach := m.Reach(pool)
			all := m.LoseWithin(pool, reach, 0)
			for most := 1; most <= len(all)+1; most++ {
				first := m.LoseWithin(pool, reach, most)
				n := min(most, len(all))
				require.Equal(t, all[:n], first[:n], "seed %d, the first %d", seed, most)
				require.ElementsMatch(t, all, first)
			}
		}
	}
}
