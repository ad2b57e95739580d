package cli

import (
	"context"
	"fmt"
	"strconv"

	"github.com/urfave/cli/v3"

	"dowsingrod/core/phrase"
	"dowsingrod/core/sweep"
	"dowsingrod/internal/service"
)

// neighbours shows what a sweep of the whole estate found: where to look, and at whom.
func (a *App) neighbours(ctx context.Context, c *cli.Command) error {
	w, err := window(c)
	if err != nil {
		return err
	}
	cl, err := a.connect(c)
	if err != nil {
		return err
	}
	list, err := cl.Neighbours(ctx, w)
	if err != nil {
		return err
	}
	if c.Bool("json") {
		return a.printJSON(list)
	}
	fmt.Fprintf(a.Out, "%s  %s – %s\n", a.bold("Suspects in the whole estate"), list.From.Local().Format("Mon 2 Jan 15:04"), list.To.Local().Format("15:04"))
	a.say([]phrase.Phrase{phrase.Say("%s", list.Says)})
	if len(list.Slowed) == 0 {
		return nil
	}
	fmt.Fprintln(a.Out)
	t := table{heads: []string{"component", "since", ">before", ">now", ">slower", "first suspect", ">of added"}}
	for k, x := range list.Slowed {
		if k == c.Int("limit") {
			break
		}
		name := x.Name
		if x.Owner != "" {
			name = x.Owner + " " + x.Name
		}
		who, share := suspectOf(x)
		if x.Outcome == sweep.Culprit {
			who = a.paint(magenta, who)
		}
		t.add(name, x.From.Local().Format("Mon 15:04"), phrase.Micros(float64(x.Before)), phrase.Micros(float64(x.During)), strconv.Itoa(x.Slower)+" of "+strconv.Itoa(x.Tenants), who, share)
	}
	a.print(t)
	fmt.Fprintln(a.Out, a.paint(quiet, "dowse suspects COMPONENT compares all its tenants."))
	return nil
}

func suspectOf(x service.Slowed) (who, share string) {
	switch {
	case x.Where != nil:
		return "nobody: waits for " + x.Where.Name, ""
	case x.Outcome == sweep.Itself:
		return "nobody: slower by itself", ""
	case x.Outcome == sweep.Everybody || len(x.First) == 0:
		return "no single machine", ""
	}
	return x.First[0].Name, phrase.Percent(float64(x.First[0].Share))
}
