package cli

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"github.com/urfave/cli/v3"

	"dowsingrod/core/estate"
	"dowsingrod/core/phrase"
	"dowsingrod/core/route"
	"dowsingrod/internal/client"
)

func (a *App) route() *cli.Command {
	return &cli.Command{Name: "route", Usage: "every way from a VM down to its drives, or through any object", ArgsUsage: "OBJECT",
		Description: "With --from or --to: every topology that held on the routes within that window, and when.",
		Flags:       append(windowFlags()[:2], &cli.StringFlag{Name: "at", Usage: "as of this moment; now where absent"}, &cli.BoolFlag{Name: "all", Usage: "list all routes, and each object of a row"}),
		Action: func(ctx context.Context, c *cli.Command) error {
			of, err := one(c, "the object")
			if err != nil {
				return err
			}
			cl, err := a.connect(c)
			if err != nil {
				return err
			}
			folding := route.Folding{Most: 12}
			if c.Bool("all") || c.Bool("json") {
				folding.Most = 0
			}
			if c.String("from") != "" || c.String("to") != "" {
				if c.String("at") != "" {
					return wrongUsage("--at is one moment, --from and --to are a window: give one or the other")
				}
				history, err := cl.History(ctx, of, client.Window{From: c.String("from"), To: c.String("to")}, folding)
				if err != nil {
					return err
				}
				if c.Bool("json") {
					return a.printJSON(history)
				}
				a.printHistory(history, c.Bool("all"))
				return nil
			}
			s, err := cl.Route(ctx, of, c.String("at"), folding)
			if err != nil {
				return err
			}
			if c.Bool("json") {
				return a.printJSON(s)
			}
			a.printRoute(s, c.Bool("all"))
			return nil
		}}
}

func (a *App) printRoute(s route.Section, all bool) {
	var focus route.Node
	for _, n := range s.Nodes {
		if n.Ref == s.Focus {
			focus = n
		}
	}
	fmt.Fprintf(a.Out, "%s  %s\n", a.bold(full(focus)), focus.Kind.Label())
	if focus.Kind != estate.VM && focus.Kind != estate.VDisk {
		fmt.Fprintln(a.Out, phrase.Count(s.VMs, "VM depends on it", "VMs depend on it"))
	}
	fmt.Fprintln(a.Out)
	layer := estate.Layer("")
	for k := 0; k < len(s.Nodes); {
		row := []route.Node{}
		for begin := k; k < len(s.Nodes) && s.Nodes[k].Row == s.Nodes[begin].Row; k++ {
			row = append(row, s.Nodes[k])
		}
		head := ""
		if row[0].Layer != layer {
			layer = row[0].Layer
			head = string(layer)
		}
		a.printRow(head, layer, row)
	}
	if len(s.Routes) > 0 {
		fmt.Fprintln(a.Out)
		a.printPaths(s, all)
	}
	for _, r := range s.Remarks {
		fmt.Fprintf(a.Out, "%s %s\n", a.paint(ochre, "note:"), r.Says)
	}
	for _, b := range s.Breaks {
		fmt.Fprintf(a.Out, "%s after %s: %s\n", a.paint(ochre, "the map ends"), b.Name, b.Why)
	}
}

func (a *App) printRow(head string, layer estate.Layer, row []route.Node) {
	const most = 6
	label := a.paint(layerColor[layer], "▌") + " " + fmt.Sprintf("%-10s", head)
	kind := row[0].Kind.Label()
	for i, n := range row {
		if i == most && len(row) > most+1 {
			fmt.Fprintf(a.Out, "%s %-18s and %d more\n", label, "", len(row)-most)
			return
		}
		extra := []string{}
		for _, x := range n.Aliases {
			if !strings.EqualFold(x, n.Name) && len(extra) < 2 {
				extra = append(extra, x)
			}
		}
		if n.Tier != "" {
			extra = append([]string{"tier " + n.Tier}, extra...)
		}
		slices.SortStableFunc(extra, func(x, y string) int { // what is short and asked for on the phone comes first
			return strings.Compare(strconv.FormatBool(!strings.HasPrefix(x, "LUN ")), strconv.FormatBool(!strings.HasPrefix(y, "LUN ")))
		})
		room := 24
		if len(extra) == 0 {
			room = width - 32
		}
		line := fmt.Sprintf("%s %-18s %-24s %s", label, kind, cut(full(n), room), a.paint(quiet, cut(strings.Join(extra, "  "), width-58)))
		fmt.Fprintln(a.Out, strings.TrimRight(line, " "))
		label, kind = a.paint(layerColor[layer], "▌")+strings.Repeat(" ", 11), ""
	}
}

// full is a node's name with what it is part of.
func full(n route.Node) string {
	if n.Count > 0 {
		return fmt.Sprintf("%d %s of %s", n.Count, n.Kind.Plural(), n.Name)
	}
	if n.Owner != "" && n.Kind != estate.Volume && n.Kind != estate.Device {
		return n.Owner + " " + n.Name
	}
	return n.Name
}

// printPaths lists the ways through the fabric, each once.
func (a *App) printPaths(s route.Section, all bool) {
	t := table{heads: []string{"", "path", "LUN", "from", "switch port", "link", "switch port", "to"}}
	seen := map[string]bool{}
	for _, r := range s.Routes {
		cells := []string{a.state(r.State), string(r.State), r.LUN, "", "", "", "", ""}
		found := false
		for _, i := range r.Stops {
			n := s.Nodes[i]
			switch {
			case n.Kind == estate.HBAPort:
				cells[3] = full(n)
			case n.Kind == estate.ISL:
				cells[5] = "ISL"
			case n.Kind == estate.SwitchPort && cells[4] == "" && cells[7] == "":
				cells[4] = full(n)
			case n.Kind == estate.SwitchPort:
				cells[6] = full(n)
			case n.Kind == estate.TargetPort:
				cells[7] = full(n)
				found = true
			}
		}
		if key := strings.Join(cells, "|"); found && !seen[key] {
			seen[key] = true
			t.add(cells...)
		}
	}
	slices.SortStableFunc(t.rows, func(x, y []string) int { return strings.Compare(x[1], y[1]) })
	if len(t.rows) == 0 {
		return
	}
	most := 12
	if all {
		most = len(t.rows)
	}
	a.printSome(t, most)
}

func (a *App) state(s route.State) string {
	switch s {
	case route.Active:
		return "●"
	case route.Dead:
		return a.paint(magenta, "✕")
	}
	return a.paint(quiet, "○")
}
