package cli

import (
	"context"
	"fmt"
	"math"
	"time"

	"github.com/urfave/cli/v3"

	"dowsingrod/core/estate"
	"dowsingrod/core/phrase"
	"dowsingrod/core/reading"
	"dowsingrod/core/strata"
	"dowsingrod/internal/client"
)

func (a *App) strata() *cli.Command {
	return &cli.Command{Name: "strata", Usage: "latency split by layer over time", ArgsUsage: "OBJECT", Flags: windowFlags(),
		Action: question(a, "the object", func(ctx context.Context, c *client.Client, of string, w client.Window) (strata.Strata, error) {
			return c.Strata(ctx, of, w)
		}, a.printStrata)}
}

const chartWidth = 56

func (a *App) printStrata(s strata.Strata) {
	span := time.Duration(s.Step * float64(s.N) * 1e9)
	fmt.Fprintf(a.Out, "%s  %s · %s – %s\n", a.bold(s.Name), s.Kind.Label(), s.From.Local().Format("Mon 15:04"), s.From.Add(span).Local().Format("15:04"))
	a.say(s.Statement)
	for _, d := range []struct {
		name string
		strata.Direction
	}{{"read", s.Read}, {"write", s.Write}} {
		fmt.Fprintln(a.Out)
		a.printDirection(d.name, d.Direction, s)
	}
	fmt.Fprintln(a.Out)
	if len(s.Basis) > 0 {
		t := table{heads: []string{"timed at", "by", ">objects", ">every", ">covered"}}
		for _, b := range s.Basis {
			t.add(b.Point, b.Source, fmt.Sprint(b.Objects), phrase.Span(time.Duration(b.Interval*1e9)), phrase.Percent(float64(b.Coverage)))
		}
		a.print(t)
	}
	for _, x := range s.Conflicts {
		a.say([]phrase.Phrase{phrase.Say("Layers contradict each other: %s", x.Words)})
	}
	for _, n := range s.Notes {
		a.say([]phrase.Phrase{phrase.Say("Note: %s", n)})
	}
}

func (a *App) printDirection(name string, d strata.Direction, s strata.Strata) {
	changed := s.Change != nil
	heads := []string{"µs per " + name, ">usual", ">during", ">added", "part of it"}
	if !changed {
		heads = []string{name + "s", ">mean", ">95 %", ">worst", "over time"}
	}
	t := table{heads: heads}
	t.heads[0] = name + " latency"
	if changed {
		top := 0.0
		for _, b := range d.Bands {
			top = math.Max(top, float64(b.During))
		}
		for _, b := range d.Bands {
			if !b.During.Known() && !b.Usual.Known() || b.During == 0 && b.Usual == 0 {
				continue
			}
			added := signed(float64(b.Added))
			if s.Change.Direction == name && b.Layer == s.Change.Layer {
				added = a.paint(magenta, added)
			}
			t.add(a.paint(layerColor[b.Layer], "▌")+" "+string(b.Layer), phrase.Micros(float64(b.Usual)), phrase.Micros(float64(b.During)), added,
				a.paint(layerColor[b.Layer], bar(float64(b.During)/top, 30)))
		}
		t.add("  total", phrase.Micros(float64(d.Usual)), phrase.Micros(float64(d.During)), signed(float64(d.During-d.Usual)), "")
	} else {
		for _, b := range d.Bands {
			if b.Mean.Known() && b.Mean > 0 {
				t.add(a.paint(layerColor[b.Layer], "▌")+" "+string(b.Layer), phrase.Micros(float64(b.Mean)), "", "", a.paint(layerColor[b.Layer], sparkline(b.Time, 40)))
			}
		}
		t.add("  total", phrase.Micros(float64(d.Mean)), phrase.Micros(float64(d.P95)), phrase.Micros(float64(d.Worst)), sparkline(d.Total, 40))
	}
	a.print(t)
	if d.Mean.Known() {
		worst := ""
		if d.WorstAt != nil {
			worst = " at " + d.WorstAt.Local().Format("15:04")
		}
		a.say([]phrase.Phrase{phrase.Say("Half of all %ss within %s, 95 %% within %s, 99 %% within %s; worst %s%s.", name, phrase.Micros(float64(d.P50)), phrase.Micros(float64(d.P95)),
			phrase.Micros(float64(d.P99)), phrase.Micros(float64(d.Worst)), worst)})
	}
	if u := d.Ordinary; u != nil {
		low, high := reading.MeanOver(u.Low, 0, len(u.Low)), reading.MeanOver(u.High, 0, len(u.High))
		a.say([]phrase.Phrase{phrase.Say("Usual then: %s. It rests on %s.", phrase.Between(low, high), u.Words)})
	}
	a.chart(name+" latency", phrase.Micros(greatest(d.Total)), d.Total)
	a.chart(name+"s/s", phrase.Rate(greatest(d.IOPS)), d.IOPS)
	a.chart(name+" bytes/s", phrase.Bytes(greatest(d.BytesS))+"/s", d.BytesS)
	fmt.Fprintf(a.Out, "%-16s%s\n", "", a.paint(quiet, clockLine(s.From, time.Duration(s.Step*float64(s.N)*1e9), chartWidth)))
}

func (a *App) chart(name, top string, values []float64) {
	fmt.Fprintf(a.Out, "%-16s%s  %s\n", name, a.paint(layerColor[estate.LayerDatastore], sparkline(values, chartWidth)), a.paint(quiet, "up to "+top))
}

func signed(us float64) string {
	if us >= 0.9995 {
		return "+" + phrase.Micros(us)
	}
	if us <= -0.9995 {
		return "−" + phrase.Micros(-us)
	}
	if math.IsNaN(us) {
		return "–"
	}
	return "0 µs"
}
