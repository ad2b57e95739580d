package cli

import (
	"context"
	"fmt"
	"time"

	"github.com/urfave/cli/v3"

	"dowsingrod/core/estate"
	"dowsingrod/core/phrase"
	"dowsingrod/core/reading"
	"dowsingrod/core/suspect"
	"dowsingrod/internal/client"
)

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
		fmt.Fprintf(a.Out, "\nConfidence %s: of accusations like it so many were right.\n", phrase.Sure(float64(s.Confidence)))
		for _, g := range s.Grounds {
			fmt.Fprintln(a.Out, "  "+g)
		}
	}
	fmt.Fprintln(a.Out)
	a.say([]phrase.Phrase{phrase.Say("Time per I/O of the component: %s. Demand is counted in %s.", s.Measured, s.Unit)})
	for _, n := range s.Notes {
		a.say([]phrase.Phrase{phrase.Say("Note: %s", n)})
	}
}

// arrow writes a figure before and during, in a unit.
func arrow(p suspect.Pair, unit float64) string {
	return phrase.Rate(float64(p.Before)/unit) + " → " + phrase.Rate(float64(p.During)/unit)
}

func mean(v []float64) float64 { return reading.MeanOver(v, 0, len(v)) }
