package cli

import (
	"context"
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"dowsingrod/core/congest"
	"dowsingrod/core/estate"
	"dowsingrod/core/phrase"
	"dowsingrod/core/reading"
	"dowsingrod/internal/client"
	"dowsingrod/internal/service"
)

func (a *App) limits() *cli.Command {
	where := []cli.Flag{
		&cli.StringFlag{Name: "of", Usage: "only for this object, or with --kind for those of the kind in it"},
		&cli.StringFlag{Name: "kind", Usage: "for objects of this kind"},
	}
	return &cli.Command{Name: "limits", Usage: "what conditions are judged by, and why; change it for an object or a group; what was past it",
		ArgsUsage: "[OBJECT]",
		Flags:     []cli.Flag{&cli.BoolFlag{Name: "history", Usage: "also what was changed and no longer holds"}},
		Action: func(ctx context.Context, c *cli.Command) error {
			if c.Args().Len() > 1 {
				return wrongUsage("one object is enough, %q is too much", c.Args().Get(1))
			}
			cl, err := a.connect(c)
			if err != nil {
				return err
			}
			list, err := cl.Limits(ctx, c.Args().First())
			return a.showLimits(c, list, err)
		},
		Commands: []*cli.Command{
			{Name: "set", Usage: "change a limit: a share as 85%, a time as 2ms, a rate as 0.5, or never", ArgsUsage: "METRIC",
				Flags: append(where, &cli.StringFlag{Name: "strained", Usage: "strained above this", Required: true}, &cli.StringFlag{Name: "failing", Usage: "failing above this", Required: true},
					&cli.StringFlag{Name: "why", Usage: "why, for those who come after", Required: true}),
				Action: a.onLimit(func(ctx context.Context, c *cli.Command, cl *client.Client, r congest.Rule) (service.LimitList, error) {
					var err error
					if r.Strained, err = parseLevel(c.String("strained")); err != nil {
						return service.LimitList{}, err
					}
					if r.Failing, err = parseLevel(c.String("failing")); err != nil {
						return service.LimitList{}, err
					}
					return cl.ChangeLimit(ctx, r, c.String("why"))
				})},
			{Name: "restore", Usage: "end a change: the limit is again what it was without it", ArgsUsage: "METRIC", Flags: where,
				Action: a.onLimit(func(ctx context.Context, _ *cli.Command, cl *client.Client, r congest.Rule) (service.LimitList, error) {
					return cl.RestoreLimit(ctx, r)
				})},
			{Name: "passed", Usage: "what was past its limits, since when and how far", ArgsUsage: "[OBJECT]",
				Flags: append(windowFlags(), &cli.IntFlag{Name: "limit", Value: 30, Usage: "at most so many"}), Action: a.passed},
		}}
}

// onLimit runs a change of the limit that argument and flags name, and shows what holds then.
func (a *App) onLimit(do func(ctx context.Context, c *cli.Command, cl *client.Client, r congest.Rule) (service.LimitList, error)) cli.ActionFunc {
	return func(ctx context.Context, c *cli.Command) error {
		metric, err := one(c, "a metric")
		if err != nil {
			return err
		}
		r := congest.Rule{Kind: estate.Kind(c.String("kind")), Within: c.String("of"), Metric: metric}
		if r.Kind == "" && r.Within == "" {
			return wrongUsage("say for what: --of an object, --kind for all of a kind, or both for all of a kind in an object")
		}
		cl, err := a.connect(c)
		if err != nil {
			return err
		}
		list, err := do(ctx, c, cl, r)
		return a.showLimits(c, list, err)
	}
}

// parseLevel reads a level: a share in per cent, a time with its unit, a plain number, or never.
func parseLevel(text string) (reading.Figure, error) {
	text = strings.TrimSpace(text)
	if text == "never" {
		return reading.Missing, nil
	}
	for _, u := range []struct {
		suffix string
		times  float64
	}{{"%", 0.01}, {"µs", 1}, {"us", 1}, {"ms", 1e3}, {"s", 1e6}, {"", 1}} {
		number, ok := strings.CutSuffix(text, u.suffix)
		if !ok {
			continue
		}
		v, err := strconv.ParseFloat(strings.TrimSpace(number), 64)
		if err != nil || !reading.Figure(v).Known() {
			break
		}
		return reading.Figure(v * u.times), nil
	}
	return 0, wrongUsage("%q is no level: write a share as 85%%, a time as 2ms, a rate as 0.5, or never", text)
}

func (a *App) showLimits(c *cli.Command, list service.LimitList, err error) error {
	if err != nil {
		return err
	}
	if c.Bool("json") {
		return a.printJSON(list)
	}
	if list.Of != "" {
		fmt.Fprintln(a.Out, a.bold(list.Name))
	}
	if len(list.Limits) == 0 {
		fmt.Fprintln(a.Out, "Nothing of it is limited.")
	}
	t := table{heads: []string{"kind", "about", "metric", ">strained", ">failing", ">objects", ""}}
	for _, l := range list.Limits {
		mark := ""
		if l.Changed {
			mark = a.bold("changed")
		}
		t.add(l.Label, string(l.Aspect), l.Metric, levelText(l.Limit, l.Strained), levelText(l.Limit, l.Failing), strconv.Itoa(l.Objects), mark)
	}
	a.print(t)
	if list.Of != "" {
		for _, l := range list.Limits {
			a.say([]phrase.Phrase{phrase.Say("  %s: %s.", l.Metric, l.Reason)})
		}
	} else {
		fmt.Fprintln(a.Out, a.paint(quiet, "dowse limits OBJECT says why; dowse limits set changes one."))
	}
	t = table{heads: []string{"kind", "for", "metric", ">strained", ">failing", "by", "since", "until", "why"}}
	for _, x := range list.Changes {
		until := ""
		if x.Until != nil {
			if !c.Bool("history") {
				continue
			}
			until = x.Until.Local().Format("Mon 2 Jan 15:04") + ", " + x.UntilBy
		}
		within := x.Within
		if within == "" {
			within = "all"
		}
		l := congest.Limit{Metric: x.Metric}
		t.add(x.Kind.Label(), within, x.Metric, levelText(l, x.Strained), levelText(l, x.Failing), x.By, x.At.Local().Format("Mon 2 Jan 15:04"), until, x.Why)
	}
	if len(t.rows) > 0 {
		a.heading("Changed")
		a.print(t)
	}
	return nil
}

func levelText(l congest.Limit, v reading.Figure) string {
	if !v.Known() {
		return "never"
	}
	return l.Figure(float64(v))
}

func (a *App) passed(ctx context.Context, c *cli.Command) error {
	if c.Args().Len() > 1 {
		return wrongUsage("one object is enough, %q is too much", c.Args().Get(1))
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
	list, err := cl.Stretches(ctx, c.Args().First(), w, c.Int("limit"))
	if err != nil {
		return err
	}
	if c.Bool("json") {
		return a.printJSON(list)
	}
	if list.Until == nil {
		fmt.Fprintln(a.Out, "Nothing was judged yet: readings of two hours are needed first.")
		return nil
	}
	if len(list.Stretches) == 0 {
		fmt.Fprintln(a.Out, "Nothing was past its limits in this window.")
		return nil
	}
	t := table{heads: []string{"", "object", "kind", "about", "since", ">for", "how far", ">VMs on it"}}
	for _, x := range list.Stretches {
		mark := a.paint(ochre, "▒")
		if x.Level == "failing" {
			mark = a.paint(magenta, "█")
		}
		name := x.Name
		if x.Owner != "" {
			name = x.Owner + " " + x.Name
		}
		span := "lasts"
		switch {
		case x.Broken:
			span = phrase.Span(x.To.Sub(x.From).Round(time.Minute)) + ", then silent"
		case !x.Lasts:
			span = phrase.Span(x.To.Sub(x.From).Round(time.Minute))
		}
		if x.Parts > 0 {
			x.Words += fmt.Sprintf(" (%d parts too)", x.Parts)
		}
		t.add(mark, name, x.Label, string(x.Aspect), x.From.Local().Format("Mon 2 Jan 15:04"), span, x.Words, strconv.Itoa(x.VMs))
	}
	a.print(t)
	return nil
}
