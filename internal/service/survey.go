package service

import (
	"cmp"
	"context"
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	"dowsingrod/core/congest"
	"dowsingrod/core/estate"
	"dowsingrod/core/phrase"
	"dowsingrod/core/reading"
	"dowsingrod/core/route"
	"dowsingrod/internal/store"
)

// Survey is the whole estate over a window: a bore log of every system.
type Survey struct {
	From      time.Time       `json:"from" doc:"Start of the first cell"`
	Step      float64         `json:"step_s" doc:"Length of a cell in s"`
	N         int             `json:"n" doc:"Number of cells"`
	Until     *time.Time      `json:"until" doc:"Incidents were looked for up to here; null where never"`
	Statement []phrase.Phrase `json:"statement" doc:"What one would say on the phone"`
	Systems   []System        `json:"systems" doc:"Arrays, fabrics and clusters; those that did most harm first"`
	Incidents []IncidentInfo  `json:"incidents" doc:"Those that overlap the window; those that last first, then by harm"`
}

// System is an array, a fabric or a cluster.
type System struct {
	Ref       string         `json:"ref" doc:"kind:id@source"`
	Name      string         `json:"name" doc:"Its name"`
	Kind      estate.Kind    `json:"kind" doc:"Its kind"`
	About     string         `json:"about" doc:"What it is made of, in words"`
	Harm      reading.Figure `json:"harm_s" doc:"I/O-seconds that VMs waited because of it"`
	Hurt      int            `json:"hurt" doc:"VMs that waited because of it"`
	Incident  int64          `json:"incident,omitempty" doc:"The worst incident in it, where there is one"`
	Past      float64        `json:"past_s" doc:"How long any limit was passed, s"`
	Seen      *time.Time     `json:"seen" doc:"Up to when anything of it is known in the window; null where nothing is"`
	Quiet     bool           `json:"quiet" doc:"Whether it tells nothing at the end of the window: how it is then is not known"`
	Says      string         `json:"says" doc:"How long and how badly, in words"`
	Hurts     string         `json:"hurts" doc:"Who waited, in words; empty where nobody did"`
	Rows      []SystemRow    `json:"rows" doc:"What is looked at in it, from above down"`
	Load      reading.Row    `json:"load" doc:"What it carried, per cell: no judgement, only context"`
	LoadOf    string         `json:"load_of" doc:"What load is, with its unit"`
	Mean      reading.Figure `json:"load_mean" doc:"Its mean over the window"`
	Yesterday reading.Figure `json:"load_yesterday" doc:"The mean over the same hours a day before; null where not known"`
	LastWeek  reading.Figure `json:"load_last_week" doc:"The mean over the same hours a week before; null where not known"`
	Differs   []string       `json:"differs" doc:"What differs from yesterday and from last week, in words"`
}

// SystemRow is a layer of a system.
type SystemRow struct {
	Label   string       `json:"label" doc:"What is looked at"`
	Layer   estate.Layer `json:"layer" doc:"The layer it is in"`
	Objects int          `json:"objects" doc:"How many are looked at"`
	Silent  int          `json:"silent" doc:"How many of them have no readings in the window"`
	Marks   []Mark       `json:"marks" doc:"Where a limit was passed; nothing where none was"`
}

// Mark is a stretch of time in which a limit was passed.
type Mark struct {
	From     int         `json:"from" doc:"First cell"`
	To       int         `json:"to" doc:"Cell after the last"`
	Level    string      `json:"level" doc:"How far" enum:"strained,failing"`
	Ref      string      `json:"ref" doc:"Whose limit, kind:id@source"`
	Name     string      `json:"name" doc:"Its name"`
	Kind     estate.Kind `json:"kind" doc:"Its kind"`
	Words    string      `json:"words" doc:"What was passed, in words"`
	Incident int64       `json:"incident,omitempty" doc:"The incident that explains it, where there is one"`
}

// logged is a row of a system's bore log.
type logged struct {
	label string
	kind  estate.Kind
	role  string // of a switch port: "isl" for the ends of links, "edge" for all others
}

// surveyed lists what is looked at in a system, and what its load is.
var surveyed = map[estate.Kind]struct {
	rows   []logged
	load   estate.Kind
	metric []string
	mean   bool
	words  string
}{
	estate.Array: {[]logged{{"ports", estate.TargetPort, ""}, {"controllers", estate.Controller, ""}, {"pools", estate.Pool, ""}},
		estate.Controller, []string{"read_bytes_s", "write_bytes_s"}, false, "bytes a second, reads and writes"},
	estate.Fabric: {[]logged{{"edge ports", estate.SwitchPort, "edge"}, {"links", estate.SwitchPort, "isl"}},
		estate.SwitchPort, []string{"rx_bytes_s"}, false, "bytes a second into its ports"},
	estate.Cluster: {[]logged{{"hosts", estate.Host, ""}, {"adapters", estate.HBAPort, ""}},
		estate.Host, []string{"busy_share"}, true, "part of its processors in use"},
}

// rowOf returns the row of a system's log in which an object is.
func rowOf(rows []logged, o *estate.Node) int {
	for k, l := range rows {
		if l.kind == o.Key.Ref.Kind && (l.role == "" || (o.Facts.Text("role") == "isl") == (l.role == "isl")) {
			return k
		}
	}
	return -1
}

const surveyCells = 144

// keptSurvey is a survey and when it was made.
type keptSurvey struct {
	of   Survey
	made time.Time
}

// surveyLasts is how long a survey is good for: many look at it, and it changes by the minute.
const surveyLasts = 15 * time.Second

// Survey looks at every system over a window.
func (s *Service) Survey(ctx context.Context, w Window) (Survey, error) {
	mark, err := s.store.Setting(ctx, watchedUntil)
	if err != nil {
		return Survey{}, err
	}
	// Windows that move with the clock differ by seconds, and a survey's cells are of a minute at least.
	key := fmt.Sprint("survey ", w.From.Truncate(time.Minute).Unix(), " ", w.To.Truncate(time.Minute).Unix(), " ", mark)
	s.mu.Lock()
	kept, ok := s.surveys[key]
	s.mu.Unlock()
	if now := s.now(); ok && now.Sub(kept.made) < surveyLasts && !now.Before(kept.made) {
		return kept.of, nil
	}
	made, err, _ := s.flight.Do(key, func() (any, error) {
		of, err := s.survey(context.WithoutCancel(ctx), w)
		if err != nil {
			return Survey{}, err
		}
		s.mu.Lock()
		defer s.mu.Unlock()
		if s.surveys == nil || len(s.surveys) > 64 {
			s.surveys = map[string]keptSurvey{}
		}
		s.surveys[key] = keptSurvey{of, s.now()}
		return of, nil
	})
	if err != nil {
		return Survey{}, err
	}
	return made.(Survey), nil
}

func (s *Service) survey(ctx context.Context, w Window) (Survey, error) {
	step := time.Minute
	for _, d := range steps {
		if d >= time.Minute && w.To.Sub(w.From) <= surveyCells*d {
			step = d
			break
		}
	}
	g, err := reading.NewGrid(w.From, w.To.Truncate(step), step)
	if err != nil {
		return Survey{}, &WindowError{err.Error()}
	}
	m, err := s.at(ctx, w.To)
	if err != nil {
		return Survey{}, err
	}
	list, err := s.Incidents(ctx, w, 200)
	if err != nil {
		return Survey{}, err
	}
	kept, err := s.store.Incidents(ctx, w.From, w.To, 200)
	if err != nil {
		return Survey{}, err
	}
	members := membersOf(m.Estate())
	var needs []route.Need
	for _, of := range members {
		for _, i := range of {
			needs = congest.Needs(needs, m.Estate(), i)
			for _, spec := range surveyed {
				if spec.load == m.Estate().Kind(i) {
					needs = append(needs, route.Need{Key: m.Estate().At(i).Key, Metrics: spec.metric})
				}
			}
		}
	}
	book, err := s.book(ctx)
	if err != nil {
		return Survey{}, err
	}
	moment := []route.Moment{{From: g.From, To: g.End(), Map: m}}
	r, err := s.fetch(ctx, moment, needs, g.From, g.End())
	if err != nil {
		return Survey{}, err
	}
	out := Survey{From: g.From, Step: step.Seconds(), N: g.N, Until: list.Until, Systems: []System{}, Incidents: list.Incidents}
	for at, of := range members {
		out.Systems = append(out.Systems, system(g, m, book, at, of, r, kept))
	}
	for back, set := range map[time.Duration]func(x *System, v reading.Figure){
		24 * time.Hour:     func(x *System, v reading.Figure) { x.Yesterday = v },
		7 * 24 * time.Hour: func(x *System, v reading.Figure) { x.LastWeek = v },
	} {
		before := reading.Grid{From: g.From.Add(-back), Step: g.Step, N: g.N}
		var loads []route.Need
		for at, of := range members {
			for _, i := range of {
				if spec := surveyed[m.Estate().Kind(at)]; spec.load == m.Estate().Kind(i) {
					loads = append(loads, route.Need{Key: m.Estate().At(i).Key, Metrics: spec.metric})
				}
			}
		}
		r, err := s.fetch(ctx, moment, loads, before.From, before.End())
		if err != nil {
			return Survey{}, err
		}
		for k := range out.Systems {
			at, _ := refAt(m.Estate(), out.Systems[k].Ref)
			set(&out.Systems[k], wellKnown(load(before, m.Estate(), at, members[at], r)))
		}
	}
	for k := range out.Systems {
		out.Systems[k].differ()
	}
	named := map[string]int{}
	for _, x := range out.Systems {
		named[x.Name]++
	}
	for k := range out.Systems {
		if x := &out.Systems[k]; named[x.Name] > 1 { // several sources use the same name
			kind := x.Kind.Label()
			x.About = kind + " · " + x.Ref[strings.LastIndexByte(x.Ref, '@')+1:] + strings.TrimPrefix(x.About, kind)
		}
	}
	slices.SortFunc(out.Systems, func(a, b System) int {
		return cmp.Or(-cmp.Compare(a.Harm, b.Harm), -cmp.Compare(a.inked(), b.inked()), cmp.Compare(order(a.Kind), order(b.Kind)), strings.Compare(a.Name, b.Name))
	})
	out.Statement = out.say()
	return out, nil
}

func order(k estate.Kind) int {
	return slices.Index([]estate.Kind{estate.Array, estate.Cluster, estate.Fabric}, k)
}

// membersOf lists what is looked at in every array, fabric and cluster.
func membersOf(e *estate.Estate) map[int32][]int32 {
	out := map[int32][]int32{}
	for kind, spec := range surveyed {
		for _, at := range e.OfKind(kind) {
			out[at] = nil
		}
		var last estate.Kind
		for _, row := range spec.rows {
			if row.kind == last {
				continue
			}
			last = row.kind
			for _, i := range e.OfKind(row.kind) {
				if owner, ok := systemOf(e, i, kind); ok {
					out[owner] = append(out[owner], i)
				}
			}
		}
	}
	return out
}

// systemOf returns the array, fabric or cluster that an object is part of, by what it is part of and what that is a member of.
func systemOf(e *estate.Estate, i int32, kind estate.Kind) (int32, bool) {
	for range 8 {
		if i < 0 {
			return i, false
		}
		if e.Kind(i) == kind {
			return i, true
		}
		next := e.First(i, estate.PartOf)
		if next < 0 {
			next = e.First(i, estate.MemberOf)
		}
		i = next
	}
	return i, false
}

func load(g reading.Grid, e *estate.Estate, at int32, of []int32, r route.Readings) []float64 {
	spec := surveyed[e.Kind(at)]
	out, n := make([]float64, g.N), make([]float64, g.N)
	for _, i := range of {
		if spec.load != e.Kind(i) {
			continue
		}
		for _, metric := range spec.metric {
			for c, v := range reading.Align(g, r.Runs(e.At(i).Key, metric)).Value {
				if !math.IsNaN(v) {
					out[c] += v
					n[c]++
				}
			}
		}
	}
	for c := range out {
		switch {
		case n[c] == 0:
			out[c] = math.NaN()
		case spec.mean:
			out[c] /= n[c]
		}
	}
	return out
}

// system makes the bore log of one.
func system(g reading.Grid, m *route.Map, b *congest.Book, at int32, of []int32, r route.Readings, kept []store.Incident) System {
	e := m.Estate()
	o := e.At(at)
	spec := surveyed[o.Key.Ref.Kind]
	x := System{Ref: o.Key.String(), Name: o.Title(), Kind: o.Key.Ref.Kind, Rows: []SystemRow{}, LoadOf: spec.words, Yesterday: reading.Missing, LastWeek: reading.Missing, Differs: []string{}}
	x.Load = load(g, e, at, of, r)
	x.Mean = reading.Figure(reading.MeanOver(x.Load, 0, g.N))
	for _, l := range spec.rows {
		layer := l.kind.Layer()
		x.Rows = append(x.Rows, SystemRow{Label: l.label, Layer: layer, Marks: []Mark{}})
	}
	inside := map[string]bool{x.Ref: true}
	seen := -1
	for _, i := range of {
		node := e.At(i)
		inside[node.Key.String()] = true
		k := rowOf(spec.rows, node)
		if k < 0 {
			continue
		}
		row := &x.Rows[k]
		row.Objects++
		marks, last := marksOf(g, m, b, i, r)
		if last < 0 {
			row.Silent++
		}
		seen = max(seen, last)
		row.Marks = append(row.Marks, marks...)
	}
	made := []string{o.Key.Ref.Kind.Label()}
	for _, row := range x.Rows {
		if one, many := row.Label[:len(row.Label)-1], row.Label; row.Objects > 0 { // of what no source tells of nothing is said, not "0"
			made = append(made, phrase.Count(row.Objects, one, many))
		}
	}
	x.About = strings.Join(made, " · ")
	hurt, first := map[string]bool{}, 0
	worst := 0.0
	for k := range kept {
		i := &kept[k]
		if !within(e, i.Component, at, inside) {
			continue
		}
		to := i.Last
		if i.Ended != nil {
			to = *i.Ended
		}
		x.Harm += reading.Figure(i.Harm)
		if i.Harm > worst {
			worst, x.Incident = i.Harm, i.ID
		}
		for ref := range i.Sufferers {
			if at, ok := refAt(e, ref); ok && !hurt[ref] {
				hurt[ref] = true
				if e.At(at).Tier() == "1" {
					first++
				}
			}
		}
		a, b := g.Cell(i.Onset), min(g.N, g.Cell(to)+1)
		for r := range x.Rows {
			for n := range x.Rows[r].Marks {
				if mk := &x.Rows[r].Marks[n]; mk.From < b && mk.To > a && (mk.Ref == i.Component || mk.Incident == 0) {
					mk.Incident = i.ID
				}
			}
		}
	}
	if x.Hurt = len(hurt); x.Hurt > 0 {
		x.Hurts = phrase.Count(x.Hurt, "VM", "VMs") + " hurt"
		if first > 0 {
			x.Hurts += fmt.Sprintf(", %d of tier 1", first)
		}
	}
	for k := range x.Rows {
		slices.SortFunc(x.Rows[k].Marks, func(a, b Mark) int {
			return cmp.Or(strings.Compare(b.Level, a.Level), cmp.Compare(a.From, b.From), -cmp.Compare(a.To, b.To), strings.Compare(a.Ref, b.Ref))
		})
	}
	if seen >= 0 {
		t := g.At(seen + 1)
		x.Seen = &t
	}
	x.Quiet = time.Duration(g.N-1-seen)*g.Step >= max(overdue, 2*g.Step)
	x.words(g)
	return x
}

// within reports whether an incident's component is part of a system. An inter-switch link is part of its fabric by its ends; a port of a
// host, or a queue there, is part of its cluster.
func within(e *estate.Estate, component string, at int32, inside map[string]bool) bool {
	if inside[component] {
		return true
	}
	i, ok := refAt(e, component)
	if !ok {
		return false
	}
	owner, ok := systemOf(e, i, e.Kind(at))
	if !ok && e.Kind(i) == estate.ISL {
		for _, p := range e.To(i, estate.Joins) {
			if owner, ok = systemOf(e, p, e.Kind(at)); ok {
				break
			}
		}
	}
	if !ok && e.Kind(i) == estate.VDisk {
		if vm := e.FirstFrom(i, estate.Uses); vm >= 0 {
			if host := e.First(vm, estate.RunsOn); host >= 0 {
				owner, ok = systemOf(e, host, e.Kind(at))
			}
		}
	}
	return ok && owner == at
}

// marksOf lists where an object passed its limits, and the last cell of which any reading is known, -1 for none. How full it is may be
// stated once for all, which is no reading.
func marksOf(g reading.Grid, m *route.Map, b *congest.Book, i int32, r route.Readings) (marks []Mark, last int) {
	o := m.Estate().At(i)
	last = -1
	for _, l := range b.Of(m.Estate(), i) {
		v := congest.Cells(g, m.Estate(), i, l.Metric, r).Value
		for a := g.N - 1; a > last && l.Metric != congest.UsedShare; a-- {
			if !math.IsNaN(v[a]) {
				last = a
			}
		}
		for a := 0; a < g.N; a++ {
			past := func(c int) bool { return c < g.N && v[c] > float64(l.Strained) }
			if !past(a) {
				continue
			}
			b, worst := a, v[a]
			for ; past(b) || b < g.N && past(b+1); b++ {
				if past(b) {
					worst = math.Max(worst, v[b])
				}
			}
			level := "strained"
			if worst > float64(l.Failing) {
				level = "failing"
			}
			marks = append(marks, Mark{From: a, To: b, Level: level, Ref: o.Key.String(), Name: m.FullName(i), Kind: o.Key.Ref.Kind, Words: "up to " + l.Show(worst)})
			a = b
		}
	}
	return marks, last
}

// inked is how many cells are marked, failing ones twice.
func (x *System) inked() (n int) {
	for _, row := range x.Rows {
		for _, m := range row.Marks {
			n += m.To - m.From
			if m.Level == "failing" {
				n += m.To - m.From
			}
		}
	}
	return n
}

// words says how long its limits were passed.
func (x *System) words(g reading.Grid) {
	marked := make([]bool, g.N)
	silent, objects := 0, 0
	for _, row := range x.Rows {
		silent, objects = silent+row.Silent, objects+row.Objects
		for _, mk := range row.Marks {
			for c := mk.From; c < mk.To; c++ {
				marked[c] = true
			}
		}
	}
	cells := 0
	for _, on := range marked {
		if on {
			cells++
		}
	}
	x.Past = float64(cells) * g.Step.Seconds()
	switch {
	case objects > 0 && silent == objects:
		x.Says = "no readings"
	case cells == 0:
		x.Says = "within its limits"
	default:
		x.Says = phrase.Span(time.Duration(cells)*g.Step) + " past its limits"
		if x.Hurts == "" {
			x.Hurts = "nobody hurt"
		}
	}
}

// wellKnown is a mean, missing where a fifth of the cells is not known: what is there may be another time of day.
func wellKnown(row []float64) reading.Figure {
	known := 0
	for _, v := range row {
		if !math.IsNaN(v) {
			known++
		}
	}
	if 5*known < 4*len(row) {
		return reading.Missing
	}
	return reading.Figure(reading.MeanOver(row, 0, len(row)))
}

// differ says what is other than before: a quarter more or less is beyond what days differ by.
func (x *System) differ() {
	for _, d := range []struct {
		v    reading.Figure
		when string
	}{{x.Yesterday, "yesterday"}, {x.LastWeek, "last week"}} {
		if !d.v.Known() || !x.Mean.Known() || d.v <= 0 {
			continue
		}
		switch ratio := float64(x.Mean / d.v); {
		case ratio >= 1.25:
			x.Differs = append(x.Differs, fmt.Sprintf("carries %s more than %s", phrase.Percent(ratio-1), d.when))
		case ratio <= 0.8:
			x.Differs = append(x.Differs, fmt.Sprintf("carries %s less than %s", phrase.Percent(1-ratio), d.when))
		}
	}
}

// overdue is after how long without readings how a system is counts as not known: twice what the slowest usual source needs.
const overdue = 10 * time.Minute

// quiet counts the systems that tell nothing at the end of the window, and says up to when anything of any is known.
func (v *Survey) quiet() (n int, seen time.Time) {
	for _, x := range v.Systems {
		if x.Quiet {
			n++
		}
		if x.Seen != nil && x.Seen.After(seen) {
			seen = *x.Seen
		}
	}
	return n, seen
}

func (v *Survey) say() []phrase.Phrase {
	lasting := []IncidentInfo{}
	for _, i := range v.Incidents {
		if i.Ended == nil {
			lasting = append(lasting, i)
		}
	}
	var out []phrase.Phrase
	quiet, seen := v.quiet()
	switch {
	case len(lasting) == 0 && quiet == len(v.Systems) && quiet > 0:
		out = append(out, phrase.Phrase{Text: "What hurts now is not known", Tone: phrase.Strong})
		if seen.IsZero() {
			out = append(out, phrase.Say(": there are no readings in this window. "))
		} else {
			out = append(out, phrase.Say(": there are no readings since "), phrase.At(seen), phrase.Say(". "))
		}
	case len(lasting) == 0:
		out = append(out, phrase.Phrase{Text: "Nothing hurts now. ", Tone: phrase.Good})
		if quiet > 0 {
			out = append(out, phrase.Say("%s nothing, so nothing is known of %s. ", phrase.Count(quiet, "system tells", "systems tell"), map[bool]string{true: "it", false: "them"}[quiet == 1]))
		}
	default:
		first := lasting[0]
		out = append(out, phrase.Phrase{Text: phrase.Count(first.Sufferers, "VM waits", "VMs wait"), Tone: phrase.Bad, Ref: fmt.Sprint(first.ID), Page: "incident"},
			phrase.Say(" since "), phrase.At(first.Onset), phrase.Say(": "), phrase.Phrase{Text: first.Summary, Tone: phrase.Strong, Ref: fmt.Sprint(first.ID), Page: "incident"}, phrase.Say(". "))
		if len(lasting) > 1 {
			out = append(out, phrase.Say("%s more %s. ", fmt.Sprint(len(lasting)-1), map[bool]string{true: "incident lasts", false: "incidents last"}[len(lasting) == 2]))
		}
	}
	if over := len(v.Incidents) - len(lasting); over > 0 {
		out = append(out, phrase.Say("%s in this window %s over. ", phrase.Count(over, "incident", "incidents"), map[bool]string{true: "is", false: "are"}[over == 1]))
	}
	calm, unread := 0, 0
	for _, x := range v.Systems {
		switch {
		case x.Seen == nil:
			unread++
		case x.inked() == 0:
			calm++
		}
	}
	switch {
	case unread == len(v.Systems):
		return out
	case unread > 0:
		return append(out, phrase.Say("%d of %s passed no limit, %d told nothing.", calm, phrase.Count(len(v.Systems), "system", "systems"), unread))
	}
	return append(out, phrase.Say("%d of %s passed no limit.", calm, phrase.Count(len(v.Systems), "system", "systems")))
}
