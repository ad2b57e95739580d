package route_test

import (
	"fmt"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dowsingrod/core/estate"
	"dowsingrod/core/internal/tiny"
	. "dowsingrod/core/route"
)

// mesh adds a third switch between a1 and a2, by links of a cost each.
func mesh(direct, first, second float64) func(*tiny.Estate) {
	return func(e *tiny.Estate) {
		for i, o := range e.Objects {
			if o.Key.Ref.String() == "isl:a" {
				e.Objects[i].Facts["cost"] = direct
			}
		}
		e.Add("fab", "switch:a3", "skerry-a3", nil)
		port := func(id, sw string, n int) {
			e.Add("fab", "switch_port:"+id, id, estate.Facts{"wwpn": tiny.WWN(n)}, "part_of", "switch:"+sw)
		}
		port("a1-8", "a1", 0xc1)
		port("a3-1", "a3", 0xc2)
		port("a3-2", "a3", 0xc3)
		port("a2-8", "a2", 0xc4)
		e.Add("fab", "isl:a13", "a13", estate.Facts{"ends": []any{tiny.WWN(0xc1), tiny.WWN(0xc2)}, "cost": first})
		e.Add("fab", "isl:a32", "a32", estate.Facts{"ends": []any{tiny.WWN(0xc3), tiny.WWN(0xc4)}, "cost": second})
	}
}

func islsOf(t *testing.T, change func(*tiny.Estate)) []string {
	m := build(t, change)
	s := m.Section(position(t, m, "hyp", "hba_port:h0-0"))
	var names []string
	for _, n := range s.Nodes {
		if n.Kind == estate.ISL {
			names = append(names, n.Name)
		}
	}
	slices.Sort(names)
	return names
}

func TestFramesTakeTheLeastCost(t *testing.T) {
	assert.Equal(t, []string{"link"}, islsOf(t, mesh(500, 500, 500)))
	assert.Equal(t, []string{"a13", "a32"}, islsOf(t, mesh(2000, 500, 500)))
	assert.Equal(t, []string{"a13", "a32", "link"}, islsOf(t, mesh(1000, 500, 500)), "ways of one cost are all used")
}

func TestASwitchInTheMiddleIsOnTheWay(t *testing.T) {
	m := build(t, mesh(2000, 500, 500))
	var names []string
	for _, r := range m.VMs(position(t, m, "fab", "switch:a3")) {
		names = append(names, m.Estate().At(r.At).Name)
	}
	assert.Equal(t, []string{"manifest-db-01", "tide-model-01"}, names)
}

func TestOneSwitchNeedsNoLink(t *testing.T) {
	m := build(t, func(e *tiny.Estate) {
		for i, o := range e.Objects { // the array's ports move to the hosts' switch
			for port := 20; port <= 21; port++ {
				if o.Key.Ref.String() == fmt.Sprintf("switch_port:p%d", port) {
					e.Objects[i].Links = estate.Links{estate.PartOf: {tiny.Key("fab", "switch:a1").Ref}}
				}
			}
		}
	})
	s := m.Section(position(t, m, "hyp", "hba_port:h0-0"))
	require.NotEmpty(t, s.Routes)
	assert.Empty(t, s.Breaks)
	assert.Zero(t, kindsOf(s)[estate.ISL])
}

func TestDeadAndDisabledPathsAreShownAsSuch(t *testing.T) {
	for _, state := range []State{Dead, Disabled} {
		m := build(t, func(e *tiny.Estate) {
			for i, o := range e.Objects {
				if o.Key.Ref.String() == "path:h0-00" {
					e.Objects[i].Facts["state"] = string(state)
				}
			}
		})
		s := m.Section(position(t, m, "hyp", "vm:manifest-db-01"))
		states := map[State]int{}
		for _, r := range s.Routes {
			states[r.State]++
		}
		assert.Equal(t, 1, states[state])
		assert.Equal(t, 1, states[Active])
		reach := m.VMs(position(t, m, "hyp", "hba_port:h0-0"))
		require.Len(t, reach, 1)
		assert.Equal(t, Standby, reach[0].State, "by its standby path the VM still depends on the port")
	}
}

func TestAVDiskOnTwoDatastoresHasRoutesToBoth(t *testing.T) {
	m := build(t, func(e *tiny.Estate) {
		const other = "naa.600d05e0000000000000000000000009"
		e.Add("array", "volume:w", "vol-2", estate.Facts{"naa": other}, "carved_from", "pool:p")
		e.Add("hyp", "datastore:wide", "wide", estate.Facts{"extents": []any{"naa.600d05e0000000000000000000000001", other}})
		e.Add("hyp", "vdisk:x", "x", nil, "stored_on", "datastore:wide")
		e.Add("hyp", "vm:x", "x", nil, "runs_on", "host:h0", "uses", "vdisk:x")
	})
	s := m.Section(position(t, m, "hyp", "vm:x"))
	assert.Equal(t, 2, kindsOf(s)[estate.Volume])
	require.NotEmpty(t, s.Breaks, "no source lists a path to the second extent")
	assert.Len(t, m.Volumes(position(t, m, "hyp", "vdisk:x")), 2)
}
