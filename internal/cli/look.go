package cli

import (
	"context"
	"fmt"
	"maps"
	"math"
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
	"dowsingrod/core/strata"
	"dowsingrod/core/suspect"
	"dowsingrod/internal/client"
	"dowsingrod/internal/service"
)

// window reads the window flags. An --at becomes half an hour to either side.
func window(c *cli.Command) (client.Window, error) {
	w := client.Window{From: c.String("from"), To: c.String("to")}
	at := c.String("at")
	if at == "" {
		return w, nil
	}
	if w.From != "" || w.To != "" {
		return w, wrongUsage("--at stands for a window of its own: give it, or --from and --to")
	}
	t, err := service.ParseTime(at, time.Now())
	if err != nil {
		return w, usageError{err}
	}
	end := t.Add(30 * time.Minute)
	if end.After(time.Now()) {
		end = time.Now()
	}
	return client.Window{From: t.Add(-30 * time.Minute).Format(time.RFC3339), To: end.Format(time.RFC3339)}, nil
}

// question runs a command that asks one thing of one object.
func question[T any](a *App, what string, ask func(context.Context, *client.Client, string, client.Window) (T, error), show func(T)) cli.ActionFunc {
	return func(ctx context.Context, c *cli.Command) error {
		of, err := one(c, what)
		if err != nil {
			return err
		}
		w, err := window(c)
		if err != nil {
			return err
		}
		cl, err := a.connect(c)
		if err != nil {
			return err
		}
		answer, err := ask(ctx, cl, of, w)
		if err != nil {
			return err
		}
		if c.Bool("json") {
			if err := a.printJSON(answer); err != nil {
				return err
			}
		} else {
			show(answer)
		}
		return unread(answer)
	}
}

// unread is the error for an answer that rests on no reading at all: a script must not take it for a
// healthy one.
func unread(answer any) error {
	none := false
	switch v := answer.(type) {
	case strata.Strata:
		none = v.Disks > 0 && v.Coverage == 0
	case suspect.Suspects:
		none = len(v.Tenants) > 0 && v.Coverage == 0
	}
	if none {
		return &client.Problem{Type: ":not-found", Detail: "there are no readings in this window"}
	}
	return nil
}

func (a *App) find() *cli.Command {
	return &cli.Command{Name: "find", Usage: "find objects by any name or identifier", ArgsUsage: "TEXT",
		Flags: []cli.Flag{&cli.StringFlag{Name: "kind", Usage: "only this kind, as vm or volume"}, &cli.IntFlag{Name: "limit", Value: 20, Usage: "at most so many"},
			&cli.StringFlag{Name: "at", Usage: "as of this moment; now where absent"}},
		Action: func(ctx context.Context, c *cli.Command) error {
			text, err := one(c, "what to look for")
			if err != nil {
				return err
			}
			if k := estate.Kind(c.String("kind")); k != "" && !k.Known() {
				return wrongUsage("there is no kind %q: vm, vdisk, host, datastore, switch_port, target_port, volume, pool … are", k)
			}
			cl, err := a.connect(c)
			if err != nil {
				return err
			}
			f, err := cl.Find(ctx, text, estate.Kind(c.String("kind")), c.Int("limit"), c.String("at"))
			if err != nil {
				return err
			}
			if c.Bool("json") {
				return a.printJSON(f)
			}
			if f.Total == 0 {
				return &client.Problem{Type: ":not-found", Detail: fmt.Sprintf("nothing is called %q or has it in a name or identifier", text)}
			}
			t := table{heads: []string{"object", "kind", "of", "found by"}}
			for _, o := range f.Objects {
				t.add(o.Name, o.Label, o.Owner, o.Matched)
			}
			a.print(t)
			if f.More {
				fmt.Fprintln(a.Out, a.paint(quiet, fmt.Sprintf("and more than %d others: narrow the text, or raise --limit", f.Total-len(f.Objects))))
			} else if f.Total > len(f.Objects) {
				fmt.Fprintln(a.Out, a.paint(quiet, fmt.Sprintf("%d more: narrow the text, or raise --limit", f.Total-len(f.Objects))))
			}
			return nil
		}}
}

func (a *App) show() *cli.Command {
	return &cli.Command{Name: "show", Usage: "all that is known of one object", ArgsUsage: "OBJECT", Flags: windowFlags(),
		Action: question(a, "the object", func(ctx context.Context, c *client.Client, of string, w client.Window) (service.Detail, error) {
			return c.Show(ctx, of, w)
		}, a.printDetail)}
}

func (a *App) printDetail(d service.Detail) {
	title := d.Name
	if d.Owner != "" {
		title = d.Owner + " " + d.Name
	}
	fmt.Fprintf(a.Out, "%s  %s\n", a.bold(title), d.Label)
	fmt.Fprintln(a.Out, a.paint(quiet, d.Ref))
	fmt.Fprintln(a.Out, a.condition(d.Condition.Condition))
	for _, r := range d.Condition.Reasons {
		fmt.Fprintln(a.Out, "  "+r.Words)
	}
	if d.Reach > 0 {
		var tiers []string
		for _, t := range slices.Sorted(maps.Keys(d.ByTier)) {
			if t != "" {
				tiers = append(tiers, fmt.Sprintf("%d of tier %s", d.ByTier[t], t))
			}
		}
		line := phrase.Count(d.Reach, "VM depends on it", "VMs depend on it")
		if len(tiers) > 0 {
			line += ": " + phrase.List(tiers)
		}
		fmt.Fprintln(a.Out, line)
	}
	if len(d.Identities) > 0 {
		fmt.Fprintln(a.Out)
		for _, id := range append(slices.Clone(d.Identities), d.Names...) {
			fmt.Fprintln(a.Out, "  "+id)
		}
	}
	if d.Protection != "" {
		fmt.Fprintln(a.Out)
		a.say([]phrase.Phrase{phrase.Say("Its data is %s.", d.Protection)})
	}
	if len(d.Facts) > 0 {
		fmt.Fprintln(a.Out)
		t := table{heads: []string{"fact", "value"}}
		for _, k := range slices.Sorted(maps.Keys(d.Facts)) {
			t.add(k, fact(k, d.Facts[k]))
		}
		a.print(t)
	}
	if len(d.Links) > 0 {
		fmt.Fprintln(a.Out)
		t := table{heads: []string{"", "link", "object", "kind", "said by"}}
		for _, l := range d.Links {
			arrow := "↑"
			if l.Down {
				arrow = "↓"
			}
			name := l.Name
			if l.Owner != "" {
				name = l.Owner + " " + l.Name
			}
			t.add(arrow, l.Link, name, l.Label, map[string]string{"source": "its source", "identity": "its identity"}[l.By])
		}
		a.printSome(t, 24)
	}
	if len(d.Latest) > 0 {
		fmt.Fprintln(a.Out)
		t := table{heads: []string{"metric", ">newest", ">mean", d.From.Local().Format("15:04") + " – " + d.To.Local().Format("15:04"), ">every", ">age"}}
		for _, l := range d.Latest {
			t.add(l.Metric, quantity(l.Unit, float64(l.Value)), quantity(l.Unit, float64(l.Mean)), sparkline(l.Row, 36), phrase.Span(time.Duration(l.Step*1e9)), phrase.Span(time.Duration(l.Age*1e9)))
		}
		a.print(t)
	} else {
		fmt.Fprintln(a.Out, "\nNo readings in this window.")
	}
	for _, sp := range d.Spread {
		fmt.Fprintf(a.Out, "\n%s, as a distribution: %s\n", sp.Metric, sp.Words)
		a.printSpread(sp)
	}
	for _, f := range d.Findings {
		for n, line := range wrap("finding: "+f.Detail, width-2) {
			if n == 0 {
				line = a.paint(ochre, "finding:") + strings.TrimPrefix(line, "finding:")
			} else {
				line = "  " + line
			}
			fmt.Fprintln(a.Out, line)
		}
	}
}

func (a *App) printSpread(d service.Distribution) {
	top := greatest(d.Counts)
	t := table{heads: []string{">up to", ">count", ""}}
	for i, n := range d.Counts {
		bound := "above"
		if i < len(d.Bounds) {
			bound = quantity(d.Unit, d.Bounds[i])
		}
		t.add(bound, phrase.Rate(n), a.paint(layerColor[estate.LayerDatastore], bar(n/top, 50)))
	}
	a.print(t)
}

func (a *App) printSome(t table, most int) {
	more := len(t.rows) - most
	if more > 0 {
		t.rows = t.rows[:most]
	}
	a.print(t)
	if more > 0 {
		fmt.Fprintln(a.Out, a.paint(quiet, fmt.Sprintf("and %d more (--json has all)", more)))
	}
}

// quantity writes a value of a unit.
func quantity(u reading.Unit, v float64) string {
	switch {
	case math.IsNaN(v):
		return "–"
	case u == reading.Microseconds:
		return phrase.Micros(v)
	case u == reading.BytesPerSecond:
		return phrase.Bytes(v) + "/s"
	case u == reading.Bytes:
		return phrase.Bytes(v)
	case u == reading.SharePart:
		return phrase.Percent(v)
	case u == reading.PerSecond:
		return phrase.Rate(v) + "/s"
	}
	return phrase.Rate(v)
}

func fact(name string, v any) string {
	n, ok := v.(float64)
	switch {
	case ok && strings.HasSuffix(name, "bytes"):
		return phrase.Bytes(n)
	case ok && strings.HasSuffix(name, "_bytes_s"):
		return phrase.Bytes(n) + "/s"
	case ok:
		return strings.TrimSuffix(fmt.Sprintf("%.3f", n), ".000")
	}
	if list, ok := v.([]any); ok {
		words := make([]string, len(list))
		for i, e := range list {
			words[i] = fmt.Sprint(e)
		}
		return strings.Join(words, ", ")
	}
	return fmt.Sprint(v)
}

func (a *App) condition(c congest.Condition) string {
	switch c {
	case congest.Failing:
		return a.paint(magenta, "◆ failing")
	case congest.Strained:
		return a.paint(ochre, "▲ strained")
	case congest.Silent:
		return "◌ silent: no recent reading"
	case congest.Steady:
		return "steady by its own readings"
	}
	return "no limits apply to it"
}

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

func (a *App) strata() *cli.Command {
	return &cli.Command{Name: "strata", Usage: "latency split by layer over time", ArgsUsage: "OBJECT", Flags: windowFlags(),
		Action: question(a, "the object", func(ctx context.Context, c *client.Client, of string, w client.Window) (strata.Strata, error) {
			return c.Strata(ctx, of, w)
		}, a.printStrata)}
}

const chartWidth = 56

func (a *App) printStrata(s strata.Strata) {
	span := time.Duration(s.Step * float64(s.N) * 1e9)
	fmt.Fprintf(a.Out, "%s  %s · %s – %s\n", a.bold(s.Name), s.Kind.Label(), s.From.Local().Format("Mon 15:04"), s.From.Add(span).Local().Format("15:04"))
	a.say(s.Statement)
	for _, d := range []struct {
		name string
		strata.Direction
	}{{"read", s.Read}, {"write", s.Write}} {
		fmt.Fprintln(a.Out)
		a.printDirection(d.name, d.Direction, s)
	}
	fmt.Fprintln(a.Out)
	if len(s.Basis) > 0 {
		t := table{heads: []string{"timed at", "by", ">objects", ">every", ">covered"}}
		for _, b := range s.Basis {
			t.add(b.Point, b.Source, fmt.Sprint(b.Objects), phrase.Span(time.Duration(b.Interval*1e9)), phrase.Percent(float64(b.Coverage)))
		}
		a.print(t)
	}
	for _, x := range s.Conflicts {
		a.say([]phrase.Phrase{phrase.Say("Layers contradict each other: %s", x.Words)})
	}
	for _, n := range s.Notes {
		a.say([]phrase.Phrase{phrase.Say("Note: %s", n)})
	}
}

func (a *App) printDirection(name string, d strata.Direction, s strata.Strata) {
	changed := s.Change != nil
	heads := []string{"µs per " + name, ">usual", ">during", ">added", "part of it"}
	if !changed {
		heads = []string{name + "s", ">mean", ">95 %", ">worst", "over time"}
	}
	t := table{heads: heads}
	t.heads[0] = name + " latency"
	if changed {
		top := 0.0
		for _, b := range d.Bands {
			top = math.Max(top, float64(b.During))
		}
		for _, b := range d.Bands {
			if !b.During.Known() && !b.Usual.Known() || b.During == 0 && b.Usual == 0 {
				continue
			}
			added := signed(float64(b.Added))
			if s.Change.Direction == name && b.Layer == s.Change.Layer {
				added = a.paint(magenta, added)
			}
			t.add(a.paint(layerColor[b.Layer], "▌")+" "+string(b.Layer), phrase.Micros(float64(b.Usual)), phrase.Micros(float64(b.During)), added,
				a.paint(layerColor[b.Layer], bar(float64(b.During)/top, 30)))
		}
		t.add("  total", phrase.Micros(float64(d.Usual)), phrase.Micros(float64(d.During)), signed(float64(d.During-d.Usual)), "")
	} else {
		for _, b := range d.Bands {
			if b.Mean.Known() && b.Mean > 0 {
				t.add(a.paint(layerColor[b.Layer], "▌")+" "+string(b.Layer), phrase.Micros(float64(b.Mean)), "", "", a.paint(layerColor[b.Layer], sparkline(b.Time, 40)))
			}
		}
		t.add("  total", phrase.Micros(float64(d.Mean)), phrase.Micros(float64(d.P95)), phrase.Micros(float64(d.Worst)), sparkline(d.Total, 40))
	}
	a.print(t)
	if d.Mean.Known() {
		worst := ""
		if d.WorstAt != nil {
			worst = " at " + d.WorstAt.Local().Format("15:04")
		}
		a.say([]phrase.Phrase{phrase.Say("Half of all %ss within %s, 95 %% within %s, 99 %% within %s; worst %s%s.", name, phrase.Micros(float64(d.P50)), phrase.Micros(float64(d.P95)),
			phrase.Micros(float64(d.P99)), phrase.Micros(float64(d.Worst)), worst)})
	}
	if u := d.Ordinary; u != nil {
		low, high := reading.MeanOver(u.Low, 0, len(u.Low)), reading.MeanOver(u.High, 0, len(u.High))
		a.say([]phrase.Phrase{phrase.Say("Usual then: %s. It rests on %s.", phrase.Between(low, high), u.Words)})
	}
	a.chart(name+" latency", phrase.Micros(greatest(d.Total)), d.Total)
	a.chart(name+"s/s", phrase.Rate(greatest(d.IOPS)), d.IOPS)
	a.chart(name+" bytes/s", phrase.Bytes(greatest(d.BytesS))+"/s", d.BytesS)
	fmt.Fprintf(a.Out, "%-16s%s\n", "", a.paint(quiet, clockLine(s.From, time.Duration(s.Step*float64(s.N)*1e9), chartWidth)))
}

func (a *App) chart(name, top string, values []float64) {
	fmt.Fprintf(a.Out, "%-16s%s  %s\n", name, a.paint(layerColor[estate.LayerDatastore], sparkline(values, chartWidth)), a.paint(quiet, "up to "+top))
}

func signed(us float64) string {
	if us >= 0.9995 {
		return "+" + phrase.Micros(us)
	}
	if us <= -0.9995 {
		return "−" + phrase.Micros(-us)
	}
	if math.IsNaN(us) {
		return "–"
	}
	return "0 µs"
}

func (a *App) suspects() *cli.Command {
	return &cli.Command{Name: "suspects", Usage: "tenants of a shared component, before and after it became slow; without one, where in the whole estate to look", ArgsUsage: "[COMPONENT]",
		Flags: append(windowFlags(), &cli.IntFlag{Name: "limit", Value: 12, Usage: "at most so many tenants"}),
		Action: func(ctx context.Context, c *cli.Command) error {
			if c.Args().Len() == 0 {
				return a.neighbours(ctx, c)
			}
			return question(a, "the component", func(ctx context.Context, cl *client.Client, of string, w client.Window) (suspect.Suspects, error) {
				return cl.Suspects(ctx, of, w)
			}, func(s suspect.Suspects) { a.printSuspects(s, c.Int("limit")) })(ctx, c)
		}}
}

func (a *App) printSuspects(s suspect.Suspects, limit int) {
	span := time.Duration(s.Step * float64(s.N) * 1e9)
	fmt.Fprintf(a.Out, "%s  %s · %s – %s", a.bold(s.Name), s.Kind.Label(), s.From.Local().Format("Mon 15:04"), s.From.Add(span).Local().Format("15:04"))
	if s.Onset != nil {
		fmt.Fprintf(a.Out, " · before and after %s", s.Onset.Local().Format("15:04"))
	}
	fmt.Fprintln(a.Out)
	a.say(s.Statement)
	fmt.Fprintln(a.Out)
	changed := s.Onset != nil
	t := table{heads: []string{"", "tenant", "tier", "data rate", ">MiB/s", ">in flight", ">ms per " + s.Direction, ">added"}}
	if !changed {
		t = table{heads: []string{"", "tenant", "tier", "data rate", ">MiB/s", ">in flight", ">ms per " + s.Direction, "role"}}
	}
	row := func(mark, name, tier string, tr suspect.Trace, share, role string) {
		if !changed {
			t.add(mark, name, tier, a.paint(layerColor[estate.LayerDatastore], sparkline(tr.BytesS, 24)), phrase.Rate(mean(tr.BytesS)/(1<<20)), phrase.Rate(mean(tr.InFlight)), phrase.Rate(mean(tr.Time)/1e3), role)
			return
		}
		t.add(mark, name, tier, a.paint(layerColor[estate.LayerDatastore], sparkline(tr.BytesS, 16)), arrow(tr.BytesPair, 1<<20), arrow(tr.InPair, 1), arrow(tr.TimePair, 1e3), share)
	}
	row("", s.Name, "", s.Component, "", "")
	for k, tn := range s.Tenants {
		if k == limit {
			break
		}
		mark, share := "", "–"
		if tn.Role == suspect.Suspect {
			mark = a.paint(magenta, "◆")
		}
		if tn.Share.Known() && tn.Share >= 0.005 {
			share = phrase.Percent(float64(tn.Share))
		}
		row(mark, tn.Name, tn.Tier, tn.Trace, share, string(tn.Role))
	}
	a.print(t)
	if more := len(s.Tenants) - limit; more > 0 {
		fmt.Fprintln(a.Out, a.paint(quiet, fmt.Sprintf("and %d more tenants (raise --limit)", more)))
	}
	if len(s.Grounds) > 0 {
		fmt.Fprintf(a.Out, "\nConfidence %s:\n", phrase.Percent(float64(s.Confidence)))
		for _, g := range s.Grounds {
			fmt.Fprintln(a.Out, "  "+g)
		}
	}
	fmt.Fprintln(a.Out)
	a.say([]phrase.Phrase{phrase.Say("Time per I/O of the component: %s. Demand is counted in %s.", s.Measured, s.Unit)})
	for _, n := range s.Notes {
		fmt.Fprintln(a.Out, "Note: "+n)
	}
}

// arrow writes a figure before and during, in a unit.
func arrow(p suspect.Pair, unit float64) string {
	return phrase.Rate(float64(p.Before)/unit) + " → " + phrase.Rate(float64(p.During)/unit)
}

func mean(v []float64) float64 { return reading.MeanOver(v, 0, len(v)) }
