package normal_test

import (
	"math"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	. "dowsingrod/core/normal"
	"dowsingrod/core/reading"
)

var monday = time.Date(2026, 3, 2, 0, 0, 0, 0, time.UTC)

// hour is sixty readings about a level.
func hour(r *rand.Rand, level float64) []float64 {
	out := make([]float64, 60)
	for i := range out {
		out[i] = level * (1 + 0.1*r.NormFloat64())
	}
	return out
}

// level of a series that is busy on working days from nine to five.
func level(t time.Time) float64 {
	if t.Weekday() != time.Saturday && t.Weekday() != time.Sunday && t.Hour() >= 9 && t.Hour() < 17 {
		return 900
	}
	return 100
}

func learn(p *Profile, from time.Time, hours int, of func(time.Time) float64) {
	r := rand.New(rand.NewPCG(1, 2))
	for h := range hours {
		t := from.Add(time.Duration(h) * time.Hour)
		p.Learn(t, hour(r, of(t)))
	}
}

func TestAnHourOfTheWeekIsLearned(t *testing.T) {
	var p Profile
	learn(&p, monday, 4*168, level)
	for h := range 168 {
		at := monday.Add(time.Duration(h+4*168) * time.Hour)
		b := p.Band(at)
		require.Equal(t, HourOfWeek, b.Basis)
		assert.Equal(t, 4, b.Seen)
		assert.InEpsilon(t, level(at), b.Mid, 0.06, at)
		assert.InEpsilon(t, level(at)*0.87, b.Low, 0.08)
		assert.InEpsilon(t, level(at)*1.13, b.High, 0.08)
	}
}

// Two odd weeks, as around holidays, and any number of bad minutes do not move the band.
func TestIncidentsAndHolidaysDoNotMoveIt(t *testing.T) {
	var p Profile
	learn(&p, monday, 5*168, func(t time.Time) float64 {
		if week := int(t.Sub(monday).Hours()) / 168; week == 1 || week == 2 {
			return 20_000
		}
		return level(t)
	})
	at := monday.Add(5*168*time.Hour + 10*time.Hour)
	assert.InEpsilon(t, 900, p.Band(at).Mid, 0.06)
	for range 2 { // weeks after that, and it has changed for good
		learn(&p, monday.Add(5*168*time.Hour), 3*168, func(time.Time) float64 { return 50 })
	}
	assert.InEpsilon(t, 50, p.Band(at).Mid, 0.06, "it follows what stays")
}

func TestBeforeThreeWeeksItFallsBack(t *testing.T) {
	var p Profile
	assert.Equal(t, Nothing, p.Band(monday).Basis)
	assert.True(t, math.IsNaN(p.Band(monday).Mid))
	learn(&p, monday, 5, level)
	assert.Equal(t, Nothing, p.Band(monday).Basis, "five hours are too few")
	learn(&p, monday, 30, level)
	assert.Equal(t, All, p.Band(monday.Add(12*time.Hour)).Basis)
	learn(&p, monday, 8*24, level)
	b := p.Band(monday.Add(8*24*time.Hour + 10*time.Hour)) // Tuesday at ten
	assert.Equal(t, HourOfDay, b.Basis)
	assert.Equal(t, 8, b.Seen)
	assert.InEpsilon(t, 900, b.Mid, 0.06, "five of eight days were working days")
	weeks, hours := p.Weeks()
	assert.Equal(t, 2, weeks)
	assert.Equal(t, 8*24, hours)
}

func TestWhatIsMissingTeachesNothing(t *testing.T) {
	var p Profile
	cells := hour(rand.New(rand.NewPCG(1, 1)), 100)
	for i := range 31 {
		cells[i] = math.NaN()
	}
	p.Learn(monday, cells)
	_, hours := p.Weeks()
	assert.Zero(t, hours)
	cells[0], cells[1] = 100, 100
	p.Learn(monday, cells)
	p.Learn(monday, cells) // again
	_, hours = p.Weeks()
	assert.Equal(t, 1, hours)
}

// What is written is read back, and zero is a reading like any other.
func TestProfilesAreKept(t *testing.T) {
	var p, q Profile
	for w := range 3 {
		p.Learn(monday.Add(time.Duration(w)*168*time.Hour), []float64{0, 0, 0, 0, 5e9})
	}
	data, err := p.MarshalBinary()
	require.NoError(t, err)
	require.NoError(t, q.UnmarshalBinary(data))
	b := q.Band(monday)
	assert.Zero(t, b.Mid)
	assert.Zero(t, b.Low)
	assert.InEpsilon(t, 5e9, b.High, 0.005)
	assert.Error(t, q.UnmarshalBinary(data[:10]))
}

// Figures of any size keep their value to within what a byte more or less would not show.
func TestFiguresKeepTheirValue(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 4))
	for range 500 {
		v := math.Exp(r.Float64()*50 - 15)
		var p Profile
		for w := range 3 {
			p.Learn(monday.Add(time.Duration(w)*168*time.Hour), []float64{v / 3, v, v * 4})
		}
		b := p.Band(monday)
		require.InEpsilon(t, v, b.Mid, 0.005)
		require.InEpsilon(t, v*4, b.High, 0.005)
		require.InEpsilon(t, v/3, b.Low, 0.03)
	}
}

func TestLocalWeeks(t *testing.T) {
	zone := time.FixedZone("east", 3*3600)
	var p Profile
	for w := range 3 {
		p.Learn(monday.In(zone).Add(time.Duration(w)*168*time.Hour), []float64{7})
	}
	assert.Equal(t, HourOfWeek, p.Band(time.Date(2026, 3, 30, 3, 30, 0, 0, zone)).Basis, "three in the morning there")
	assert.Equal(t, Nothing, p.Band(time.Date(2026, 3, 30, 0, 30, 0, 0, zone)).Basis)
	g := reading.Grid{From: monday.Add(28 * 24 * time.Hour), Step: 20 * time.Minute, N: 6}
	bands := p.Bands(g, zone)
	assert.Equal(t, HourOfWeek, bands[2].Basis)
	assert.Equal(t, Nothing, bands[3].Basis)
}

func TestOutside(t *testing.T) {
	b := Band{Low: 80, Mid: 100, High: 120}
	above, below := Outside([]float64{100, 130, 170, 500, 10, math.NaN()}, []Band{b, b, b, b, b, b})
	assert.InDelta(t, 0.4, above, 1e-9)
	assert.InDelta(t, 0.2, below, 1e-9)
	above, _ = Outside([]float64{1}, []Band{{Mid: math.NaN()}})
	assert.True(t, math.IsNaN(above))
}

// What lies outside at the end of a window is told whatever part of the window it is; a gap in it does not end it.
func TestLately(t *testing.T) {
	nan := math.NaN()
	b := Band{Low: 90, Mid: 100, High: 110}
	for name, c := range map[string]struct {
		cells        []float64
		above, below int
	}{
		"as usual":           {[]float64{100, 500, 100}, 0, 0},
		"above at the end":   {[]float64{100, 100, 500, 500, 500}, 3, 0},
		"with a gap":         {[]float64{100, 500, nan, 500, nan}, 2, 0},
		"below at the end":   {[]float64{500, 10, 10}, 0, 2},
		"first up then down": {[]float64{100, 500, 10}, 0, 1},
		"always above":       {[]float64{500, 500}, 2, 0},
		"nothing known":      {[]float64{nan, nan}, 0, 0},
		"nothing":            {nil, 0, 0},
	} {
		bands := make([]Band, len(c.cells))
		for k := range bands {
			bands[k] = b
		}
		above, below := Lately(c.cells, bands)
		assert.Equal(t, [2]int{c.above, c.below}, [2]int{above, below}, name)
	}
}

// What is usual over a window rests on what the last cell that is known rests on, and says so.
func TestUsualSaysWhatItRestsOn(t *testing.T) {
	none := Band{math.NaN(), math.NaN(), math.NaN(), Nothing, 2}
	week, day, all := Band{1, 2, 3, HourOfWeek, 4}, Band{1, 2, 3, HourOfDay, 5}, Band{1, 2, 3, All, 7}
	for name, c := range map[string]struct {
		bands []Band
		basis Basis
		words string
	}{
		"a week":         {[]Band{week, week}, HourOfWeek, "this hour of the week, seen in 4 weeks"},
		"known lately":   {[]Band{all, day}, HourOfDay, "this hour of the day, seen on 5 days; of the week once three weeks were seen"},
		"known before":   {[]Band{all, none}, All, "all of 7 hours seen; of the day once three days were"},
		"nothing at all": {[]Band{none, none}, Nothing, "nothing yet: 2 hours were seen, six are needed"},
	} {
		u := UsualOf(c.bands)
		assert.Equal(t, c.basis, u.Basis, name)
		assert.Equal(t, c.words, u.Words, name)
		assert.Len(t, u.Mid, 2, name)
	}
	assert.Empty(t, UsualOf(nil).Mid)
	order := []Band{week, day, all, none}
	for i, a := range order {
		for j, b := range order {
			assert.Equal(t, i < j, a.Better(b), "%s and %s", a.Basis, b.Basis)
		}
	}
	assert.True(t, Band{Basis: All, Seen: 9}.Better(all))
}

// However few days were seen, one odd day among them moves nothing: what is usual lies within the others.
func TestOneOddDayOfFewMovesNothing(t *testing.T) {
	start := time.Date(2026, 3, 2, 9, 0, 0, 0, time.UTC)
	for days := 3; days <= 7; days++ {
		for odd := range days {
			for _, times := range []float64{500, 1.0 / 500} {
				r := rand.New(rand.NewPCG(uint64(days), uint64(odd)))
				var p Profile
				for d := range days {
					level := 100.0
					if d == odd {
						level *= times
					}
					p.Learn(start.AddDate(0, 0, d), hour(r, level))
				}
				b := p.Band(start.AddDate(0, 0, days))
				require.Equal(t, HourOfDay, b.Basis)
				assert.Less(t, b.High, 160.0, "%d days, the %d. odd", days, odd)
				assert.Greater(t, b.Low, 60.0, "%d days, the %d. odd", days, odd)
			}
		}
	}
}
