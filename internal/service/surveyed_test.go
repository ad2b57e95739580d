package service

import (
	"math"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"dowsingrod/core/compare"
	"dowsingrod/core/phrase"
	"dowsingrod/core/reading"
)

var surveyStart = time.Date(2026, 3, 2, 9, 0, 0, 0, time.UTC)

func TestWhatDiffersFromOtherDays(t *testing.T) {
	for name, c := range map[string]struct {
		mean, yesterday, week reading.Figure
		want                  []string
	}{
		"as always":              {100, 98, 110, nil},
		"a quarter more":         {125, 100, 120, []string{"carries 25 % more than yesterday"}},
		"less than both":         {50, 100, 200, []string{"carries 50 % less than yesterday", "carries 75 % less than last week"}},
		"nothing known of today": {reading.Missing, 100, 100, nil},
		"nothing known of then":  {100, reading.Missing, reading.Missing, nil},
		"nothing then":           {100, 0, 0, nil},
	} {
		x := System{Mean: c.mean, Yesterday: c.yesterday, LastWeek: c.week}
		x.differ()
		assert.Equal(t, c.want, x.Differs, name)
	}
}

// A mean counts only where four fifths of its cells are known: what is there may be another time of day.
func TestMeansThatAreKnownWellEnough(t *testing.T) {
	nan := math.NaN()
	assert.EqualValues(t, 3, wellKnown([]float64{1, 2, 3, 4, 5}))
	assert.EqualValues(t, 2.5, wellKnown([]float64{1, 2, 3, 4, nan}))
	assert.False(t, wellKnown([]float64{1, 2, 3, nan, nan}).Known())
	assert.False(t, wellKnown([]float64{nan, nan}).Known())
}

func TestHowLongLimitsWerePassed(t *testing.T) {
	g := reading.Grid{From: surveyStart, Step: time.Minute, N: 120}
	for name, c := range map[string]struct {
		rows        []SystemRow
		hurts       string
		says, after string
		past        float64
	}{
		"nothing":           {[]SystemRow{{Objects: 2}}, "", "within its limits", "", 0},
		"no readings":       {[]SystemRow{{Objects: 2, Silent: 2}, {Objects: 1, Silent: 1}}, "", "no readings", "", 0},
		"some tell nothing": {[]SystemRow{{Objects: 2, Silent: 1}}, "", "within its limits", "", 0},
		"twice at a time counts once": {[]SystemRow{{Objects: 2, Marks: []Mark{{From: 10, To: 20}, {From: 15, To: 30}}}, {Objects: 1, Marks: []Mark{{From: 12, To: 18}}}},
			"", "20 min past its limits", "nobody hurt", 1200},
		"and somebody was hurt": {[]SystemRow{{Objects: 1, Marks: []Mark{{From: 0, To: 5, Level: "failing"}}}}, "3 VMs hurt", "5 min past its limits", "3 VMs hurt", 300},
	} {
		x := System{Rows: c.rows, Hurts: c.hurts}
		x.words(g)
		assert.Equal(t, c.says, x.Says, name)
		assert.Equal(t, c.after, x.Hurts, name)
		assert.Equal(t, c.past, x.Past, name)
	}
	x := System{Rows: []SystemRow{{Marks: []Mark{{From: 0, To: 5}, {From: 9, To: 10, Level: "failing"}}}}}
	assert.Equal(t, 7, x.inked(), "failing cells count twice")
}

func TestWhatASurveySays(t *testing.T) {
	ended := surveyStart
	lasts := IncidentInfo{ID: 7, Onset: surveyStart, Sufferers: 5, Summary: "radar-replay-01 did it"}
	over := IncidentInfo{ID: 6, Onset: surveyStart, Ended: &ended}
	seen := surveyStart.Add(30 * time.Minute)
	calm, ink := System{Rows: []SystemRow{{}}, Seen: &seen}, System{Rows: []SystemRow{{Marks: []Mark{{From: 0, To: 1}}}}, Seen: &seen}
	quiet := System{Rows: []SystemRow{{}}, Quiet: true, Seen: &seen}
	never := System{Rows: []SystemRow{{}}, Quiet: true}
	for name, c := range map[string]struct {
		systems   []System
		incidents []IncidentInfo
		want      string
	}{
		"nothing hurts":           {[]System{calm, calm, ink}, nil, "Nothing hurts now. 2 of 3 systems passed no limit."},
		"something hurts":         {[]System{calm, ink}, []IncidentInfo{lasts}, "5 VMs wait since 09:00: radar-replay-01 did it. 1 of 2 systems passed no limit."},
		"two things":              {[]System{ink}, []IncidentInfo{lasts, lasts}, "5 VMs wait since 09:00: radar-replay-01 did it. 1 more incident lasts. 0 of 1 system passed no limit."},
		"three things":            {[]System{ink}, []IncidentInfo{lasts, lasts, lasts, over, over}, "5 VMs wait since 09:00: radar-replay-01 did it. 2 more incidents last. 2 incidents in this window are over. 0 of 1 system passed no limit."},
		"one is over":             {[]System{calm}, []IncidentInfo{over}, "Nothing hurts now. 1 incident in this window is over. 1 of 1 system passed no limit."},
		"one tells nothing":       {[]System{calm, quiet}, nil, "Nothing hurts now. 1 system tells nothing, so nothing is known of it. 2 of 2 systems passed no limit."},
		"two tell nothing":        {[]System{calm, quiet, never}, nil, "Nothing hurts now. 2 systems tell nothing, so nothing is known of them. 2 of 3 systems passed no limit, 1 told nothing."},
		"none tells anything":     {[]System{quiet, never}, nil, "What hurts now is not known: there are no readings since 09:30. 1 of 2 systems passed no limit, 1 told nothing."},
		"none ever told":          {[]System{never}, nil, "What hurts now is not known: there are no readings in this window. "},
		"silent, but it did hurt": {[]System{quiet}, []IncidentInfo{lasts}, "5 VMs wait since 09:00: radar-replay-01 did it. 1 of 1 system passed no limit."},
	} {
		v := Survey{From: surveyStart, Step: 60, N: 120, Systems: c.systems, Incidents: c.incidents}
		assert.Equal(t, c.want, phrase.Text(v.say(), time.UTC), name)
	}
}

func TestSlowedInWords(t *testing.T) {
	x := Slowed{Tenants: 4, Before: 1000, During: 9000, Outcome: "culprit", First: []Neighbour{{Brief: Brief{Name: "tide-model-01"}, Share: 0.8}}}
	x.say()
	assert.Equal(t, "An I/O of its 4 machines takes 9.00 ms, before 1.00 ms; tide-model-01 brought 80 % of what is asked for more", x.Sentence)
	x.Outcome = "itself"
	x.say()
	assert.Contains(t, x.Sentence, "no more is asked for than before")
	x.Outcome = "everybody"
	x.say()
	assert.Contains(t, x.Sentence, "by no one machine")
}

func TestComparedInWords(t *testing.T) {
	side := func(name string, read, write reading.Figure) ComparedSide {
		x := ComparedSide{Ref: "vm:" + name, Name: name}
		x.Read.Mean, x.Write.Mean = read, write
		return x
	}
	none := SideBySide{First: side("a", 1000, 500), Second: side("a", 1000, 500)}
	assert.Contains(t, phrase.Text(none.say(), time.UTC), "nothing can be compared")
	same := none
	same.Differences = append(same.Differences, contrast("busy_share", 0.01))
	assert.Equal(t, "A read takes 1.00 ms on both sides. A write takes 500 µs on both sides. Nothing differs by more than chance.", phrase.Text(same.say(), time.UTC))
	other := SideBySide{First: side("a", 1000, reading.Missing), Second: side("b", 4000, 300)}
	other.Differences = append(other.Differences, contrast("read_latency_us", 1.4))
	assert.Equal(t, "A read takes 1.00 ms, and 4.00 ms at b. What differs most is read latency of heron pool 2: 4.00 times as much at b.", phrase.Text(other.say(), time.UTC))
}

func contrast(metric string, weight reading.Figure) compare.Contrast {
	return compare.Contrast{Ref: "pool:p2@heron", Name: "heron pool 2", Metric: metric, Weight: weight, Words: "4.00 times as much"}
}
