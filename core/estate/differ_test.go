package estate_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	. "dowsingrod/core/estate"
)

func TestDifferencesInWords(t *testing.T) {
	node := func(kind Kind, name string, facts Facts, links Links) *Node {
		o := obj("hyp", kind, "x", name, facts, links)
		n := o.Node()
		return &n
	}
	names := func(r Ref) string { return "<" + r.ID + ">" }
	for name, c := range map[string]struct {
		before, after *Node
		code, says    string
	}{
		"appeared": {nil, node(VM, "a", nil, nil), Appeared, "appeared"},
		"gone":     {node(VM, "a", nil, nil), nil, Gone, "is gone"},
		"unmapped": {node(Path, "", nil, nil), nil, Mapped, "is gone"},
		"renamed":  {node(VM, "a", nil, nil), node(VM, "b", nil, nil), Renamed, `from "a" to "b"`},
		"migrated": {node(VM, "a", nil, Links{RunsOn: {ref("host:h1")}}), node(VM, "a", nil, Links{RunsOn: {ref("host:h2")}}), Migrated, "from <h1> to <h2>"},
		"moved":    {node(VDisk, "a", nil, Links{StoredOn: {ref("datastore:d1")}}), node(VDisk, "a", nil, Links{StoredOn: {ref("datastore:d2")}}), Moved, "from <d1> to <d2>"},
		"exposed":  {node(Volume, "v", nil, Links{ExposedOn: {ref("target_port:a")}}), node(Volume, "v", nil, Links{ExposedOn: {ref("target_port:a"), ref("target_port:b")}}), Mapped, "is now exposed on <b>"},
		"grew":     {node(Volume, "v", Facts{"bytes": 1e12}, nil), node(Volume, "v", Facts{"bytes": 2e12}, nil), Grew, "grew from 931 GiB to 1.82 TiB"},
		"shrank":   {node(Volume, "v", Facts{"bytes": 2e12}, nil), node(Volume, "v", Facts{"bytes": 1e12}, nil), Shrank, "shrank"},
		"fuller":   {node(Datastore, "d", Facts{"used_bytes": 1e12}, nil), node(Datastore, "d", Facts{"used_bytes": 2e12}, nil), Used, "used bytes went from 931 GiB"},
		"firmware": {node(Array, "a", Facts{"firmware": "7.3.0"}, nil), node(Array, "a", Facts{"firmware": "7.3.1"}, nil), Firmware, "from 7.3.0 to 7.3.1"},
		"died":     {node(Path, "", Facts{"state": "active"}, nil), node(Path, "", Facts{"state": "dead"}, nil), PathState, "from active to dead"},
		"failed":   {node(Drive, "d", Facts{"state": "online"}, nil), node(Drive, "d", Facts{"state": "failed"}, nil), StateFact, "from online to failed"},
		"stated":   {node(VM, "a", nil, nil), node(VM, "a", Facts{"tier": "1"}, nil), Fact, "its tier is 1 now"},
		"unstated": {node(VM, "a", Facts{"tier": "1"}, nil), node(VM, "a", nil, nil), Fact, "no longer stated; it was 1"},
		"list":     {node(Datastore, "d", Facts{"extents": []any{"x"}}, nil), node(Datastore, "d", Facts{"extents": []any{"x", "y"}}, nil), Fact, "from x to x and y"},
		"order":    {node(Volume, "v", nil, Links{ServedBy: {ref("controller:a"), ref("controller:b")}}), node(Volume, "v", nil, Links{ServedBy: {ref("controller:b"), ref("controller:a")}}), LinkSent, "<b> first"},
		"joined":   {node(Host, "h", nil, nil), node(Host, "h", nil, Links{MemberOf: {ref("cluster:c")}}), LinkSent, "now member of <c>"},
	} {
		t.Run(name, func(t *testing.T) {
			got := Differ(c.before, c.after, names)
			require.Len(t, got, 1)
			assert.Equal(t, c.code, got[0].Code)
			assert.Contains(t, got[0].Says, c.says)
		})
	}
	same := node(VM, "a", Facts{"n": 4.0}, Links{RunsOn: {ref("host:h")}})
	assert.Empty(t, Differ(same, same, names))
	assert.Nil(t, Differ(nil, nil, names))
}

func TestProbableReasons(t *testing.T) {
	const lun = "naa.600d05e0aaaaaaaaaaaaaaaaaaaaaaa1"
	e := Build([]Object{
		obj("array", Volume, "v", "vol-1", Facts{"naa": lun}, nil),
		obj("hyp", Datastore, "typo", "typo", Facts{"extents": []any{"naa.600d05e0aaaaaaaaaaaaaaaaaaaaaab1"}}, nil),
		obj("hyp", Datastore, "far", "far", Facts{"extents": []any{"naa.600c0ff000000000000000000000001a"}}, nil),
		obj("hyp", Datastore, "far2", "far2", Facts{"extents": []any{"naa.600c0ff000000000000000000000777b"}}, nil),
		obj("hyp", Datastore, "nfs", "nfs", Facts{"export": "filer:/x"}, nil),
		obj("a", Volume, "twin", "twin", Facts{"naa": "naa.600d05e0bbbbbbbbbbbbbbbbbbbbbbb1"}, nil),
		obj("b", Volume, "twin", "twin", Facts{"naa": "naa.600d05e0bbbbbbbbbbbbbbbbbbbbbbb1"}, nil),
		obj("hyp", Device, "d", "d", Facts{"naa": "naa.600d05e0bbbbbbbbbbbbbbbbbbbbbbb1"}, nil),
		obj("hyp", VM, "x", "x", nil, Links{RunsOn: {ref("host:none")}}),
		obj("hyp", Volume, "bad", "bad", Facts{"naa": "naa.12"}, nil),
	})
	reasons := func(stale map[string]string) map[Reason]int {
		out := map[Reason]int{}
		for _, g := range e.Unresolve(stale) {
			out[g.Reason] += g.Count
			assert.NotEmpty(t, g.Todo)
			assert.NotEmpty(t, g.Says)
			assert.Len(t, g.Findings, g.Count)
		}
		return out
	}
	assert.Equal(t, map[Reason]int{Duplicate: 3, Typo: 1, SourceMissing: 3, Unreadable: 1, Dangling: 1}, reasons(nil))
	assert.Equal(t, 2, reasons(map[string]string{"array": "3 h"})[StaleSource], "what a silent source of volumes might list by now")
	groups := e.Unresolve(nil)
	assert.Equal(t, Duplicate, groups[0].Reason, "the most certain first")
	for _, g := range groups {
		switch {
		case g.Reason == Typo:
			assert.Contains(t, g.Says, "vol-1")
		case g.Reason == SourceMissing && g.Count == 2:
			assert.Contains(t, g.Says, "naa.600c0ff")
		}
	}
	assert.Empty(t, Build(nil).Unresolve(nil))
}
