package cli

import (
	"context"
	"fmt"

	"github.com/urfave/cli/v3"

	"dowsingrod/core/phrase"
	"dowsingrod/core/reading"
	"dowsingrod/internal/service"
)

func (a *App) compare() *cli.Command {
	return &cli.Command{Name: "compare", Usage: "two windows, or two objects, side by side: what differs most first", ArgsUsage: "OBJECT [OTHER]",
		Flags: append(windowFlags(), &cli.StringFlag{Name: "with-from", Usage: "start of the window to compare with; a day earlier where absent, the same window where another object is given"},
			&cli.StringFlag{Name: "with-to", Usage: "its end"}, &cli.IntFlag{Name: "limit", Value: 15, Usage: "at most so many figures"}),
		Action: func(ctx context.Context, c *cli.Command) error {
			if n := c.Args().Len(); n < 1 || n > 2 {
				return wrongUsage("give one object, or two: dowse compare %s", c.ArgsUsage)
			}
			w, err := window(c)
			if err != nil {
				return err
			}
			cl, err := a.connect(c)
			if err != nil {
				return err
			}
			x, err := cl.Compare(ctx, c.Args().Get(0), w, c.Args().Get(1), c.String("with-from"), c.String("with-to"))
			if err != nil {
				return err
			}
			if c.Bool("json") {
				return a.printJSON(x)
			}
			a.printComparison(x, c.Int("limit"))
			return nil
		}}
}

func (a *App) printComparison(x service.SideBySide, limit int) {
	for k, s := range []service.ComparedSide{x.First, x.Second} {
		fmt.Fprintf(a.Out, "%d  %s  %s – %s\n", k+1, a.bold(s.Name), s.From.Local().Format("Mon 2 Jan 15:04"), s.To.Local().Format("15:04"))
	}
	a.say(x.Statement)
	fmt.Fprintln(a.Out)
	t := table{heads: []string{"layer", ">a read, 1", ">2", ">a write, 1", ">2"}}
	for k, b := range x.First.Read.Bands {
		if k >= len(x.Second.Read.Bands) || k >= len(x.First.Write.Bands) || k >= len(x.Second.Write.Bands) {
			break
		}
		if !(b.Mean > 0) && !(x.Second.Read.Bands[k].Mean > 0) && !(x.First.Write.Bands[k].Mean > 0) && !(x.Second.Write.Bands[k].Mean > 0) {
			continue
		}
		t.add(a.paint(layerColor[b.Layer], "▌")+" "+string(b.Layer), phrase.Micros(float64(b.Mean)), phrase.Micros(float64(x.Second.Read.Bands[k].Mean)),
			phrase.Micros(float64(x.First.Write.Bands[k].Mean)), phrase.Micros(float64(x.Second.Write.Bands[k].Mean)))
	}
	a.print(t)
	if len(x.Differences) == 0 {
		return
	}
	fmt.Fprintln(a.Out)
	t = table{heads: []string{"object", "figure", ">1", ">2", "the second has"}}
	for k, d := range x.Differences {
		if k < limit {
			t.add(d.Name, reading.Words(d.Metric), inUnit(d.First, d.Unit), inUnit(d.Second, d.Unit), d.Words)
		}
	}
	a.print(t)
}

// inUnit writes a figure by its unit.
func inUnit(f reading.Figure, u reading.Unit) string {
	v := float64(f)
	switch u {
	case reading.Microseconds:
		return phrase.Micros(v)
	case reading.BytesPerSecond:
		return phrase.Bytes(v) + "/s"
	case reading.Bytes:
		return phrase.Bytes(v)
	case reading.SharePart:
		return phrase.Percent(v)
	}
	return phrase.Rate(v)
}
