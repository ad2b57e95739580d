package cli

import (
	"context"
	"encoding/csv"
	"fmt"
	"io"
	"math"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"dowsingrod/core/congest"
	"dowsingrod/core/estate"
	"dowsingrod/core/phrase"
	"dowsingrod/core/reading"
	"dowsingrod/core/route"
	"dowsingrod/internal/client"
	"dowsingrod/internal/service"
)

// printHistory prints each topology with what is different from the one before.
func (a *App) printHistory(history []service.Topology, all bool) {
	for k, t := range history {
		if k > 0 {
			fmt.Fprintln(a.Out)
		}
		fmt.Fprintf(a.Out, "%s\n", a.bold(t.From.Local().Format("Mon 2 Jan 15:04:05")+" – "+t.To.Local().Format("Mon 2 Jan 15:04:05")))
		if k > 0 {
			for _, line := range differences(&history[k-1].Section, &t.Section) {
				for n, part := range wrap(line, width-6) {
					fmt.Fprintln(a.Out, "  "+strings.Repeat("  ", min(n, 1))+part)
				}
			}
			if !all {
				continue
			}
		}
		a.printRoute(t.Section, all)
	}
	if len(history) == 1 {
		fmt.Fprintln(a.Out, "\nIts routes did not change within the window.")
	} else if !all {
		fmt.Fprintln(a.Out, a.paint(quiet, "\n--all prints each topology in full"))
	}
}

// differences tells in words what one section has that another has not.
func differences(before, after *route.Section) []string {
	refs := func(s *route.Section) map[string]route.Node {
		out := map[string]route.Node{}
		for _, n := range s.Nodes {
			out[n.Ref] = n
		}
		return out
	}
	was, is := refs(before), refs(after)
	var out []string
	for _, n := range before.Nodes {
		if _, still := is[n.Ref]; !still {
			out = append(out, "− "+n.Kind.Label()+" "+full(n))
		}
	}
	for _, n := range after.Nodes {
		if _, already := was[n.Ref]; !already {
			out = append(out, "+ "+n.Kind.Label()+" "+full(n))
		}
	}
	states := func(s *route.Section) map[string]route.State {
		out := map[string]route.State{}
		for _, l := range s.Links {
			out[s.Nodes[l.From].Ref+" "+s.Nodes[l.To].Ref] = l.State
		}
		return out
	}
	old := states(before)
	for _, l := range after.Links {
		from, to := after.Nodes[l.From], after.Nodes[l.To]
		if s, both := old[from.Ref+" "+to.Ref]; both && s != l.State {
			out = append(out, fmt.Sprintf("~ from %s to %s: %s, was %s", full(from), full(to), l.State, s))
		}
	}
	for _, r := range after.Remarks {
		if !slices.Contains(before.Remarks, r) {
			out = append(out, "! "+r.Says)
		}
	}
	const most = 12
	if len(out) > most {
		out = append(out[:most], fmt.Sprintf("and %d more differences", len(out)-most))
	}
	if out == nil {
		out = []string{"the ways between the same objects differ"}
	}
	return out
}

func (a *App) reach() *cli.Command {
	return &cli.Command{Name: "reach", Usage: "all that depends on an object, important VMs first, and what its loss would mean", ArgsUsage: "OBJECT",
		Flags: []cli.Flag{&cli.StringFlag{Name: "at", Usage: "as of this moment; now where absent"}, &cli.IntFlag{Name: "limit", Value: 30, Usage: "at most so many VMs"}},
		Action: func(ctx context.Context, c *cli.Command) error {
			of, err := one(c, "the object")
			if err != nil {
				return err
			}
			cl, err := a.connect(c)
			if err != nil {
				return err
			}
			r, err := cl.Reach(ctx, of, c.String("at"), c.Int("limit"))
			if err != nil {
				return err
			}
			if c.Bool("json") {
				return a.printJSON(r)
			}
			a.printReach(r)
			return nil
		}}
}

func (a *App) printReach(r service.Reach) {
	name := r.Name
	if r.Owner != "" {
		name = r.Owner + " " + r.Name
	}
	if r.Total == 0 {
		fmt.Fprintf(a.Out, "No virtual machine depends on %s.\n", name)
		return
	}
	var tiers, kinds, outcomes []string
	for _, t := range r.Tiers {
		if t.Name == "" {
			tiers = append(tiers, fmt.Sprintf("%d without a tier", t.Count))
		} else {
			tiers = append(tiers, fmt.Sprintf("%d of tier %s", t.Count, t.Name))
		}
	}
	for _, k := range r.Counts {
		if k.Kind != estate.VM {
			kinds = append(kinds, phrase.Count(k.Count, k.Kind.Label(), k.Kind.Plural()))
		}
	}
	for _, o := range r.Outcomes {
		outcomes = append(outcomes, fmt.Sprintf("%d %s", o.Count, o.Outcome))
	}
	a.say([]phrase.Phrase{{Text: name, Tone: phrase.Strong}, phrase.Say(" carries %s: %s.", phrase.Count(r.Total, "VM", "VMs"), phrase.List(tiers))})
	a.say([]phrase.Phrase{phrase.Say("If it were lost, %s.", phrase.List(outcomes))})
	if len(kinds) > 0 {
		a.say([]phrase.Phrase{phrase.Say("Besides them depend on it %s.", phrase.List(kinds))})
	}
	fmt.Fprintln(a.Out)
	t := table{heads: []string{"VM", "tier", "application", "host", ">of its I/O", "by", "if it were lost"}}
	for _, v := range r.VMs {
		share := "–"
		if v.Share.Known() {
			share = phrase.Percent(float64(v.Share))
		}
		outcome := string(v.Outcome)
		switch v.Outcome {
		case route.WouldStop, route.CutOff:
			outcome = a.paint(magenta, outcome)
		case route.WouldLoseLeg, route.WouldLosePath:
			outcome = a.paint(ochre, outcome)
		}
		t.add(v.Name, v.Tier, v.Application, v.Host, share, string(v.State)+" ways", outcome)
	}
	a.print(t)
	if more := r.Total - len(r.VMs); more > 0 {
		fmt.Fprintln(a.Out, a.paint(quiet, fmt.Sprintf("%d more: raise --limit", more)))
	}
}

func (a *App) changes() *cli.Command {
	return &cli.Command{Name: "changes", Usage: "what changed within a window, in the estate or on the routes of an object", ArgsUsage: "[OBJECT]",
		Flags: append(windowFlags()[:2], &cli.IntFlag{Name: "limit", Value: 40, Usage: "at most so many, the latest"}),
		Action: func(ctx context.Context, c *cli.Command) error {
			of := ""
			if c.Args().Len() > 0 {
				var err error
				if of, err = one(c, "the object"); err != nil {
					return err
				}
			}
			cl, err := a.connect(c)
			if err != nil {
				return err
			}
			r, err := cl.Changes(ctx, of, client.Window{From: c.String("from"), To: c.String("to")}, c.Int("limit"))
			if err != nil {
				return err
			}
			if c.Bool("json") {
				return a.printJSON(r)
			}
			a.printChanges(r)
			return nil
		}}
}

func (a *App) printChanges(r service.Changes) {
	where := "in the estate"
	if r.Name != "" {
		where = "on the routes of " + r.Name
	}
	window := r.From.Local().Format("Mon 2 Jan 15:04") + " – " + r.To.Local().Format("Mon 2 Jan 15:04")
	if r.Total == 0 {
		fmt.Fprintf(a.Out, "Nothing changed %s, %s.\n", where, window)
		return
	}
	fmt.Fprintf(a.Out, "%s %s, %s\n\n", phrase.Count(r.Total, "change", "changes"), where, window)
	for _, c := range r.Changes {
		name := c.Name
		if c.Owner != "" && c.Kind != estate.Path && c.Kind != estate.Volume {
			name = c.Owner + " " + name
		}
		var says []string
		for _, w := range c.What {
			says = append(says, w.Says)
		}
		if says == nil {
			says = []string{"was sent anew, without a difference that is shown"}
		}
		const indent = 17
		head := fmt.Sprintf("%-*s", indent, c.At.Local().Format("2 Jan 15:04:05"))
		for _, line := range wrap(c.Label+" "+name+": "+strings.Join(says, "; "), width-indent) {
			fmt.Fprintln(a.Out, a.paint(quiet, head)+line)
			head = strings.Repeat(" ", indent)
		}
	}
	if more := r.Total - len(r.Changes); more > 0 {
		fmt.Fprintln(a.Out, a.paint(quiet, fmt.Sprintf("%d earlier ones: raise --limit", more)))
	}
}

// wrap breaks text into lines of at most so many characters, between words.
func wrap(text string, most int) (lines []string) {
	line := ""
	for _, word := range strings.Fields(text) {
		if line != "" && len([]rune(line))+1+len([]rune(word)) > most {
			lines = append(lines, line)
			line = ""
		}
		line = strings.TrimPrefix(line+" "+word, " ")
	}
	return append(lines, line)
}

func (a *App) unresolved() *cli.Command {
	return &cli.Command{Name: "unresolved", Usage: "what could not be joined, by probable reason, and what to do",
		Flags: []cli.Flag{&cli.StringFlag{Name: "at", Usage: "as of this moment; now where absent"}},
		Action: func(ctx context.Context, c *cli.Command) error {
			cl, err := a.connect(c)
			if err != nil {
				return err
			}
			u, err := cl.Unresolved(ctx, c.String("at"))
			if err != nil {
				return err
			}
			if c.Bool("json") {
				return a.printJSON(u)
			}
			if u.Total == 0 {
				fmt.Fprintln(a.Out, "Everything is joined: no identifier and no link leads nowhere.")
				return nil
			}
			for k, g := range u.Groups {
				if k > 0 {
					fmt.Fprintln(a.Out)
				}
				fmt.Fprintf(a.Out, "%s  %s\n", a.bold(string(g.Reason)), a.paint(quiet, phrase.Count(g.Count, "finding", "findings")))
				a.say([]phrase.Phrase{phrase.Say("%s", g.Says)})
				a.say([]phrase.Phrase{phrase.Say("→ %s", g.Todo)})
				for n, f := range g.Findings {
					if n == 5 {
						fmt.Fprintln(a.Out, a.paint(quiet, fmt.Sprintf("    and %d more (--json has more of them)", g.Count-n)))
						break
					}
					fmt.Fprintf(a.Out, "    %s  %s\n", f.Name, a.paint(quiet, f.Object))
					for _, line := range wrap(f.Detail, width-6) {
						fmt.Fprintln(a.Out, "      "+line)
					}
				}
			}
			return nil
		}}
}

func (a *App) inventory() *cli.Command {
	return &cli.Command{Name: "inventory", Usage: "objects of a kind in columns, filtered and sorted", ArgsUsage: "KIND",
		Description: "Conditions compare a column: --where tier=1 --where 'dead>0' --where name~manifest --where used!=used.\n" +
			"Numbers take k, M, G, KiB, GiB, TiB and %. Columns are those of the table; --json names them all.",
		Flags: []cli.Flag{&cli.StringSliceFlag{Name: "where", Usage: "a condition on a column; may be given several times, all must hold"},
			&cli.StringFlag{Name: "find", Usage: "part of the name or of any identifier"}, &cli.StringFlag{Name: "sort", Usage: "column to sort by, with - before it for descending"},
			&cli.IntFlag{Name: "limit", Value: 40, Usage: "at most so many; 0 for all"}, &cli.StringFlag{Name: "at", Usage: "as of this moment; now where absent"},
			&cli.BoolFlag{Name: "csv", Usage: "print as CSV"}},
		Action: func(ctx context.Context, c *cli.Command) error {
			kind, err := one(c, "the kind")
			if err != nil {
				return err
			}
			cl, err := a.connect(c)
			if err != nil {
				return err
			}
			all, err := pages(ctx, cl, client.Inventory{Kind: estate.Kind(kind), Where: c.StringSlice("where"), Text: c.String("find"), Sort: c.String("sort"), Moment: c.String("at")}, c.Int("limit"))
			if err != nil {
				return err
			}
			switch {
			case c.Bool("json"):
				return a.printJSON(all)
			case c.Bool("csv"):
				return a.printCSV(all)
			}
			a.printInventory(all)
			return nil
		}}
}

// pages gathers pages up to a limit, 0 for all.
func pages(ctx context.Context, cl *client.Client, q client.Inventory, limit int) (service.Inventory, error) {
	var all service.Inventory
	for {
		q.Limit = 2000
		if limit > 0 {
			q.Limit = min(q.Limit, limit-len(all.Rows))
		}
		page, err := cl.Inventory(ctx, q)
		if err != nil {
			return all, err
		}
		page.Rows = append(all.Rows, page.Rows...)
		all = page
		if page.Next == "" || limit > 0 && len(all.Rows) >= limit {
			return all, nil
		}
		q.Cursor = page.Next
	}
}

func cell(c service.Column, v any) string {
	n, isNumber := v.(float64)
	switch {
	case v == nil:
		return "–"
	case !isNumber:
		return fmt.Sprint(v)
	case c.Type == "bytes":
		return phrase.Bytes(n)
	case c.Type == "bytes_s":
		return phrase.Bytes(n) + "/s"
	case c.Type == "share":
		return phrase.Percent(n)
	}
	if n == math.Trunc(n) && math.Abs(n) < 1e15 {
		return strconv.FormatInt(int64(n), 10)
	}
	return quantity(reading.Count, n)
}

func (a *App) printInventory(in service.Inventory) {
	if in.Total == 0 {
		fmt.Fprintf(a.Out, "None of %s answers.\n", phrase.Count(in.All, in.Kind.Label(), in.Label))
		return
	}
	var shown []int // what fits, without columns that say nothing here
	room := width
	t := table{}
	for k, c := range in.Columns {
		said, wide := false, len([]rune(c.Head))
		for _, r := range in.Rows {
			said = said || r.Cells[k] != nil
			wide = max(wide, len([]rune(cut(cell(c, r.Cells[k]), 34))))
		}
		if !said || wide+2 > room && len(shown) > 0 {
			continue
		}
		room -= wide + 2
		shown = append(shown, k)
		head := c.Head
		if c.Type != "text" {
			head = ">" + head
		}
		t.heads = append(t.heads, head)
	}
	for _, r := range in.Rows {
		var cells []string
		for _, k := range shown {
			cells = append(cells, cut(cell(in.Columns[k], r.Cells[k]), 34))
		}
		t.add(cells...)
	}
	a.print(t)
	words := phrase.Count(in.Total, in.Kind.Label(), in.Label)
	if in.Total != in.All {
		words += fmt.Sprintf(" of %d", in.All)
	}
	if more := in.Total - len(in.Rows); more > 0 {
		words += fmt.Sprintf("; %d more: raise --limit", more)
	}
	if left := len(in.Columns) - len(shown); left > 0 {
		words += fmt.Sprintf("; --csv and --json have %s", phrase.Count(left, "more column", "more columns"))
	}
	fmt.Fprintln(a.Out, a.paint(quiet, words))
}

func (a *App) printCSV(in service.Inventory) error {
	w := csv.NewWriter(a.Out)
	head := []string{"ref"}
	for _, c := range in.Columns {
		head = append(head, c.Name)
	}
	_ = w.Write(head)
	for _, r := range in.Rows {
		row := []string{r.Ref}
		for _, v := range r.Cells {
			switch v := v.(type) {
			case nil:
				row = append(row, "")
			case float64:
				row = append(row, fmt.Sprintf("%.15g", v))
			default:
				row = append(row, fmt.Sprint(v))
			}
		}
		_ = w.Write(row)
	}
	w.Flush()
	return w.Error()
}

func (a *App) hardware() *cli.Command {
	return &cli.Command{Name: "hardware", Usage: "what an array, host or switch is built of, with the condition of every part", ArgsUsage: "OBJECT",
		Flags: append(windowFlags(), &cli.BoolFlag{Name: "all", Usage: "every part, also those of which nothing is to be said"}),
		Action: func(ctx context.Context, c *cli.Command) error {
			return question(a, "the object", func(ctx context.Context, cl *client.Client, of string, w client.Window) (service.HardwarePart, error) {
				return cl.Hardware(ctx, of, w)
			}, func(p service.HardwarePart) { a.printPart(p, "", "", c.Bool("all")) })(ctx, c)
		}}
}

func (a *App) printPart(p service.HardwarePart, lead, below string, all bool) {
	words := []string{p.Label}
	if p.About != "" {
		words = append(words, p.About)
	}
	if p.State != "" {
		words = append(words, p.State)
	}
	mark := ""
	switch p.Condition {
	case congest.Failing:
		mark = " " + a.paint(magenta, "◆ failing: "+p.Why)
	case congest.Strained:
		mark = " " + a.paint(ochre, "▲ strained: "+p.Why)
	case congest.Silent:
		mark = " ◌ silent"
	}
	fmt.Fprintf(a.Out, "%s%s  %s%s\n", lead, a.bold(p.Name), a.paint(quiet, strings.Join(words, ", ")), mark)
	parts := p.Parts
	hidden := map[string]int{}
	if !all { // many alike that are well are counted
		counts := map[estate.Kind]int{}
		for _, x := range parts {
			counts[x.Kind]++
		}
		parts = slices.DeleteFunc(slices.Clone(parts), func(x service.HardwarePart) bool {
			well := x.Condition != congest.Failing && x.Condition != congest.Strained && x.Below == 0
			if counts[x.Kind] > 4 && well && len(x.Parts) == 0 {
				hidden[x.Kind.Plural()]++
				return true
			}
			return false
		})
	}
	var counted []string
	for label, n := range hidden {
		counted = append(counted, fmt.Sprintf("%d %s", n, label))
	}
	slices.Sort(counted)
	for k, x := range parts {
		branch, next := "├─ ", "│  "
		if k == len(parts)-1 && len(counted) == 0 {
			branch, next = "└─ ", "   "
		}
		a.printPart(x, below+branch, below+next, all)
	}
	if len(counted) > 0 {
		fmt.Fprintf(a.Out, "%s└─ %s\n", below, a.paint(quiet, phrase.List(counted)+" of which nothing is to be said (--all lists them)"))
	}
}

func (a *App) why() *cli.Command {
	return &cli.Command{Name: "why", Usage: "why an object is in its condition, and what is affected by it", ArgsUsage: "OBJECT", Flags: windowFlags(),
		Action: question(a, "the object", func(ctx context.Context, cl *client.Client, of string, w client.Window) (service.Why, error) {
			return cl.Why(ctx, of, w)
		}, func(y service.Why) {
			a.say([]phrase.Phrase{phrase.Say("%s", y.Says)})
			fmt.Fprintln(a.Out, a.condition(y.Condition.Condition))
			for _, r := range y.Condition.Reasons {
				fmt.Fprintln(a.Out, "  "+r.Words)
			}
			if len(y.Causes) == 0 {
				return
			}
			fmt.Fprintln(a.Out)
			t := table{heads: []string{"cause below it", "kind", "condition", "why"}}
			for _, c := range y.Causes {
				name, words := c.Name, ""
				if c.Owner != "" {
					name = c.Owner + " " + c.Name
				}
				if len(c.Condition.Reasons) > 0 {
					words = c.Condition.Reasons[0].Words
				}
				t.add(name, c.Label, string(c.Condition.Condition), words)
			}
			a.printSome(t, 20)
		})}
}

func (a *App) graph() *cli.Command {
	return &cli.Command{Name: "map", Usage: "write the section of an object, or its reach, for other programs: DOT, GraphML or JSON", ArgsUsage: "OBJECT",
		Flags: []cli.Flag{&cli.StringFlag{Name: "as", Usage: "dot, graphml or json; by the file's ending where absent"}, &cli.StringFlag{Name: "output", Aliases: []string{"o"}, Usage: "file to write; standard output where absent"},
			&cli.BoolFlag{Name: "reach", Usage: "all that depends on it, instead of its section"}, &cli.StringFlag{Name: "at", Usage: "as of this moment; now where absent"},
			&cli.IntFlag{Name: "fold", Usage: "fold rows of more objects of a kind than this; 0 folds nothing"}},
		Action: func(ctx context.Context, c *cli.Command) error {
			of, err := one(c, "the object")
			if err != nil {
				return err
			}
			as, path := c.String("as"), c.String("output")
			if as == "" {
				as = map[string]string{".gv": "dot", ".dot": "dot", ".graphml": "graphml", ".json": "json"}[filepath.Ext(path)]
			}
			if as == "" {
				as = "dot"
			}
			if as != "dot" && as != "graphml" && as != "json" {
				return wrongUsage("--as is dot, graphml or json, not %q", as)
			}
			cl, err := a.connect(c)
			if err != nil {
				return err
			}
			out := io.Writer(a.Out)
			var text strings.Builder
			if path != "" {
				out = &text
			}
			if err := cl.Map(ctx, of, c.String("at"), as, c.Bool("reach"), route.Folding{Most: c.Int("fold")}, out); err != nil {
				return err
			}
			if path == "" {
				return nil
			}
			if err := os.WriteFile(path, []byte(text.String()), 0o644); err != nil {
				return err
			}
			fmt.Fprintf(a.Err, "written to %s, %s\n", path, time.Now().Format("15:04:05"))
			return nil
		}}
}
