package route_test

import (
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dowsingrod/core/estate"
	"dowsingrod/core/internal/tiny"
	. "dowsingrod/core/route"
)

func build(t *testing.T, change func(*tiny.Estate)) *Map {
	e := tiny.New(1)
	e.AddVM("manifest-db-01", 0)
	e.AddVM("tide-model-01", 1)
	if change != nil {
		change(e)
	}
	return NewMap(estate.Build(e.Objects))
}

func position(t *testing.T, m *Map, source, ref string) int32 {
	i, ok := m.Estate().Position(tiny.Key(source, ref))
	require.True(t, ok, ref)
	return i
}

func kindsOf(s Section) map[estate.Kind]int {
	n := map[estate.Kind]int{}
	for _, node := range s.Nodes {
		n[node.Kind]++
	}
	return n
}

func TestSectionOfAVMGoesDownToItsDrives(t *testing.T) {
	m := build(t, nil)
	s := m.Section(position(t, m, "hyp", "vm:manifest-db-01"))
	assert.Empty(t, s.Breaks)
	assert.Equal(t, map[estate.Kind]int{estate.VM: 1, estate.VDisk: 1, estate.Host: 1, estate.Datastore: 1, estate.HBAPort: 2, estate.SwitchPort: 2 + 4, estate.ISL: 2,
		estate.TargetPort: 4, estate.Controller: 2, estate.Volume: 1, estate.Pool: 1, estate.RAIDGroup: 2, estate.Drive: 1}, kindsOf(s))
	require.Len(t, s.Routes, 4)
	states := map[State]int{}
	for _, r := range s.Routes {
		states[r.State]++
		assert.Equal(t, "14", r.LUN)
		first, last := s.Nodes[r.Stops[0]], s.Nodes[r.Stops[len(r.Stops)-1]]
		assert.Equal(t, estate.VM, first.Kind)
		assert.Equal(t, estate.Volume, last.Kind)
		assert.True(t, slices.IsSortedFunc(r.Stops, func(a, b int) int { return s.Nodes[a].Row - s.Nodes[b].Row }), "a route only goes down")
	}
	assert.Equal(t, map[State]int{Active: 2, Standby: 2}, states)
	for _, l := range s.Links {
		if s.Nodes[l.To].Name == "1A" || s.Nodes[l.To].Name == "1B" {
			assert.Equal(t, Standby, l.State, "what only standby paths use is standby")
		}
	}
	assert.Contains(t, s.Nodes[slices.IndexFunc(s.Nodes, func(n Node) bool { return n.Kind == estate.Volume })].Aliases, "LUN 14")
}

func TestSectionOfAPortHoldsOnlyWhatPassesIt(t *testing.T) {
	m := build(t, nil)
	s := m.Section(position(t, m, "fab", "switch_port:p1")) // lighthouse-0's first port
	k := kindsOf(s)
	assert.Equal(t, 1, k[estate.VM])
	assert.Equal(t, 1, k[estate.HBAPort])
	assert.Equal(t, 1, k[estate.ISL])
	assert.Len(t, s.Routes, 2)
	assert.Equal(t, 1, s.VMs)
}

func TestReachGoesUpWithTheBestState(t *testing.T) {
	m := build(t, nil)
	vms := func(source, ref string) map[string]State {
		out := map[string]State{}
		for _, r := range m.VMs(position(t, m, source, ref)) {
			out[m.Estate().At(r.At).Name] = r.State
		}
		return out
	}
	both := map[string]State{"manifest-db-01": Active, "tide-model-01": Active}
	for _, ref := range []string{"drive:d1", "raid_group:r2", "pool:p", "volume:v", "controller:c0", "target_port:t0A", "array:x"} {
		assert.Equal(t, both, vms("array", ref), ref)
	}
	assert.Equal(t, map[string]State{"manifest-db-01": Standby, "tide-model-01": Standby}, vms("array", "target_port:t1B"))
	assert.Equal(t, both, vms("fab", "isl:a"))
	assert.Equal(t, both, vms("fab", "switch:b2"))
	assert.Equal(t, map[string]State{"tide-model-01": Active}, vms("hyp", "hba_port:h1-0"))
	assert.Equal(t, map[string]State{"manifest-db-01": Active}, vms("hyp", "device:h0-v"))
}

// What a depends on is just what has a in its reach, for every pair.
func TestReachAndBelowAreOneRelation(t *testing.T) {
	m := build(t, nil)
	n := int32(m.Estate().Len())
	up := map[[2]int32]State{}
	for i := range n {
		for _, r := range m.Reach(i) {
			up[[2]int32{r.At, i}] = r.State
		}
	}
	seen := 0
	for i := range n {
		for _, r := range m.Below(i) {
			seen++
			require.Equal(t, up[[2]int32{i, r.At}], r.State, "%s → %s", m.Estate().At(i).Key, m.Estate().At(r.At).Key)
		}
	}
	require.Equal(t, len(up), seen)
}

func TestBreaksSayWhereTheMapEnds(t *testing.T) {
	without := func(prefix string) func(*tiny.Estate) {
		return func(e *tiny.Estate) {
			e.Objects = slices.DeleteFunc(e.Objects, func(o estate.Object) bool { return strings.HasPrefix(o.Key.Ref.String(), prefix) })
		}
	}
	for name, c := range map[string]struct {
		without, says string
	}{
		"array not watched": {"volume:", "no array"},
		"no paths":          {"path:", "no source lists the paths"},
		"link missing":      {"isl:", "no inter-switch link"},
		"array port":        {"target_port:", "array port of a path"},
	} {
		t.Run(name, func(t *testing.T) {
			m := build(t, without(c.without))
			s := m.Section(position(t, m, "hyp", "vm:manifest-db-01"))
			require.NotEmpty(t, s.Breaks)
			assert.Contains(t, s.Breaks[0].Why, c.says)
			assert.NotEmpty(t, s.Nodes, "what is known is still drawn")
		})
	}
}

func TestVirtualizerGoesOnToTheArraysBehindIt(t *testing.T) {
	m := build(t, func(e *tiny.Estate) {
		const outer = "naa.600d05e0000000000000000000000002"
		e.Add("virt", "array:y", "petrel", estate.Facts{"role": "virtualizer"})
		e.Add("virt", "device:be", "back-end LUN", estate.Facts{"naa": "600d05e0000000000000000000000001"}, "part_of", "array:y")
		e.Add("virt", "volume:vv", "stretched-1", estate.Facts{"naa": outer}, "part_of", "array:y", "backed_by", "device:be")
		e.Add("hyp", "datastore:ds2", "ds-carrageen-01", estate.Facts{"extents": []any{outer}})
		e.Add("hyp", "vdisk:x", "x", nil, "stored_on", "datastore:ds2")
		e.Add("hyp", "vm:x", "x", nil, "runs_on", "host:h0", "uses", "vdisk:x")
	})
	s := m.Section(position(t, m, "hyp", "vm:x"))
	layers := map[string]estate.Layer{}
	for _, n := range s.Nodes {
		layers[n.Name] = n.Layer
	}
	assert.Equal(t, estate.LayerFrontEnd, layers["stretched-1"])
	assert.Equal(t, estate.LayerBackEnd, layers["vol-1"], "the array behind is back end")
	assert.Equal(t, estate.LayerBackEnd, layers["pool 1"])
	var names []string
	for _, r := range m.VMs(position(t, m, "array", "pool:p")) {
		names = append(names, m.Estate().At(r.At).Name)
	}
	assert.Contains(t, names, "x", "the pool's reach goes up through the virtualizer")
	legs := m.Backing(position(t, m, "virt", "volume:vv"))
	require.Len(t, legs, 1)
	assert.Equal(t, position(t, m, "array", "volume:v"), legs[0].Volume)
}

func TestEveryKindHasASection(t *testing.T) {
	m := build(t, nil)
	for i := range int32(m.Estate().Len()) {
		s := m.Section(i)
		assert.Equal(t, m.Estate().At(i).Key.String(), s.Focus)
		assert.NotEmpty(t, s.Nodes, s.Focus)
		for _, l := range s.Links {
			assert.NotEqual(t, l.From, l.To)
		}
	}
}
