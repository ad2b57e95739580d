package estate_test

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	. "dowsingrod/core/estate"
)

func TestReferences(t *testing.T) {
	for text, ok := range map[string]bool{"vm:a": true, "share:filer:/drift": true, "vm:": false, ":a": false, "vm": false, "": false} {
		r, err := ParseRef(text)
		assert.Equal(t, ok, err == nil, text)
		if ok {
			assert.Equal(t, text, r.String())
		}
	}
	assert.Equal(t, "vm:a@hyp", Key{"hyp", ref("vm:a")}.String())
}

func TestFacts(t *testing.T) {
	f := Facts{"text": "x", "number": 14.0, "part": 0.5, "list": []any{"a", 1.0, "b"}, "flag": true, "nothing": nil}
	assert.Equal(t, "x", f.Text("text"))
	assert.Equal(t, "14", f.Text("number"))
	assert.Equal(t, "0.5", f.Text("part"))
	assert.Empty(t, f.Text("list"))
	assert.Empty(t, f.Text("absent"))
	n, ok := f.Number("number")
	assert.True(t, ok)
	assert.InDelta(t, 14, n, 0)
	_, ok = f.Number("text")
	assert.False(t, ok)
	assert.Equal(t, []string{"a", "b"}, f.Texts("list"))
	assert.Equal(t, []string{"x"}, f.Texts("text"))
	assert.Nil(t, f.Texts("flag"))
}

func TestEveryKindHasALayerAndWords(t *testing.T) {
	seen := map[Layer]bool{}
	for _, k := range []Kind{Site, SiteLink, VM, VDisk, Cluster, Host, HBAPort, Device, Path, DatastoreGroup, Datastore, Fabric, Switch, Zone, SwitchPort, ISL, Flow,
		Array, Controller, TargetPort, Volume, Share, Pool, RAIDGroup, Drive, Cache, Enclosure, Fan, PowerSupply} {
		assert.True(t, k.Known())
		assert.NotEmpty(t, k.Label())
		assert.NotContains(t, k.Label(), "_")
		require.NotEmpty(t, k.Layer())
		seen[k.Layer()] = true
	}
	for _, l := range Layers {
		assert.True(t, seen[l], l)
	}
	assert.True(t, Kind("x_rack").Known(), "extensions are let through")
	assert.False(t, Kind("x_").Known())
	assert.False(t, Kind("cow").Known())
	assert.Empty(t, Kind("x_rack").Layer())
	assert.True(t, LinkKind("x_near").Sendable())
}

func TestOwnersAreFoundUpTheChain(t *testing.T) {
	e := Build([]Object{
		obj("a", Array, "x", "heron", nil, nil), obj("a", Controller, "c", "0", nil, Links{PartOf: {ref("array:x")}}),
		obj("a", TargetPort, "t", "0A", nil, Links{PartOf: {ref("controller:c")}}), obj("a", Drive, "d", "d", nil, nil),
	})
	at := func(r string) int32 { i, _ := e.Position(Key{"a", ref(r)}); return i }
	owner, ok := e.Owner(at("target_port:t"), Array)
	require.True(t, ok)
	assert.Equal(t, "heron", e.At(owner).Title())
	_, ok = e.Owner(at("drive:d"), Array)
	assert.False(t, ok)
	_, ok = e.Owner(at("target_port:t"), Switch)
	assert.False(t, ok)
}

func TestOfTwoWithOneKeyTheLaterWins(t *testing.T) {
	e := Build([]Object{obj("a", VM, "x", "old", nil, nil), obj("a", VM, "x", "new", nil, nil)})
	require.Equal(t, 1, e.Len())
	assert.Equal(t, "new", e.At(0).Title())
	assert.Equal(t, "id only", (&Node{Key: Key{"a", Ref{VM, "id only"}}}).Title())
}

func TestBestMatchesComeFirst(t *testing.T) {
	e := Build([]Object{
		obj("a", VM, "1", "gate", nil, nil), obj("a", VM, "2", "gate-01", nil, nil), obj("a", VM, "3", "ticket-gate-01", nil, nil),
		obj("a", VDisk, "4", "gate-01 disk", nil, nil), obj("a", Array, "5", "heron", Facts{"serial": "GATE77"}, nil),
		obj("a", Host, "6", "h", Facts{"iqn": "iqn.2026-03.example.tidewrack:gate"}, nil),
	})
	var names []string
	found := e.Find("gate", "", 0).Matches
	for _, m := range found {
		names = append(names, e.At(m.At).Title())
	}
	assert.Equal(t, []string{"gate", "gate-01", "gate-01 disk", "ticket-gate-01", "h", "heron"}, names)
	first := e.Find("gate", "", 2)
	assert.True(t, first.More, "those that contain it need not be looked for")
	assert.Equal(t, found[:2], first.Matches, "the first few are the same as of all")
	assert.Len(t, e.Find("GATE", VM, 0).Matches, 3, "without regard to case, and of one kind")
}

func TestPlurals(t *testing.T) {
	for kind, want := range map[Kind]string{VM: "virtual machines", Switch: "switches", PowerSupply: "power supplies", RAIDGroup: "RAID groups", "x_rack": "x_racks"} {
		assert.Equal(t, want, kind.Plural())
	}
}

func TestWhereThingsAre(t *testing.T) {
	e := Build([]Object{
		obj("a", Site, "n", "Northmole", nil, nil), obj("a", Cluster, "c", "c", nil, Links{MemberOf: {ref("site:n")}}), obj("a", Host, "h", "h", nil, Links{MemberOf: {ref("cluster:c")}}),
		obj("a", VM, "v", "v", nil, Links{RunsOn: {ref("host:h")}}), obj("a", HBAPort, "p", "p", nil, Links{PartOf: {ref("host:h")}}), obj("a", Drive, "d", "d", nil, nil),
	})
	at := func(r string) int32 { i, _ := e.Position(Key{"a", ref(r)}); return i }
	for _, r := range []string{"site:n", "cluster:c", "host:h", "vm:v", "hba_port:p"} {
		site, ok := e.Site(at(r))
		require.True(t, ok, r)
		assert.Equal(t, at("site:n"), site, r)
	}
	_, ok := e.Site(at("drive:d"))
	assert.False(t, ok)
	assert.Equal(t, at("vm:v"), e.FirstFrom(at("host:h"), RunsOn))
	assert.Equal(t, int32(-1), e.FirstFrom(at("host:h"), Uses))
	assert.Equal(t, int32(-1), e.First(at("drive:d"), PartOf))
	assert.Equal(t, 1, e.Number(VM))
	kinds := map[Kind]int{}
	for k, n := range e.Kinds() {
		kinds[k] = n
	}
	assert.Len(t, kinds, 6)
}

func TestIdentifiersInWords(t *testing.T) {
	for want, id := range map[string]Identity{"naa.600d05e0aaaaaaaaaaaaaaaaaaaaaaa1": {NAA, "600d05e0aaaaaaaaaaaaaaaaaaaaaaa1"}, "WWN 50:0d:00:00:00:00:00:01": {WWN, "500d000000000001"},
		"iqn.2026-03.example:a": {IQN, "iqn.2026-03.example:a"}, "export filer:/x": {Export, "filer:/x"}, "serial AB12": {Serial, "AB12"}, "UUID 6f1c24d0-0b5e-4a53-9d6c-1d2a5a1c0e07": {UUID, "6f1c24d00b5e4a539d6c1d2a5a1c0e07"}} {
		assert.Equal(t, want, id.String())
	}
}

// Whatever is looked for among many, the first few are the first of all that answer in the best way.
func TestTheFirstFewOfMany(t *testing.T) {
	var objects []Object
	for n := range 3000 {
		objects = append(objects, obj("a", VM, fmt.Sprint("v", n), fmt.Sprintf("manifest-%04d", n), nil, nil),
			obj("a", VDisk, fmt.Sprint("d", n), fmt.Sprintf("disk of manifest-%04d", n), Facts{"uuid": fmt.Sprintf("%032x", n)}, nil))
	}
	objects = append(objects, obj("a", Host, "exact", "manifest", nil, nil))
	e := Build(objects)
	names := func(f Found) (out []string) {
		for _, m := range f.Matches {
			out = append(out, e.At(m.At).Title())
		}
		return out
	}
	f := e.Find("manifest", "", 4)
	assert.Equal(t, []string{"manifest", "manifest-0000", "manifest-0001", "manifest-0002"}, names(f))
	assert.True(t, f.More)
	all := e.Find("manifest", "", 0)
	assert.Equal(t, 6001, all.Total)
	assert.False(t, all.More)
	assert.Equal(t, names(f), names(all)[:4])
	assert.Equal(t, []string{"disk of manifest-0000", "disk of manifest-0001"}, names(e.Find("of manifest", "", 2)))
	assert.Equal(t, []string{"manifest-2999"}, names(e.Find("manifest-2999", VM, 5)))
	assert.Equal(t, 1, e.Find("00000000-0000-0000-0000-000000000bb7", "", 5).Total)
}
