package cli

import (
	"context"
	"fmt"
	"time"

	"github.com/urfave/cli/v3"

	"dowsingrod/core/phrase"
	"dowsingrod/internal/lab"
	drawn "dowsingrod/internal/lab/figure"
	"dowsingrod/internal/service"
)

func (a *App) labFaults() *cli.Command {
	return &cli.Command{Name: "faults", Usage: "what can go wrong in the lab", Description: "Every fault takes a force, 1 where it is not given; what it means is said with each.",
		Action: func(_ context.Context, c *cli.Command) error {
			if c.Args().Present() {
				return wrongUsage("%q is too much: dowse lab faults takes no arguments", c.Args().First())
			}
			if c.Bool("json") {
				type kind struct {
					Name  string `json:"name"`
					Class string `json:"class"`
					Says  string `json:"says"`
					Force string `json:"force,omitempty"`
				}
				var out []kind
				for _, k := range lab.Kinds() {
					out = append(out, kind{k.Name, k.Class, k.Says, k.Force})
				}
				return a.printJSON(out)
			}
			class := ""
			for _, k := range lab.Kinds() {
				if k.Class != class {
					if class = k.Class; k.Name != lab.Kinds()[0].Name {
						fmt.Fprintln(a.Out)
					}
					fmt.Fprintln(a.Out, a.bold(class))
				}
				text := k.Says
				if k.Force != "" {
					text += "; force is " + k.Force
				}
				for n, line := range wrap(text, 76) {
					name := ""
					if n == 0 {
						name = k.Name
					}
					fmt.Fprintf(a.Out, "  %-22s%s\n", name, line)
				}
			}
			return nil
		}}
}

func (a *App) labRun() *cli.Command {
	return &cli.Command{Name: "run", Usage: "write feeds of an estate in which something goes wrong, and the truth about it",
		Description: "Writes a feed for every source, and truth.json: the class of what went wrong, the component, who did it, who\n" +
			"suffered and how much, from when to when. Bring the feeds in with  dowse import DIR/*.zst  and compare.\n" +
			"The same options give the same bytes. dowse lab faults lists what can go wrong.",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "fault", Usage: "what goes wrong", Value: "quiet"},
			&cli.Uint64Flag{Name: "seed", Usage: "of what is drawn at random: the loads, and who does what to whom", Value: 1},
			&cli.FloatFlag{Name: "hours", Usage: "length of the readings", Value: 2},
			&cli.IntFlag{Name: "vms", Usage: "number of virtual machines", Value: 200},
			&cli.StringFlag{Name: "out", Usage: "folder to write to", Value: "lab-run"},
			&cli.StringFlag{Name: "to", Usage: "moment at which the readings end, as -2h or RFC 3339; now where absent"},
			&cli.FloatFlag{Name: "force", Usage: "how bad it is, 1 is usual", Value: 1},
			&cli.DurationFlag{Name: "onset", Usage: "time from the beginning to the fault; five twelfths of the whole where absent"},
			&cli.DurationFlag{Name: "lasts", Usage: "how long it lasts; three quarters of what is left where absent"},
			&cli.DurationFlag{Name: "ramp", Usage: "how long it takes to reach its full force"},
			&cli.DurationFlag{Name: "every", Usage: "interval of the hypervisors, a multiple of 20s", Value: lab.Step},
			&cli.BoolFlag{Name: "no-decoys", Usage: "let no innocent machine look guilty"},
			&cli.BoolFlag{Name: "perfect", Usage: "let sources have no gaps, no restarts and clocks that are right"},
		},
		Action: func(_ context.Context, c *cli.Command) error {
			if c.Args().Present() {
				return wrongUsage("%q is too much: dowse lab run takes flags only", c.Args().First())
			}
			h := c.Float("hours")
			if !(h >= 0.5 && h <= 24*31) {
				return wrongUsage("--hours is from 0.5 to 744, not %g", h)
			}
			to := time.Now()
			if text := c.String("to"); text != "" {
				at, err := service.ParseTime(text, to)
				if err != nil {
					return err
				}
				to = at
			}
			to = to.UTC().Truncate(10 * time.Minute)
			o := lab.Options{VMs: c.Int("vms"), Seed: c.Uint64("seed"), From: to.Add(-time.Duration(h * float64(time.Hour))), To: to, Fault: c.String("fault"), Lasts: c.Duration("lasts"),
				Ramp: c.Duration("ramp"), Force: c.Float("force"), Clean: c.Bool("no-decoys"), Steady: c.Bool("perfect"), Every: c.Duration("every")}
			if c.IsSet("onset") {
				o.Onset = o.From.Add(c.Duration("onset"))
			}
			f, err := lab.Grow(o)
			if err != nil {
				return wrongUsage("%s", err)
			}
			w, err := f.WriteFolder(c.String("out"))
			if err != nil {
				return err
			}
			fmt.Fprintf(a.Out, "%s readings of %s from %s are in %s, with what is true of them in truth.json.\n", phrase.Rate(float64(w.Samples)), phrase.Count(int(w.Objects), "object", "objects"),
				phrase.Count(int(w.Sources), "source", "sources"), c.String("out"))
			for _, x := range f.Truth().Causes {
				fmt.Fprintln(a.Out, cause(x))
			}
			if len(f.Truth().Causes) == 0 {
				fmt.Fprintln(a.Out, "Nothing went wrong.")
			}
			return nil
		}}
}

func (a *App) labFigures() *cli.Command {
	return &cli.Command{Name: "figures", Usage: "draw what the lab's model does: the knee of a pool, credits that run out, a victim in a closed loop",
		Flags: []cli.Flag{&cli.StringFlag{Name: "out", Usage: "folder to write to", Value: "lab-figures"}},
		Action: func(_ context.Context, c *cli.Command) error {
			if c.Args().Present() {
				return wrongUsage("%q is too much: dowse lab figures takes flags only", c.Args().First())
			}
			paths, err := drawn.WriteAll(c.String("out"))
			for _, p := range paths {
				fmt.Fprintln(a.Out, p)
			}
			return err
		}}
}

// cause says in a line what went wrong.
func cause(x lab.TruthCause) string {
	at := "the storage is well"
	if x.Component != "" {
		at = "at " + x.Component
	}
	if x.Subject != "" {
		at += ", " + x.Subject + " complains"
	}
	by := ""
	if len(x.Culprits) > 0 {
		by = " by " + phrase.List(x.Culprits)
	}
	return fmt.Sprintf("%s–%s  %s (%s) %s%s; it hurt %s.", x.Onset.Format("15:04:05"), x.End.Format("15:04:05"), x.Fault, x.Class, at, by, phrase.Count(len(x.Sufferers), "machine", "machines"))
}
