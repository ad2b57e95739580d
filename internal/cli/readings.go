package cli

import (
	"context"
	"fmt"
	"math"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"dowsingrod/core/normal"
	"dowsingrod/core/phrase"
	"dowsingrod/internal/service"
)

func (a *App) readings() *cli.Command {
	return &cli.Command{Name: "readings", Usage: "all that is measured of an object, and whether it is usual for these hours", ArgsUsage: "OBJECT",
		Flags: append(windowFlags(), &cli.StringFlag{Name: "metric", Usage: "only metrics whose name holds this"}),
		Action: func(ctx context.Context, c *cli.Command) error {
			of, err := one(c, "an object")
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
			m, err := cl.Measured(ctx, of, w)
			if err != nil {
				return err
			}
			if c.Bool("json") {
				return a.printJSON(m)
			}
			a.printMeasured(m, c.String("metric"))
			return nil
		}}
}

func (a *App) printMeasured(m service.Measured, only string) {
	span := time.Duration(m.Step * float64(m.N) * 1e9)
	fmt.Fprintf(a.Out, "%s  %s · %s – %s\n", a.bold(m.Name), m.Label, m.From.Local().Format("Mon 2 Jan 15:04"), m.From.Add(span).Local().Format("15:04"))
	a.say([]phrase.Phrase{phrase.Say("%s", m.Says)})
	t := table{heads: []string{"metric", ">mean", ">usual, from", ">to", "over time", "outside"}}
	whose, basis := m.Ref, normal.Basis("")
	var words string
	for _, x := range m.Metrics {
		if !strings.Contains(x.Metric, only) {
			continue
		}
		if x.Of != whose {
			whose = x.Of
			t.add(a.bold(x.Name), "", "", "", "", "")
		}
		low, high := "", ""
		if v := middle(x.Usual.Low); !math.IsNaN(v) {
			low, high = quantity(x.Unit, v), quantity(x.Unit, middle(x.Usual.High))
		}
		odd := ""
		switch {
		case x.Unusual != "" && x.Above >= x.Below:
			odd = "above, " + phrase.Percent(float64(x.Above))
		case x.Unusual != "":
			odd = "below, " + phrase.Percent(float64(x.Below))
		}
		if basis == "" {
			basis, words = x.Usual.Basis, x.Usual.Words
		}
		t.add(x.Metric, quantity(x.Unit, float64(x.Mean)), low, high, sparkline(x.Row, 24), a.paint(ochre, odd))
	}
	a.print(t)
	fmt.Fprintln(a.Out, a.paint(quiet, "What is usual rests on "+words+"."))
}

// middle is the mean of the known cells.
func middle(row []float64) float64 {
	sum, n := 0.0, 0
	for _, v := range row {
		if !math.IsNaN(v) {
			sum, n = sum+v, n+1
		}
	}
	return sum / float64(n)
}
