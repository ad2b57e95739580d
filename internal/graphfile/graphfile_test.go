package graphfile_test

import (
	"bytes"
	"encoding/json"
	"encoding/xml"
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dowsingrod/core/estate"
	"dowsingrod/core/route"
	"dowsingrod/internal/graphfile"
)

var web = route.Web{Focus: "vm:a@hyp", Nodes: []route.Node{
	{Ref: "vm:a@hyp", Kind: estate.VM, Layer: estate.LayerGuest, Name: `a "b" \c <&>`, Tier: "1"},
	{Ref: "group:drive/22/1:rg", Kind: estate.Drive, Layer: estate.LayerBackEnd, Row: 22, Name: "rg", Count: 8},
	{Ref: "drive:x@array", Kind: estate.Drive, Layer: estate.LayerBackEnd, Row: 22, Name: "x", Owner: "heron", Site: "Northmole", Aliases: []string{"serial X", "y"}},
}, Links: []route.Link{{From: 0, To: 1, State: route.Active, Ways: 2}, {From: 0, To: 2, State: route.Dead, Ways: 1}}}

func text(t *testing.T, format string) string {
	var b bytes.Buffer
	require.NoError(t, graphfile.Write(&b, format, web))
	return b.String()
}

func TestDOT(t *testing.T) {
	s := text(t, "dot")
	assert.Contains(t, s, `label="a \"b\" \\c <&>\nvirtual machine"`)
	assert.Contains(t, s, `label="rg\n8 drives"`)
	assert.Contains(t, s, "n0 -> n1;")
	assert.Contains(t, s, "n0 -> n2 [style=dotted];")
	assert.Contains(t, s, "{ rank=same; n1; n2; }")
	assert.Equal(t, strings.Count(s, "{"), strings.Count(s, "}"))
	if dot, err := exec.LookPath("dot"); err == nil { // read by Graphviz itself where it is installed
		c := exec.Command(dot, "-Tplain")
		c.Stdin = strings.NewReader(s)
		out, err := c.CombinedOutput()
		require.NoError(t, err, "%s", out)
		assert.Equal(t, 3, strings.Count(string(out), "\nnode "))
	}
}

func TestGraphML(t *testing.T) {
	var f struct {
		Keys []struct {
			ID  string `xml:"id,attr"`
			For string `xml:"for,attr"`
		} `xml:"key"`
		Nodes []struct {
			ID   string `xml:"id,attr"`
			Data []struct {
				Key   string `xml:"key,attr"`
				Value string `xml:",chardata"`
			} `xml:"data"`
		} `xml:"graph>node"`
		Edges []struct {
			Source string `xml:"source,attr"`
			Target string `xml:"target,attr"`
		} `xml:"graph>edge"`
	}
	require.NoError(t, xml.Unmarshal([]byte(text(t, "graphml")), &f))
	require.Len(t, f.Nodes, 3)
	require.Len(t, f.Edges, 2)
	keys := map[string]bool{}
	for _, k := range f.Keys {
		keys[k.ID] = true
	}
	seen := map[string]string{}
	for _, n := range f.Nodes {
		for _, d := range n.Data {
			assert.True(t, keys[d.Key], "%s is declared", d.Key)
			seen[n.ID+" "+d.Key] = d.Value
		}
	}
	assert.Equal(t, `a "b" \c <&>`, seen["n0 name"])
	assert.Equal(t, "8", seen["n1 count"])
	assert.Equal(t, "Northmole", seen["n2 site"])
	assert.Equal(t, "n2", f.Edges[1].Target)
}

func TestJSONAndOthers(t *testing.T) {
	var back route.Web
	require.NoError(t, json.Unmarshal([]byte(text(t, "json")), &back))
	assert.Equal(t, web, back)
	assert.ErrorContains(t, graphfile.Write(&bytes.Buffer{}, "png", web), "dot, graphml and json")
}
