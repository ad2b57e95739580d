package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/urfave/cli/v3"

	"dowsingrod/core/phrase"
	"dowsingrod/internal/client"
	"dowsingrod/internal/collect"
	"dowsingrod/internal/service"
	"dowsingrod/internal/source"
)

func (a *App) source() *cli.Command {
	return &cli.Command{Name: "source", Usage: "where facts come from: add, probe, watch and pause sources",
		Description: "Addresses:\n" +
			"  qemu:///system, qemu+tls://host/system    a libvirt daemon\n" +
			"  tgt://, tgt:///path/of/socket             Debian's iSCSI target daemon on the service's machine\n" +
			"  https://host/path                         a feed (docs/feed.md)\n\n" +
			"A source is probed before it is kept. Secrets are read from files or standard input, never from the\n" +
			"command line, and are never shown again.",
		Commands: []*cli.Command{a.sourceList(), a.sourceShow(), a.sourceProbe(), a.sourceAdd(), a.sourcePause(), a.sourceRemove()}}
}

func specFlags() []cli.Flag {
	return []cli.Flag{
		&cli.DurationFlag{Name: "interval", Value: 20 * time.Second, Usage: "time between two readings"},
		&cli.StringFlag{Name: "token-file", Usage: "file with the bearer token of a feed; - reads standard input"},
		&cli.StringFlag{Name: "certificate", Usage: "file with our client certificate, PEM"},
		&cli.StringFlag{Name: "key", Usage: "file with its key, PEM"},
		&cli.StringFlag{Name: "authority", Usage: "file with certificates to trust besides the machine's, PEM"},
		&cli.StringFlag{Name: "pin", Usage: "SHA-256 of the one certificate to accept, as the probe shows it"},
	}
}

// spec reads what a source is from the flags.
func (a *App) spec(c *cli.Command, name, address string) (service.SourceSpec, error) {
	s := service.SourceSpec{Name: name, Address: address, Interval: c.Duration("interval").Seconds(), Pin: c.String("pin")}
	var err error
	read := func(flag string) string {
		path := c.String(flag)
		if path == "" || err != nil {
			return ""
		}
		var text []byte
		if path == "-" {
			text, err = io.ReadAll(io.LimitReader(bufio.NewReader(os.Stdin), 1<<20))
		} else {
			text, err = os.ReadFile(path)
		}
		if err != nil {
			err = wrongUsage("--%s: %v", flag, err)
		}
		return strings.TrimSpace(string(text))
	}
	s.Token, s.Certificate, s.Key, s.Authorities = read("token-file"), read("certificate"), read("key"), read("authority")
	return s, err
}

func (a *App) sourceList() *cli.Command {
	return &cli.Command{Name: "list", Usage: "all sources, how they do, and what could not be joined", Action: func(ctx context.Context, c *cli.Command) error {
		cl, err := a.connect(c)
		if err != nil {
			return err
		}
		all, err := cl.Sources(ctx)
		if err != nil {
			return err
		}
		if c.Bool("json") {
			return a.printJSON(all)
		}
		if len(all) == 0 {
			fmt.Fprintln(a.Out, "There is no source yet: dowse source add NAME ADDRESS collects from one, dowse import FILE takes a feed.")
			return nil
		}
		t := table{heads: []string{"source", "kind", ">objects", ">newest reading", "state", "every"}}
		now := time.Now()
		for _, s := range all {
			objects, age, every := "–", "–", "–"
			if s.Known != nil {
				objects = fmt.Sprint(s.Known.Objects)
				if s.Known.Age >= 0 {
					age = phrase.Span(now.Sub(s.Known.LastEnd).Abs()) + " ago"
				}
			}
			if s.Interval > 0 {
				every = phrase.Span(time.Duration(s.Interval) * time.Second)
			}
			t.add(s.Name, s.Kind, objects, age, a.sourceState(s), every)
		}
		a.print(t)
		for _, s := range all {
			if s.Health != nil && s.Health.State == collect.Failing {
				fmt.Fprintln(a.Out)
				for _, l := range fold(s.Name+": "+s.Health.Words+"; "+s.Health.Try, width) {
					fmt.Fprintln(a.Out, l)
				}
			}
		}
		o, err := cl.Overview(ctx)
		if err != nil {
			return err
		}
		fmt.Fprintf(a.Out, "\n%d objects; %s\n", o.Objects, phrase.Count(o.Found, "finding", "findings"))
		for _, f := range o.Findings {
			for n, line := range wrap(f.Name+": "+f.Detail, width-4) {
				fmt.Fprintln(a.Out, "  "+strings.Repeat("  ", min(n, 1))+line)
			}
		}
		return nil
	}}
}

func (a *App) sourceState(s service.SourceInfo) string {
	switch {
	case s.Health == nil && s.Known != nil && s.Known.Silent:
		return a.paint(ochre, "silent")
	case s.Health == nil && s.Known != nil && s.Known.Age < 0:
		return "no readings"
	case s.Health == nil:
		return "reporting"
	case s.Health.State == collect.Failing:
		return a.paint(magenta, fmt.Sprintf("failing ×%d", s.Health.Failures))
	}
	return string(s.Health.State)
}

func (a *App) sourceShow() *cli.Command {
	return &cli.Command{Name: "show", Usage: "one source: its health, what it brought, what it joins, our figures beside its own", ArgsUsage: "NAME",
		Action: func(ctx context.Context, c *cli.Command) error {
			name, err := one(c, "the source's name")
			if err != nil {
				return err
			}
			cl, err := a.connect(c)
			if err != nil {
				return err
			}
			s, err := cl.Source(ctx, name)
			if err != nil {
				return err
			}
			if c.Bool("json") {
				return a.printJSON(s)
			}
			a.describeSource(s)
			return nil
		}}
}

func (a *App) describeSource(s service.SourceInfo) {
	fmt.Fprintf(a.Out, "%s  %s\n  %s\n", a.bold(s.Name), s.Kind, cut(s.Address, width-2))
	if s.Health == nil {
		fmt.Fprintf(a.Out, "  It sends by itself; %s\n", a.sourceState(s))
	}
	if h := s.Health; h != nil {
		for _, l := range fold(fmt.Sprintf("%s since %s: %s", h.State, clock(h.Since), h.Words), width-2) {
			fmt.Fprintf(a.Out, "  %s\n", l)
		}
		if h.Try != "" {
			for _, l := range fold("What to do: "+h.Try, width-2) {
				fmt.Fprintf(a.Out, "  %s\n", l)
			}
		}
		fmt.Fprintln(a.Out)
		line := func(what, value string) { fmt.Fprintf(a.Out, "  %-20s %s\n", what, value) }
		line("asked", "every "+phrase.Span(time.Duration(s.Interval)*time.Second)+"; last "+clock(h.Tried)+", next "+clock(h.Next))
		line("last answer", clock(h.Succeeded)+fmt.Sprintf(", the pass took %.3g s", h.Took))
		if !h.Newest.IsZero() {
			line("newest reading", fmt.Sprintf("until %s, stored %.3g s later", clock(h.Newest), h.Delay))
		} else if !h.FirstRate.IsZero() {
			line("first rate due", clock(h.FirstRate))
		}
		if len(s.Secrets) > 0 {
			line("secrets kept", strings.Join(s.Secrets, ", "))
		}
		if s.Pin != "" {
			line("pinned certificate", s.Pin)
		}
		if len(h.Objects) > 0 {
			t := table{heads: []string{"kind", ">objects"}}
			for _, k := range slices.Sorted(maps.Keys(h.Objects)) {
				t.add(k, fmt.Sprint(h.Objects[k]))
			}
			fmt.Fprintln(a.Out)
			a.print(t)
		}
		a.describeComparison(h)
		for _, m := range append(append([]string{}, h.Missing...), h.Notes...) {
			fmt.Fprintf(a.Out, "\n  %s\n", m)
		}
		if len(h.History) > 0 {
			fmt.Fprintln(a.Out, "\n  Lately")
			for _, m := range h.History {
				until := "now"
				if !m.To.IsZero() {
					until = clock(m.To)
				}
				head := fmt.Sprintf("    %s to %s  ", clock(m.From), until)
				for _, l := range fold(m.Words, width-visible(head)) {
					fmt.Fprintf(a.Out, "%s%s\n", head, l)
					head = strings.Repeat(" ", visible(head))
				}
			}
		}
	}
	if len(s.Joins) > 0 {
		fmt.Fprintln(a.Out)
		a.describeJoins(s)
	}
}

func (a *App) describeComparison(h *collect.Health) {
	if len(h.Compared) == 0 {
		return
	}
	fmt.Fprintf(a.Out, "\n  Ours beside its own, at %s\n", clock(h.ComparedAt))
	t := table{heads: []string{"figure", ">ours", ">its own", ""}}
	for _, c := range h.Compared {
		verdict := "agree"
		if !c.Agrees {
			verdict = a.paint(ochre, "differ")
		}
		t.add(c.What, figure(c.Ours, c.Unit), figure(c.Theirs, c.Unit), verdict)
	}
	a.print(t)
}

func figure(v float64, unit string) string {
	switch unit {
	case "B":
		return phrase.Bytes(v)
	case "B/s":
		return phrase.Bytes(v) + "/s"
	}
	return phrase.Rate(v) + " " + unit
}

func (a *App) describeJoins(s service.SourceInfo) {
	t := table{heads: []string{"joined by identity", "", "with", ">links"}}
	for _, j := range s.Joins {
		t.add(j.From.Label()+" → "+j.To.Label(), string(j.Kind), j.With, fmt.Sprint(j.Count))
	}
	a.print(t)
}

func clock(t time.Time) string {
	if t.IsZero() {
		return "never"
	}
	if time.Since(t).Abs() > 12*time.Hour {
		return t.Local().Format("2006-01-02 15:04:05")
	}
	return t.Local().Format("15:04:05")
}

func (a *App) sourceProbe() *cli.Command {
	return &cli.Command{Name: "probe", Usage: "try a source step by step; nothing is kept", ArgsUsage: "ADDRESS|NAME", Flags: specFlags(),
		Action: func(ctx context.Context, c *cli.Command) error {
			what, err := one(c, "the address, or the name of a source")
			if err != nil {
				return err
			}
			cl, err := a.connect(c)
			if err != nil {
				return err
			}
			var p service.Probed
			if strings.Contains(what, ":") {
				spec, err := a.spec(c, "probed", what)
				if err != nil {
					return err
				}
				p, err = cl.ProbeSource(ctx, spec)
				if err != nil {
					return err
				}
			} else if p, err = cl.ProbeKept(ctx, what); err != nil {
				return err
			}
			if c.Bool("json") {
				if err := a.printJSON(p); err != nil {
					return err
				}
			} else {
				a.describeProbe(p)
			}
			if !p.OK {
				return errors.New("the probe failed")
			}
			return nil
		}}
}

func (a *App) describeProbe(p service.Probed) {
	for _, s := range p.Steps {
		mark := map[source.Outcome]string{source.Passed: "passed    ", source.Noted: a.paint(ochre, "noted     "), source.Failed: a.paint(magenta, "failed    "), source.NotNeeded: "not needed", source.NotTried: "not tried "}[s.Outcome]
		head := fmt.Sprintf("  %s  %-12s ", mark, s.Name)
		for _, l := range append(fold(s.Found, width-27), fold(s.Try, width-27)...) {
			fmt.Fprintf(a.Out, "%s%s\n", head, l)
			head = strings.Repeat(" ", 27)
		}
	}
	if c := p.Certificate; c != nil {
		fmt.Fprintf(a.Out, "\n  Certificate of %s, signed by %s, until %s\n  SHA-256 %s\n", c.Subject, c.Issuer, c.To.Format(time.DateOnly), c.SHA256)
	}
	if len(p.Counts) > 0 {
		t := table{heads: []string{"kind", ">objects"}}
		for _, k := range p.Counts {
			t.add(k.Kind.Label(), fmt.Sprint(k.Count))
		}
		fmt.Fprintln(a.Out)
		a.print(t)
	}
	if len(p.Joins) > 0 {
		fmt.Fprintln(a.Out)
		a.describeJoins(service.SourceInfo{Joins: p.Joins})
	}
}

// fold cuts text into lines of at most n characters, at blanks where there are any; no text is no line.
func fold(text string, n int) (lines []string) {
	for _, w := range strings.Fields(text) {
		if k := len(lines) - 1; k >= 0 && utf8.RuneCountInString(lines[k])+1+utf8.RuneCountInString(w) <= n {
			lines[k] += " " + w
			continue
		}
		lines = append(lines, w)
	}
	return lines
}

func (a *App) sourceAdd() *cli.Command {
	return &cli.Command{Name: "add", Usage: "probe a source and collect from it from now on", ArgsUsage: "NAME ADDRESS",
		Flags: append(specFlags(), &cli.BoolFlag{Name: "unprobed", Usage: "keep it without a probe: it may be down just now"}),
		Action: func(ctx context.Context, c *cli.Command) error {
			if c.Args().Len() != 2 {
				return wrongUsage("a name and an address are needed: dowse source add NAME ADDRESS")
			}
			cl, err := a.connect(c)
			if err != nil {
				return err
			}
			spec, err := a.spec(c, c.Args().Get(0), c.Args().Get(1))
			if err != nil {
				return err
			}
			p, err := cl.AddSource(ctx, spec, c.Bool("unprobed"))
			if err != nil {
				return err
			}
			if c.Bool("json") {
				return a.printJSON(p)
			}
			a.describeProbe(p)
			fmt.Fprintf(a.Out, "\n%s is kept and asked every %s. Rates need two readings: look with  dowse source show %s\n", spec.Name, phrase.Span(c.Duration("interval")), spec.Name)
			return nil
		}}
}

func (a *App) sourcePause() *cli.Command {
	return &cli.Command{Name: "pause", Usage: "stop asking a source for now; --resume goes on", ArgsUsage: "NAME",
		Flags: []cli.Flag{&cli.BoolFlag{Name: "resume", Usage: "ask it again"}},
		Action: func(ctx context.Context, c *cli.Command) error {
			name, err := one(c, "the source's name")
			if err != nil {
				return err
			}
			cl, err := a.connect(c)
			if err != nil {
				return err
			}
			paused := !c.Bool("resume")
			s, err := cl.ChangeSource(ctx, name, service.SourceChange{Paused: &paused})
			if err != nil {
				return err
			}
			if c.Bool("json") {
				return a.printJSON(s)
			}
			if paused {
				fmt.Fprintf(a.Out, "%s is not asked any more; until  dowse source pause --resume %s  its readings are missing\n", name, name)
			} else {
				fmt.Fprintf(a.Out, "%s is asked again every %s\n", name, phrase.Span(time.Duration(s.Interval)*time.Second))
			}
			return nil
		}}
}

func (a *App) sourceRemove() *cli.Command {
	return &cli.Command{Name: "remove", Usage: "stop collecting from a source; its history stays unless forgotten", ArgsUsage: "NAME",
		Flags: []cli.Flag{&cli.BoolFlag{Name: "forget", Usage: "forget also all objects and readings it brought"}},
		Action: func(ctx context.Context, c *cli.Command) error {
			forget := c.Bool("forget")
			return a.remove("the source's name", func(ctx context.Context, cl *client.Client, name string) error {
				return cl.RemoveSource(ctx, name, forget)
			})(ctx, c)
		}}
}
