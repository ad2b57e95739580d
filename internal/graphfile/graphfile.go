// Package graphfile writes parts of the map as files that other programs draw: Graphviz DOT and GraphML.
package graphfile

import (
	"encoding/json"
	"encoding/xml"
	"fmt"
	"io"
	"strconv"
	"strings"

	"dowsingrod/core/estate"
	"dowsingrod/core/route"
)

// Formats lists what can be written, with its media type.
var Formats = map[string]string{"dot": "text/vnd.graphviz", "graphml": "application/graphml+xml", "json": "application/json"}

// Write writes a web in one of the formats.
func Write(out io.Writer, format string, w route.Web) error {
	switch format {
	case "dot":
		return dot(out, w)
	case "graphml":
		return graphML(out, w)
	case "json":
		enc := json.NewEncoder(out)
		enc.SetIndent("", "  ")
		enc.SetEscapeHTML(false)
		return enc.Encode(w)
	}
	return fmt.Errorf("there is no format %q: dot, graphml and json are", format)
}

// fills are the tones of the layers, as in the console.
var fills = map[estate.Layer]string{estate.LayerGuest: "#CFE3E6", estate.LayerHost: "#93C1CB", estate.LayerDatastore: "#5B98A6", estate.LayerFabric: "#DCC79B",
	estate.LayerFrontEnd: "#B98E5A", estate.LayerBackEnd: "#6B4A33", estate.LayerSite: "#E5E1D8"}

func label(n route.Node) string {
	name := n.Name
	if n.Owner != "" && n.Kind != estate.Volume && n.Kind != estate.Device {
		name = n.Owner + " " + name
	}
	if n.Count > 0 {
		return fmt.Sprintf("%s\n%d %s", name, n.Count, n.Kind.Plural())
	}
	return name + "\n" + n.Kind.Label()
}

func dot(out io.Writer, w route.Web) error {
	var b strings.Builder
	b.WriteString("digraph estate {\n  rankdir=TB;\n  node [shape=box, style=\"rounded,filled\", fontname=\"Helvetica\", fontsize=10];\n  edge [arrowsize=0.6];\n")
	rows := map[int][]int{}
	last := 0
	for k, n := range w.Nodes {
		ink := "#1C2426"
		if n.Layer == estate.LayerBackEnd {
			ink = "#FBFAF6"
		}
		fmt.Fprintf(&b, "  n%d [label=%s, fillcolor=%s, fontcolor=%s, tooltip=%s", k, quote(label(n)), quote(fills[n.Layer]), quote(ink), quote(n.Ref))
		if n.Ref == w.Focus {
			b.WriteString(", penwidth=2.5")
		}
		b.WriteString("];\n")
		rows[n.Row] = append(rows[n.Row], k)
		last = max(last, n.Row)
	}
	for row := 0; row <= last; row++ {
		if len(rows[row]) < 2 {
			continue
		}
		b.WriteString("  { rank=same;")
		for _, k := range rows[row] {
			fmt.Fprintf(&b, " n%d;", k)
		}
		b.WriteString(" }\n")
	}
	for _, l := range w.Links {
		style := ""
		switch l.State {
		case route.Standby, route.Disabled:
			style = " [style=dashed]"
		case route.Dead, route.NotZoned:
			style = " [style=dotted]"
		}
		fmt.Fprintf(&b, "  n%d -> n%d%s;\n", l.From, l.To, style)
	}
	b.WriteString("}\n")
	_, err := io.WriteString(out, b.String())
	return err
}

// quote writes a DOT string: quotes and backslashes escaped, line ends as \n.
func quote(s string) string {
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`, "\n", `\n`).Replace(s) + `"`
}

type (
	graphMLKey struct {
		ID   string `xml:"id,attr"`
		For  string `xml:"for,attr"`
		Name string `xml:"attr.name,attr"`
		Type string `xml:"attr.type,attr"`
	}
	graphMLData struct {
		Key   string `xml:"key,attr"`
		Value string `xml:",chardata"`
	}
	graphMLNode struct {
		ID   string        `xml:"id,attr"`
		Data []graphMLData `xml:"data"`
	}
	graphMLEdge struct {
		Source string        `xml:"source,attr"`
		Target string        `xml:"target,attr"`
		Data   []graphMLData `xml:"data"`
	}
	graphMLFile struct {
		XMLName xml.Name     `xml:"graphml"`
		NS      string       `xml:"xmlns,attr"`
		Keys    []graphMLKey `xml:"key"`
		Graph   struct {
			ID      string        `xml:"id,attr"`
			Default string        `xml:"edgedefault,attr"`
			Nodes   []graphMLNode `xml:"node"`
			Edges   []graphMLEdge `xml:"edge"`
		} `xml:"graph"`
	}
)

func graphML(out io.Writer, w route.Web) error {
	f := graphMLFile{NS: "http://graphml.graphdrawing.org/xmlns"}
	for _, k := range []string{"ref", "kind", "name", "owner", "layer", "site", "tier", "aliases"} {
		f.Keys = append(f.Keys, graphMLKey{k, "node", k, "string"})
	}
	f.Keys = append(f.Keys, graphMLKey{"count", "node", "count", "int"}, graphMLKey{"state", "edge", "state", "string"}, graphMLKey{"ways", "edge", "ways", "int"})
	f.Graph.ID, f.Graph.Default = "estate", "directed"
	for k, n := range w.Nodes {
		node := graphMLNode{ID: "n" + strconv.Itoa(k)}
		for _, d := range []graphMLData{{"ref", n.Ref}, {"kind", string(n.Kind)}, {"name", n.Name}, {"owner", n.Owner}, {"layer", string(n.Layer)}, {"site", n.Site}, {"tier", n.Tier}, {"aliases", strings.Join(n.Aliases, " ")}} {
			if d.Value != "" {
				node.Data = append(node.Data, d)
			}
		}
		if n.Count > 0 {
			node.Data = append(node.Data, graphMLData{"count", strconv.Itoa(n.Count)})
		}
		f.Graph.Nodes = append(f.Graph.Nodes, node)
	}
	for _, l := range w.Links {
		f.Graph.Edges = append(f.Graph.Edges, graphMLEdge{"n" + strconv.Itoa(l.From), "n" + strconv.Itoa(l.To), []graphMLData{{"state", string(l.State)}, {"ways", strconv.Itoa(l.Ways)}}})
	}
	if _, err := io.WriteString(out, xml.Header); err != nil {
		return err
	}
	enc := xml.NewEncoder(out)
	enc.Indent("", "  ")
	if err := enc.Encode(f); err != nil {
		return err
	}
	_, err := io.WriteString(out, "\n")
	return err
}
