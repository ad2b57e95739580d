package estate_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	. "dowsingrod/core/estate"
)

const naaText = "naa.6001405f00000000000000000000000e"

func obj(source string, kind Kind, id, name string, facts Facts, links Links) Object {
	return Object{Key: Key{Source: source, Ref: Ref{Kind: kind, ID: id}}, Name: name, Facts: facts, Links: links}
}

func ref(s string) Ref {
	r, err := ParseRef(s)
	if err != nil {
		panic(err)
	}
	return r
}

func codes(e *Estate) map[string]int {
	out := map[string]int{}
	for _, f := range e.Findings() {
		out[f.Code]++
	}
	return out
}

func TestJoinsByIdentityAcrossSources(t *testing.T) {
	e := Build([]Object{
		obj("hyp", Datastore, "ds", "ds-dulse-01", Facts{"extents": []any{"0x6001405F00000000000000000000000E"}}, nil),
		obj("hyp", Device, "d", "", Facts{"naa": naaText}, nil),
		obj("hyp", HBAPort, "p", "hba0", Facts{"wwpn": "10000000c9a0b1c2"}, nil),
		obj("hyp", Path, "x", "", Facts{"initiator": "10:00:00:00:c9:a0:b1:c2", "target": "0x500D000000000001", "lun": 3.0}, Links{PartOf: {ref("device:d")}}),
		obj("array", Volume, "v", "vol-1", Facts{"naa": "6001405f00000000000000000000000e"}, nil),
		obj("array", TargetPort, "t", "0A", Facts{"wwpn": "50:0d:00:00:00:00:00:01"}, nil),
		obj("fab", SwitchPort, "s1", "01", Facts{"attached": []any{"10:00:00:00:C9:A0:B1:C2"}}, nil),
		obj("fab", SwitchPort, "s2", "02", Facts{"attached": []any{"500d000000000001"}}, nil),
		obj("filer", Share, "sh", "drift", Facts{"export": "filer:/drift/"}, nil),
		obj("hyp", Datastore, "nfs", "ds-nfs", Facts{"export": "FILER:/drift"}, nil),
	})
	require.Empty(t, e.Findings())
	at := func(source, r string) int32 {
		i, ok := e.Position(Key{Source: source, Ref: ref(r)})
		require.True(t, ok, r)
		return i
	}
	assert.Equal(t, []int32{at("array", "volume:v")}, e.To(at("hyp", "datastore:ds"), Extent))
	assert.Equal(t, []int32{at("array", "volume:v")}, e.To(at("hyp", "device:d"), Opens))
	assert.Equal(t, []int32{at("hyp", "hba_port:p")}, e.To(at("hyp", "path:x"), Initiator))
	assert.Equal(t, []int32{at("array", "target_port:t")}, e.To(at("hyp", "path:x"), Target))
	assert.Equal(t, []int32{at("fab", "switch_port:s1")}, e.To(at("hyp", "hba_port:p"), Attached))
	assert.Equal(t, []int32{at("fab", "switch_port:s2")}, e.To(at("array", "target_port:t"), Attached))
	assert.Equal(t, []int32{at("filer", "share:sh")}, e.To(at("hyp", "datastore:nfs"), Exports))
	assert.Equal(t, []int32{at("hyp", "path:x")}, e.From(at("hyp", "device:d"), PartOf))
}

func TestNamesNeverJoin(t *testing.T) {
	e := Build([]Object{
		obj("hyp", Datastore, "ds", "same", Facts{"extents": []any{naaText}}, nil),
		obj("array", Volume, "v", "same", Facts{"naa": "naa.6001405f00000000000000000000000f"}, nil),
	})
	i, _ := e.Position(Key{"hyp", ref("datastore:ds")})
	assert.Empty(t, e.To(i, Extent))
	require.Len(t, e.Findings(), 1)
	assert.Equal(t, NotJoined, e.Findings()[0].Code)
	assert.Contains(t, e.Findings()[0].Detail, naaText)
}

func TestFindings(t *testing.T) {
	for name, c := range map[string]struct {
		objects []Object
		code    string
		says    string
	}{
		"link to nothing": {[]Object{obj("hyp", VM, "a", "a", nil, Links{RunsOn: {ref("host:none")}})}, LinkToNothing, "host:none"},
		"two claim one NAA": {[]Object{obj("array", Volume, "a", "a", Facts{"naa": naaText}, nil), obj("other", Volume, "b", "b", Facts{"naa": naaText}, nil),
			obj("hyp", Device, "d", "d", Facts{"naa": naaText}, nil)}, IdentityClaimedTwice, "nothing is joined"},
		"unreadable": {[]Object{obj("array", Volume, "a", "a", Facts{"naa": "naa.12"}, nil)}, IdentityUnreadable, "16 or 32"},
		"pool of itself": {[]Object{obj("array", Pool, "a", "a", nil, Links{MadeOf: {ref("pool:b")}}), obj("array", Pool, "b", "b", nil, Links{MadeOf: {ref("pool:a")}})},
			Cycle, "circle"},
		"unknown login": {[]Object{obj("fab", SwitchPort, "s", "s", Facts{"attached": []any{"500d000000000001"}}, nil)}, NotJoined, "logged in"},
	} {
		t.Run(name, func(t *testing.T) {
			e := Build(c.objects)
			require.NotZero(t, codes(e)[c.code], "%+v", e.Findings())
			found := false
			for _, f := range e.Findings() {
				found = found || f.Code == c.code && f.Object != "" && strings.Contains(f.Detail, c.says)
			}
			assert.True(t, found, "%+v", e.Findings())
		})
	}
}

func TestPartOfAPoolThatIsMadeOfItIsNoCircle(t *testing.T) {
	e := Build([]Object{obj("array", Pool, "p", "p", nil, Links{MadeOf: {ref("raid_group:r")}}), obj("array", RAIDGroup, "r", "r", nil, Links{PartOf: {ref("pool:p")}})})
	assert.Empty(t, e.Findings())
}

// However links are drawn at random, what is left after Build has no circle of dependence.
func TestCyclesAreAlwaysBroken(t *testing.T) {
	var objects []Object
	for i := range 40 {
		id := string(rune('a'+i%26)) + string(rune('a'+i/26))
		var to []Ref
		for k := 1; k < 4; k++ {
			j := (i*7 + k*11) % 40
			to = append(to, Ref{Pool, string(rune('a'+j%26)) + string(rune('a'+j/26))})
		}
		objects = append(objects, obj("array", Pool, id, id, nil, Links{MadeOf: to}))
	}
	e := Build(objects)
	state := make([]int, e.Len())
	var visit func(i int32)
	visit = func(i int32) {
		state[i] = 1
		for _, edge := range e.Out(i) {
			require.NotEqual(t, 1, state[edge.To], "a circle is left")
			if state[edge.To] == 0 {
				visit(edge.To)
			}
		}
		state[i] = 2
	}
	for i := range int32(e.Len()) {
		if state[i] == 0 {
			visit(i)
		}
	}
}

func TestFindAndResolve(t *testing.T) {
	e := Build([]Object{
		obj("hyp", VM, "vm-1", "manifest-db-02", Facts{"uuid": "6f1c24d0-0b5e-4a53-9d6c-1d2a5a1c0e07"}, nil),
		obj("hyp", VM, "vm-2", "manifest-db-01", nil, nil),
		obj("hyp", Device, "d", naaText, Facts{"naa": naaText}, nil),
		obj("array", Volume, "v", "vol-1", Facts{"naa": naaText, "number": 14.0}, nil),
		obj("other", Volume, "v", "vol-1", Facts{"number": 114.0}, nil),
	})
	name := func(m Match) string { return e.At(m.At).Title() }
	f := e.Find("manifest", "", 0)
	found := f.Matches
	assert.Equal(t, 2, f.Total)
	require.Len(t, found, 2)
	assert.Equal(t, "manifest-db-01", name(found[0]))
	lun := e.Find("LUN 14", "", 0).Matches
	assert.Equal(t, Volume, e.Kind(lun[0].At))
	count := func(query string, kind Kind) int { return e.Find(query, kind, 1).Total }
	assert.Equal(t, 1, count("14", Volume), "a LUN number is not part of another")
	assert.NotZero(t, count("0x6001405F0000", ""))
	assert.NotZero(t, count("24d0-0b5e", ""))
	assert.Zero(t, count("", ""))
	assert.Zero(t, count("nowhere", ""))

	for query, want := range map[string]string{
		"manifest-db-02": "vm:vm-1@hyp", "vm:vm-1": "vm:vm-1@hyp", "vm:manifest-db-01": "vm:vm-2@hyp", "volume:v@other": "volume:v@other",
		"6F1C24D00B5E4A539D6C1D2A5A1C0E07": "vm:vm-1@hyp", "6001405f:0000:0000:0000:0000:0000:000e": "volume:v@array",
	} {
		i, err := e.Resolve(query)
		require.NoError(t, err, query)
		assert.Equal(t, want, e.At(i).Key.String(), query)
	}
	var ambiguous *AmbiguousError
	_, err := e.Resolve("vol-1")
	require.ErrorAs(t, err, &ambiguous)
	assert.ElementsMatch(t, []string{"volume:v@array", "volume:v@other"}, ambiguous.Candidates)
	var missing *NotFoundError
	_, err = e.Resolve("vm:none")
	require.ErrorAs(t, err, &missing)
}

// A LUN that an initiator knows only by its address is joined by that: the target's name and the number.
func TestJoinsByTargetAndNumber(t *testing.T) {
	const iqn = "iqn.2026-03.example.tidewrack:shags"
	e := Build([]Object{
		obj("hyp", Datastore, "ds", "shags LUN 1", Facts{"extents": []any{"IQN.2026-03.example.tidewrack:SHAGS/1"}}, nil),
		obj("hyp", Datastore, "other", "shags LUN 7", Facts{"extents": []any{iqn + "/7"}}, nil),
		obj("hyp", Device, "d", "", Facts{"lun": iqn + "/01"}, nil),
		obj("array", Volume, "v", "LUN 1", Facts{"luns": []any{iqn + "/1", "iqn.2026-03.example.tidewrack:puffins/4"}}, nil),
	})
	v, ok := e.Position(Key{Source: "array", Ref: ref("volume:v")})
	require.True(t, ok)
	for from, kind := range map[string]LinkKind{"datastore:ds": Extent, "device:d": Opens} {
		i, ok := e.Position(Key{Source: "hyp", Ref: ref(from)})
		require.True(t, ok)
		assert.Equal(t, []int32{v}, e.To(i, kind), from)
	}
	assert.Equal(t, map[string]int{NotJoined: 1}, codes(e), "the one whose LUN nobody lists")
	assert.Equal(t, []Joined{{Kind: Extent, From: Datastore, To: Volume, With: "hyp", Count: 1}, {Kind: Opens, From: Device, To: Volume, With: "hyp", Count: 1}}, e.JoinsOf("array"))
	assert.Empty(t, e.JoinsOf("nobody"))
	found := e.Find(iqn+"/1", "", 0).Matches
	at := map[int32]int{}
	for _, m := range found {
		at[m.At] = m.Way
	}
	assert.Equal(t, 0, at[v], "it is found by its address, and meant exactly")
	assert.Contains(t, at, v)
	for _, bad := range []string{"shags/1", iqn, iqn + "/", iqn + "/one", "iqn/-1"} {
		_, err := Normalize(LUN, bad)
		assert.Error(t, err, bad)
	}
}

// Namespaces of NVMe are joined as LUNs are: by EUI-64 or NGUID, and their paths by NQN.
func TestNamespacesJoinByEUIAndNQN(t *testing.T) {
	e := Build([]Object{
		obj("hyp", Datastore, "ds", "ds-oarweed-01", Facts{"extents": []any{"eui.0025385B71B0A1C20025385B71B0A1C2"}}, nil),
		obj("hyp", Device, "d", "", Facts{"nguid": "0025385b71b0a1c20025385b71b0a1c2"}, nil),
		obj("hyp", HBAPort, "p", "nvme0", Facts{"nqn": "nqn.2026-03.example.tidewrack:h7"}, nil),
		obj("hyp", Path, "x", "", Facts{"initiator": "NQN.2026-03.example.tidewrack:h7", "target": "nqn.2026-03.example.tidewrack:terns"}, nil),
		obj("array", Volume, "v", "ns-1", Facts{"nguid": "eui.0025385b71b0a1c20025385b71b0a1c2"}, nil),
		obj("array", TargetPort, "t", "nvme-0A", Facts{"nqn": "nqn.2026-03.example.tidewrack:terns"}, nil),
	})
	require.Empty(t, e.Findings())
	at := func(source, r string) int32 { i, _ := e.Position(Key{Source: source, Ref: ref(r)}); return i }
	assert.Equal(t, []int32{at("array", "volume:v")}, e.To(at("hyp", "datastore:ds"), Extent))
	assert.Equal(t, []int32{at("array", "volume:v")}, e.To(at("hyp", "device:d"), Opens))
	assert.Equal(t, []int32{at("hyp", "hba_port:p")}, e.To(at("hyp", "path:x"), Initiator))
	assert.Equal(t, []int32{at("array", "target_port:t")}, e.To(at("hyp", "path:x"), Target))
}
