package cli

import (
	"context"
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"dowsingrod/core/phrase"
	"dowsingrod/internal/client"
	"dowsingrod/internal/service"
)

func (a *App) incidents() *cli.Command {
	return &cli.Command{Name: "incidents", Usage: "what hurt without anybody having asked: its cause, who suffered, what people said of it",
		Flags:  append(windowFlags(), &cli.IntFlag{Name: "limit", Value: 20, Usage: "at most so many"}),
		Action: a.listIncidents,
		Commands: []*cli.Command{
			{Name: "show", Usage: "all that is kept of an incident", ArgsUsage: "NUMBER", Action: a.onIncident(0, func(ctx context.Context, c *client.Client, id int64, _ string) (service.IncidentDetail, error) {
				return c.Incident(ctx, id)
			})},
			{Name: "take", Usage: "take an incident on, so that others see it is yours", ArgsUsage: "NUMBER", Action: a.onIncident(0, func(ctx context.Context, c *client.Client, id int64, _ string) (service.IncidentDetail, error) {
				return c.Acknowledge(ctx, id, true)
			})},
			{Name: "release", Usage: "give an incident back", ArgsUsage: "NUMBER", Action: a.onIncident(0, func(ctx context.Context, c *client.Client, id int64, _ string) (service.IncidentDetail, error) {
				return c.Acknowledge(ctx, id, false)
			})},
			{Name: "comment", Usage: "write something under an incident", ArgsUsage: "NUMBER WORDS …", Action: a.onIncident(1, func(ctx context.Context, c *client.Client, id int64, words string) (service.IncidentDetail, error) {
				return c.Comment(ctx, id, words)
			})},
		}}
}

func (a *App) listIncidents(ctx context.Context, c *cli.Command) error {
	if c.Args().Len() > 0 {
		return wrongUsage("%q is no part of it: see  dowse help incidents", c.Args().First())
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
		w.From = "-8d"
	}
	list, err := cl.Incidents(ctx, w, c.Int("limit"))
	if err != nil {
		return err
	}
	if c.Bool("json") {
		return a.printJSON(list)
	}
	if len(list.Incidents) == 0 {
		fmt.Fprintln(a.Out, "No incident in this window.")
		if list.Until == nil {
			fmt.Fprintln(a.Out, "None were looked for yet: readings of two hours are needed first.")
		}
		return nil
	}
	a.incidentTable(list.Incidents)
	return nil
}

func (a *App) incidentTable(of []service.IncidentInfo) {
	t := table{heads: []string{">no.", "began", ">lasted", "cause", ">VMs", ">added", ">sure", "verdict"}}
	for _, i := range of {
		mark := ""
		if i.AcknowledgedBy != "" {
			mark = a.paint(quiet, "  ("+i.AcknowledgedBy+" is on it)")
		}
		t.add(strconv.FormatInt(i.ID, 10), i.Onset.Local().Format("Mon 2 Jan 15:04"), lasted(i), i.Words, strconv.Itoa(i.Sufferers), signed(float64(i.Added)), phrase.Sure(float64(i.Confidence)), i.Summary+mark)
	}
	a.print(t)
}

func lasted(i service.IncidentInfo) string {
	if i.Ended == nil {
		return "lasts"
	}
	return phrase.Span(i.Ended.Sub(i.Onset).Round(time.Minute))
}

// onIncident runs something on the incident that the first argument names, and shows it; words are needed after it or not.
func (a *App) onIncident(words int, do func(ctx context.Context, c *client.Client, id int64, words string) (service.IncidentDetail, error)) cli.ActionFunc {
	return func(ctx context.Context, c *cli.Command) error {
		id, err := strconv.ParseInt(c.Args().First(), 10, 64)
		if err != nil || id < 1 {
			return wrongUsage("name an incident by its number: dowse incidents lists them")
		}
		rest := strings.Join(c.Args().Tail(), " ")
		switch {
		case words > 0 && rest == "":
			return wrongUsage("write something after the number")
		case words == 0 && rest != "":
			return wrongUsage("one number is enough, %q is too much", rest)
		}
		cl, err := a.connect(c)
		if err != nil {
			return err
		}
		x, err := do(ctx, cl, id, rest)
		if err != nil {
			return err
		}
		if c.Bool("json") {
			return a.printJSON(x)
		}
		a.printIncident(x)
		return nil
	}
}

func (a *App) printIncident(x service.IncidentDetail) {
	fmt.Fprintf(a.Out, "%s  began %s, %s\n", a.bold(fmt.Sprintf("Incident %d", x.ID)), x.Onset.Local().Format("Mon 2 Jan 15:04"), map[bool]string{true: "lasts", false: "lasted " + lasted(x.IncidentInfo)}[x.Ended == nil])
	if x.Acknowledged != nil {
		fmt.Fprintf(a.Out, "%s has been on it since %s.\n", x.AcknowledgedBy, x.Acknowledged.Local().Format("Mon 15:04"))
	}
	a.printExplanation(x.Explanation, 6)
	if len(x.Suffered) > 0 {
		a.heading(fmt.Sprintf("Hurt while it lasted: %s, %s I/O-seconds waited", phrase.Count(len(x.Suffered), "VM", "VMs"), phrase.Rate(float64(x.Harm))))
		t := table{heads: []string{"VM", "tier", "application", ">added at most", ">I/O-seconds waited"}}
		for k, s := range x.Suffered {
			if k < 10 {
				t.add(s.Name, s.Tier, s.Application, signed(float64(s.Added)), phrase.Rate(float64(s.Harm)))
			}
		}
		a.print(t)
	}
	if len(x.Comments) > 0 {
		a.heading("Comments")
		for _, c := range x.Comments {
			a.say([]phrase.Phrase{phrase.Say("  %s, %s: %s", c.By, c.At.Local().Format("Mon 15:04"), c.Words)})
		}
	}
	if len(x.Similar) > 0 {
		a.heading("Like it before")
		a.incidentTable(x.Similar)
	}
}
