package cli

import (
	"context"
	"fmt"
	"maps"
	"math"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"dowsingrod/core/congest"
	"dowsingrod/core/estate"
	"dowsingrod/core/phrase"
	"dowsingrod/core/reading"
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
