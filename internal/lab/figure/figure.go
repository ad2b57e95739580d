// Package figure draws what the lab's model does, from the lab itself, for those who want to judge it.
package figure

import (
	"fmt"
	"image/color"
	"math"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"gonum.org/v1/plot"
	"gonum.org/v1/plot/font"
	"gonum.org/v1/plot/plotter"
	"gonum.org/v1/plot/text"
	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/draw"
	"gonum.org/v1/plot/vg/vgimg"

	"dowsingrod/core/queueing"
	"dowsingrod/internal/feed"
	"dowsingrod/internal/lab"
)

// Colours of the figures: ink on paper, and one tone for each thing that is told apart.
var (
	paper   = color.RGBA{0xfb, 0xfa, 0xf6, 255}
	ink     = color.RGBA{0x1c, 0x24, 0x26, 255}
	quiet   = color.RGBA{0x6c, 0x73, 0x74, 255}
	hair    = color.RGBA{0xe5, 0xe1, 0xd8, 255}
	water   = color.RGBA{0x3f, 0x7f, 0x8f, 255}
	magenta = color.RGBA{0xa8, 0x19, 0x5f, 255}
	earth   = color.RGBA{0x8a, 0x5a, 0x26, 255}
)

// Figures lists what can be drawn, by file name.
var Figures = []struct {
	Name string
	draw func() ([]*plot.Plot, error)
}{
	{"lab-knee.png", Knee}, {"lab-credits.png", Credits}, {"lab-victim.png", Victim},
}

// WriteAll draws all figures into a folder.
func WriteAll(dir string) ([]string, error) {
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return nil, err
	}
	var out []string
	for _, f := range Figures {
		plots, err := f.draw()
		if err != nil {
			return out, fmt.Errorf("%s: %w", f.Name, err)
		}
		path := filepath.Join(dir, f.Name)
		if err := save(path, plots); err != nil {
			return out, err
		}
		out = append(out, path)
	}
	return out, nil
}

// save draws plots above one another, 1280 pixels wide.
func save(path string, plots []*plot.Plot) error {
	const dpi = 96
	width, height := vg.Length(1280)*vg.Inch/dpi, vg.Length(720)*vg.Inch/dpi
	img := vgimg.NewWith(vgimg.UseWH(width, height), vgimg.UseDPI(dpi), vgimg.UseBackgroundColor(paper))
	c := draw.New(img)
	c = draw.Crop(c, vg.Points(14), -vg.Points(18), vg.Points(10), -vg.Points(12))
	rows := make([][]*plot.Plot, len(plots))
	for k, p := range plots {
		rows[k] = []*plot.Plot{p}
	}
	canvases := plot.Align(rows, draw.Tiles{Rows: len(plots), Cols: 1, PadY: vg.Points(16)}, c)
	for k, p := range plots {
		p.Draw(canvases[k][0])
	}
	f, err := os.Create(path)
	if err != nil {
		return err
	}
	defer f.Close()
	if _, err := (vgimg.PngCanvas{Canvas: img}).WriteTo(f); err != nil {
		return err
	}
	return f.Close()
}

// every puts a labelled tick at each multiple of a step.
type every float64

func (e every) Ticks(from, to float64) []plot.Tick {
	var out []plot.Tick
	for k := math.Ceil(from / float64(e)); k*float64(e) <= to; k++ {
		v := k * float64(e)
		out = append(out, plot.Tick{Value: v, Label: strings.Replace(strconv.FormatFloat(v, 'g', -1, 64), "-", "−", 1)})
	}
	return out
}

// sheet is an empty plot in our manner.
func sheet(title, x, y string) *plot.Plot {
	p := plot.New()
	p.BackgroundColor = nil
	sans := func(s *text.Style, size float64, c color.Color) {
		s.Font.Typeface, s.Font.Variant, s.Font.Size, s.Color = "Liberation", "Sans", font.Length(size), c
	}
	p.Title.Text, p.X.Label.Text, p.Y.Label.Text = title, x, y
	sans(&p.Title.TextStyle, 13, ink)
	p.Title.Padding = vg.Points(8)
	for _, a := range []*plot.Axis{&p.X, &p.Y} {
		sans(&a.Label.TextStyle, 10.5, quiet)
		sans(&a.Tick.Label, 10, quiet)
		a.LineStyle.Color, a.Tick.LineStyle.Color = quiet, quiet
		a.LineStyle.Width, a.Tick.LineStyle.Width = vg.Points(0.6), vg.Points(0.6)
		a.Label.Padding = vg.Points(4)
	}
	g := plotter.NewGrid()
	g.Vertical.Color, g.Horizontal.Color = hair, hair
	p.Add(g)
	sans(&p.Legend.TextStyle, 10.5, ink)
	p.Legend.Top, p.Legend.Left = true, true
	p.Legend.XOffs, p.Legend.YOffs = vg.Points(10), -vg.Points(4)
	p.Legend.ThumbnailWidth = vg.Points(22)
	p.Legend.Padding = vg.Points(2)
	return p
}

func line(p *plot.Plot, name string, c color.Color, points plotter.XYs, dashes ...vg.Length) error {
	l, err := plotter.NewLine(points)
	if err != nil {
		return err
	}
	l.Color, l.Width, l.Dashes = c, vg.Points(1.8), dashes
	if len(dashes) > 0 {
		l.Width = vg.Points(1.1)
	}
	p.Add(l)
	if name != "" {
		p.Legend.Add(name, l)
	}
	return nil
}

func dots(p *plot.Plot, name string, c color.Color, points plotter.XYs) error {
	s, err := plotter.NewScatter(points)
	if err != nil {
		return err
	}
	s.Color, s.Radius, s.Shape = c, vg.Points(2.8), draw.RingGlyph{}
	p.Add(s)
	p.Legend.Add(name, s)
	return nil
}

// Knee draws the rate and the response time of a pool of 32 disk drives against the number of I/Os its machines keep going: the
// model, the asymptotic bounds, and the same event by event.
func Knee() ([]*plot.Plot, error) {
	const servers, service, think = 32, 4.6e-3, 20e-3
	rate := sheet("Knee of a pool: 32 drives, 4.6 ms each, machines that think 20 ms between I/Os", "", "I/Os per second")
	response := sheet("", "I/Os that machines keep going", "response, ms")
	var x, r, bx, br, ex, er plotter.XYs
	for n := 8.0; n <= 480; n += 4 {
		net := &queueing.Network{}
		s := net.AddStation(servers, 1)
		net.Visits = []queueing.Visit{{Station: s, Count: 1, Work: service}}
		for range 40 {
			net.Tenants = append(net.Tenants, queueing.Tenant{Threads: n / 40, Think: think, Holder: -1, To: 1})
		}
		net.Solve(1e-7, 5000)
		x, r = append(x, plotter.XY{X: n, Y: 40 * net.Tenants[0].Rate}), append(r, plotter.XY{X: n, Y: net.Tenants[0].Response * 1e3})
		bx = append(bx, plotter.XY{X: n, Y: math.Min(n/(service+think), servers/service)})
		br = append(br, plotter.XY{X: n, Y: 1e3 * math.Max(service, n*service/servers-think)})
		if int(n)%40 == 0 {
			a, b := queueing.ByEvents(int(n), servers, service, think, 60, uint64(n))
			ex, er = append(ex, plotter.XY{X: n, Y: a}), append(er, plotter.XY{X: n, Y: b * 1e3})
		}
	}
	for _, d := range []error{
		line(rate, "asymptotic bounds: n / (S + Z), and 32 / S", quiet, bx, vg.Points(4), vg.Points(3)), line(rate, "the lab's model", water, x), dots(rate, "event by event", ink, ex),
		line(response, "asymptotic bounds: S, and n S / 32 − Z", quiet, br, vg.Points(4), vg.Points(3)), line(response, "the lab's model", water, r), dots(response, "event by event", ink, er),
	} {
		if d != nil {
			return nil, d
		}
	}
	rate.Y.Min, rate.Y.Max, response.Y.Min, rate.X.Min, response.X.Min = 0, 8500, 0, 0, 0
	rate.X.Tick.Marker, response.X.Tick.Marker, rate.Y.Tick.Marker, response.Y.Tick.Marker = every(40), every(40), every(2000), every(10)
	rate.Legend.Top = false
	rate.Legend.Left = false
	rate.Legend.YOffs, rate.Legend.XOffs = vg.Points(10), -vg.Points(10)
	return []*plot.Plot{rate, response}, nil
}

// readings runs an estate of the lab and returns the readings of some objects, by "object@source metric", in minutes from the onset,
// and the host of every machine.
func readings(fault string, seed uint64, force float64, want func(of, metric string) bool) (map[string]plotter.XYs, map[string]string, lab.TruthFile, error) {
	to := time.Date(2026, 3, 5, 11, 0, 0, 0, time.UTC)
	f, err := lab.Grow(lab.Options{VMs: 200, Seed: seed, From: to.Add(-80 * time.Minute), To: to, Fault: fault, Onset: to.Add(-60 * time.Minute), Lasts: 35 * time.Minute, Ramp: 3 * time.Minute, Force: force, Steady: true, Clean: true})
	if err != nil {
		return nil, nil, lab.TruthFile{}, err
	}
	out, hosts := map[string]plotter.XYs{}, map[string]string{}
	err = f.Write(func(source string, r feed.Record) error {
		if r.Object != nil && len(r.Object.Links["runs_on"]) > 0 {
			hosts[r.Object.Ref().String()+"@"+source] = r.Object.Links["runs_on"][0]
		}
		if r.Reading == nil {
			return nil
		}
		for metric, values := range r.Reading.Values {
			key := r.Reading.Of + "@" + source
			if !want(key, metric) {
				continue
			}
			for i, v := range values {
				at := r.Reading.From.Add(time.Duration((float64(i) + 0.5) * r.Reading.Step * 1e9)).Sub(f.Onset).Minutes()
				if !math.IsNaN(v) {
					out[key+" "+metric] = append(out[key+" "+metric], plotter.XY{X: at, Y: v})
				}
			}
		}
		return nil
	})
	return out, hosts, f.Truth(), err
}

func scaled(points plotter.XYs, by float64) plotter.XYs {
	out := make(plotter.XYs, len(points))
	for k, p := range points {
		out[k] = plotter.XY{X: p.X, Y: p.Y * by}
	}
	return out
}

func tone(k int) color.Color { return []color.Color{magenta, water, earth}[k%3] }
