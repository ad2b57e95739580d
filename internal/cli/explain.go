package cli

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"dowsingrod/core/phrase"
	"dowsingrod/core/reading"
	"dowsingrod/core/verdict"
	"dowsingrod/internal/client"
)

func (a *App) explanation() *cli.Command {
	return &cli.Command{Name: "explain", Usage: "why an object is slow: the layer, the component, who did it, or that it is not the storage", ArgsUsage: "OBJECT",
		Flags: append(windowFlags(), &cli.IntFlag{Name: "limit", Value: 8, Usage: "at most so many lines of evidence, suspects and sufferers"}),
		Action: func(ctx context.Context, c *cli.Command) error {
			return question(a, "the object", func(ctx context.Context, cl *client.Client, of string, w client.Window) (verdict.Explanation, error) {
				return cl.Explain(ctx, of, w)
			}, func(x verdict.Explanation) { a.printExplanation(x, c.Int("limit")) })(ctx, c)
		}}
}

func (a *App) printExplanation(x verdict.Explanation, limit int) {
	fmt.Fprintf(a.Out, "%s  %s · %s – %s\n", a.bold(x.Name), x.Kind.Label(), x.From.Local().Format("Mon 15:04"), x.To.Local().Format("15:04"))
	a.say(x.Statement)
	class := x.Verdict.Class.Words()
	if x.Verdict.Class == verdict.Unknown {
		class = "not known"
	}
	sure := ""
	if x.Verdict.Confidence > 0 {
		sure = " · " + phrase.Sure(float64(x.Verdict.Confidence)) + " sure"
	}
	fmt.Fprintf(a.Out, "\nVerdict: %s%s\n", a.bold(class), sure)
	a.heading("Latency by layer")
	t := table{heads: []string{"layer", ">a read", ">a write", ">added an I/O"}}
	for _, l := range x.Layers {
		if !(l.Read > 0) && !(l.Write > 0) {
			continue
		}
		t.add(a.paint(layerColor[l.Layer], "▌")+" "+string(l.Layer), phrase.Micros(float64(l.Read)), phrase.Micros(float64(l.Write)), signed(float64(l.Added)))
	}
	a.print(t)
	if len(x.Evidence) > 0 {
		heading, heads := "What speaks for it, and for what else it could be", []string{"component", "says", ">accounts for"}
		if x.Verdict.Component == nil {
			heading, heads[2] = "What else it could be", ""
		}
		a.heading(heading)
		t := table{heads: heads}
		for k, e := range x.Evidence {
			if k < limit {
				weight := ""
				if e.Weight.Known() {
					weight = phrase.Percent(float64(e.Weight))
				}
				t.add(e.Name, e.Words, weight)
			}
		}
		a.print(t)
	}
	a.printTraces(x)
	a.printTenants(x, limit)
	a.lines("Cleared", grounds(x.Cleared), limit)
	a.lines("Not seen", x.Unseen, limit)
	a.lines("What would settle it", x.Settle, limit)
	a.lines("What usually helps", x.Helps, limit)
}

const (
	traceLabel = 30
	traceWidth = 64
)

// printTraces puts the readings that the verdict rests on on one time axis.
func (a *App) printTraces(x verdict.Explanation) {
	span, drawn := time.Duration(0), false
	seen := map[string]bool{}
	draw := func(label string, row reading.Row, color int) {
		if len(row) == 0 || seen[label] {
			return
		}
		if !drawn {
			a.heading("On one time axis, each up to its highest")
		}
		seen[label], drawn = true, true
		span = time.Duration(float64(len(row)) * x.Step * float64(time.Second))
		label = cut(label, traceLabel)
		fmt.Fprintf(a.Out, "  %s%s %s\n", label, strings.Repeat(" ", traceLabel-visible(label)), a.paint(color, sparkline(row, traceWidth)))
	}
	for _, e := range x.Evidence {
		draw(e.Name+" "+metricLabel(e.Metric), e.Trace, quiet)
	}
	for _, s := range x.Suspects {
		if s.Accused {
			draw(s.Name+" data rate", s.Trace, magenta)
		}
	}
	if drawn {
		fmt.Fprintf(a.Out, "  %-*s %s\n", traceLabel, "", a.paint(quiet, clockLine(x.From, span, traceWidth)))
	}
}

// metricLabel writes a metric without its unit.
func metricLabel(metric string) string {
	for _, unit := range []string{"_us", "_share", "_s"} {
		metric = strings.TrimSuffix(metric, unit)
	}
	return strings.ReplaceAll(metric, "_", " ")
}

func (a *App) printTenants(x verdict.Explanation, limit int) {
	if len(x.Suspects) > 0 {
		a.heading("Who uses it")
		t := table{heads: []string{"", "tenant", "tier", ">of what was added", "evidence"}}
		for k, s := range x.Suspects {
			if k == limit {
				break
			}
			mark := ""
			if s.Accused {
				mark = a.paint(magenta, "◆")
			}
			t.add(mark, s.Name, s.Tier, phrase.Percent(float64(s.Score)), s.Evidence)
		}
		a.print(t)
	}
	if len(x.Sufferers) > 0 {
		a.heading("Who suffers")
		t := table{heads: []string{"VM", "tier", "application", ">added an I/O", ">I/Os per second lost"}}
		for k, s := range x.Sufferers {
			if k == limit {
				break
			}
			lost := "none"
			if s.LostIOPS > 0 {
				lost = phrase.Rate(float64(s.LostIOPS))
			}
			t.add(s.Name, s.Tier, s.Application, signed(float64(s.Added)), lost)
		}
		a.print(t)
		if more := len(x.Sufferers) - limit; more > 0 {
			fmt.Fprintln(a.Out, a.paint(quiet, fmt.Sprintf("and %d more (raise --limit)", more)))
		}
	}
}

func grounds(of []verdict.Ground) (lines []string) {
	for _, g := range of {
		if g.Layer != "" {
			lines = append(lines, string(g.Layer)+": "+g.Words)
			continue
		}
		lines = append(lines, g.Words)
	}
	return lines
}

func (a *App) heading(text string) { fmt.Fprintf(a.Out, "\n%s\n", a.bold(text)) }

// lines prints a list under a heading, nothing where it is empty.
func (a *App) lines(heading string, of []string, limit int) {
	if len(of) == 0 {
		return
	}
	a.heading(heading)
	for k, line := range of {
		if k == limit {
			fmt.Fprintln(a.Out, a.paint(quiet, fmt.Sprintf("  and %d more (raise --limit)", len(of)-limit)))
			return
		}
		a.say([]phrase.Phrase{phrase.Say("  %s", line)})
	}
}
