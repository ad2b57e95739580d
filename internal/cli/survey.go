package cli

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"dowsingrod/core/phrase"
	"dowsingrod/internal/service"
)

func (a *App) survey() *cli.Command {
	return &cli.Command{Name: "survey", Usage: "every array, cluster and fabric: where and when limits were passed, what hurt, what differs",
		Flags: append(windowFlags(), &cli.IntFlag{Name: "limit", Value: 20, Usage: "at most so many systems"}),
		Action: func(ctx context.Context, c *cli.Command) error {
			if c.Args().Len() > 0 {
				return wrongUsage("it is of the whole estate: %q is too much. For one object see  dowse explain", c.Args().First())
			}
			w, err := window(c)
			if err != nil {
				return err
			}
			cl, err := a.connect(c)
			if err != nil {
				return err
			}
			if w.From == "" {
				w.From = "-24h"
			}
			s, err := cl.Survey(ctx, w)
			if err != nil {
				return err
			}
			if c.Bool("json") {
				return a.printJSON(s)
			}
			a.printSurvey(s, c.Int("limit"))
			return nil
		}}
}

const logWidth = 72

func (a *App) printSurvey(s service.Survey, limit int) {
	span := time.Duration(s.Step * float64(s.N) * 1e9)
	fmt.Fprintf(a.Out, "%s  %s – %s\n", a.bold("Survey"), s.From.Local().Format("Mon 2 Jan 15:04"), s.From.Add(span).Local().Format("Mon 15:04"))
	a.say(s.Statement)
	for k, x := range s.Systems {
		if k == limit {
			fmt.Fprintln(a.Out, a.paint(quiet, fmt.Sprintf("and %d more systems (raise --limit)", len(s.Systems)-limit)))
			break
		}
		says := x.Says
		for _, more := range append([]string{x.Hurts}, x.Differs...) {
			if more != "" {
				says += ", " + more
			}
		}
		if x.Quiet && x.Seen != nil {
			says += ", no readings since " + x.Seen.Local().Format("15:04")
		}
		fmt.Fprintf(a.Out, "\n%s  %s\n", a.bold(x.Name), a.paint(quiet, x.About))
		a.say([]phrase.Phrase{phrase.Say("  %s", says)})
		for _, row := range x.Rows {
			if row.Objects == 0 {
				continue
			}
			fmt.Fprintf(a.Out, "  %-11s %s\n", row.Label, a.log(row, s.N))
		}
		fmt.Fprintf(a.Out, "  %-11s %s\n", "load", a.paint(quiet, sparkline(x.Load, logWidth)))
	}
	fmt.Fprintf(a.Out, "  %-11s %s\n", "", a.paint(quiet, clockLine(s.From, span, logWidth)))
	if len(s.Incidents) > 0 {
		a.heading("Incidents")
		a.incidentTable(s.Incidents)
	}
	fmt.Fprintf(a.Out, "\n%s strained  %s failing  · nothing passed a limit\n", a.paint(ochre, "▒"), a.paint(magenta, "█"))
}

// log draws a row of a bore log: ink only where a limit was passed.
func (a *App) log(row service.SystemRow, n int) string {
	level := make([]int, logWidth)
	for _, m := range row.Marks {
		for c := m.From * logWidth / n; c <= (m.To*logWidth-1)/n && c < logWidth; c++ {
			if m.Level == "failing" {
				level[c] = 2
			} else {
				level[c] = max(level[c], 1)
			}
		}
	}
	var b strings.Builder
	for _, l := range level {
		b.WriteString([]string{a.paint(quiet, "·"), a.paint(ochre, "▒"), a.paint(magenta, "█")}[l])
	}
	if row.Silent > 0 && row.Silent == row.Objects {
		b.WriteString(a.paint(quiet, "  no readings"))
	}
	return b.String()
}
