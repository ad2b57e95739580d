// Package normal learns what is usual for a series: a band for every hour of the week, from the last weeks that were seen.
//
// Each hour leaves three quantiles. A band is the median over weeks of each of them, so that one odd week, or two in a row, as around
// holidays, do not move it, and neither does an incident. A week's own hour replaces the one five weeks before it: nothing is ever computed
// anew, and what was learned of a series takes the same room for ever.
package normal

import (
	"fmt"
	"math"
	"slices"
	"time"

	"dowsingrod/core/reading"
)

// What is kept. The median of five withstands two that are odd; three are the fewest of which one may be.
const (
	hours  = 7 * 24
	kept   = 5
	enough = 3
	slot   = 5 // bytes: the median in two, the high quantile in two, the low one in one
	size   = 2 + hours*kept*slot
)

// Quantiles of an hour's readings that make the band: eight of ten readings lie inside.
const (
	lowQuantile  = 0.10
	highQuantile = 0.90
)

// fewest is the part of an hour's cells that must be known for the hour to count.
const fewest = 0.5

// version is the first byte of what is written.
const version = 1

// Profile is what was learned of a series: 4,202 bytes. The zero value has learned nothing.
type Profile struct{ data []byte }

// UnmarshalBinary reads a profile that MarshalBinary wrote.
func (p *Profile) UnmarshalBinary(data []byte) error {
	if len(data) != size || data[0] != version {
		return fmt.Errorf("not a profile: %d bytes", len(data))
	}
	p.data = slices.Clone(data)
	return nil
}

// MarshalBinary writes what was learned; most of it is zero while little was.
func (p *Profile) MarshalBinary() ([]byte, error) {
	p.begin()
	return slices.Clone(p.data), nil
}

func (p *Profile) begin() {
	if p.data == nil {
		p.data = make([]byte, size)
		p.data[0] = version
	}
}

// week counts weeks that begin on Monday, local time, and hour is the hour within it, 0–167.
func weekOf(t time.Time) (week, hour int) {
	_, offset := t.Zone()
	local := t.Unix() + int64(offset)
	const monday = 4 * 24 * 3600 // 1 January 1970 was a Thursday; the first Monday was four days later
	since := (local - monday) / 3600
	if (local-monday)%3600 < 0 {
		since--
	}
	week = int(since) / hours
	if hour = int(since) % hours; hour < 0 {
		hour, week = hour+hours, week-1
	}
	return week, hour
}

// coded writes a figure in two bytes, 0 for none: the upper half of its binary32, which is to within 0.4 %.
func coded(v float64) uint16 {
	if v < 0 || math.IsNaN(v) {
		return 0
	}
	return uint16((math.Float32bits(float32(v))+1<<15)>>16) + 1 // to the nearest
}

func decoded(c uint16) float64 {
	return float64(math.Float32frombits(uint32(c-1) << 16))
}

// part writes how far a low quantile lies below its median, in sixteenths of an octave.
func part(low, mid float64) byte {
	if mid <= 0 || low >= mid {
		return 0
	}
	return byte(math.Min(255, math.Round(16*math.Log2(mid/math.Max(low, 1e-300)))))
}

func (p *Profile) at(hour, week int) []byte {
	ring := week % kept
	if ring < 0 {
		ring += kept
	}
	i := 2 + (hour*kept+ring)*slot
	return p.data[i : i+slot]
}

// Learn takes the cells of one hour that begins at t, in the time zone that people's weeks are in. An hour of which less than half is
// known teaches nothing. The same hour may be learned again.
func (p *Profile) Learn(t time.Time, cells []float64) {
	known := make([]float64, 0, len(cells))
	for _, v := range cells {
		if !math.IsNaN(v) {
			known = append(known, v)
		}
	}
	if len(known) == 0 || float64(len(known)) < fewest*float64(len(cells)) {
		return
	}
	p.begin()
	slices.Sort(known)
	of := func(q float64) float64 { return known[min(len(known)-1, int(q*float64(len(known))))] }
	low, mid, high := of(lowQuantile), of(0.5), of(highQuantile)
	week, hour := weekOf(t)
	b := p.at(hour, week)
	put := func(b []byte, c uint16) { b[0], b[1] = byte(c), byte(c>>8) }
	put(b[0:2], coded(mid))
	put(b[2:4], coded(high))
	b[4] = part(low, mid)
}

// Basis is what a band rests on.
type Basis string

// Bases, the best first.
const (
	HourOfWeek Basis = "hour of the week"
	HourOfDay  Basis = "hour of the day"
	All        Basis = "all hours"
	Nothing    Basis = "nothing"
)

// Band is what is usual: eight of ten readings lie between Low and High.
type Band struct {
	Low, Mid, High float64 // NaN where nothing is known
	Basis          Basis
	Seen           int // weeks, days or hours, by the basis
}

type triple struct{ low, mid, high float64 }

func (p *Profile) read(b []byte) (triple, bool) {
	mid := uint16(b[0]) | uint16(b[1])<<8
	if mid == 0 {
		return triple{}, false
	}
	t := triple{mid: decoded(mid), high: decoded(uint16(b[2]) | uint16(b[3])<<8)}
	t.low = t.mid * math.Exp2(-float64(b[4])/16)
	if b[4] == 255 {
		t.low = 0
	}
	t.high = math.Max(t.high, t.mid)
	return t, true
}

// Band returns what is usual in the hour that t is in: of that hour of the week once three weeks of it were seen, before that of that hour
// of the day, once seen on three days, and before that of all hours seen, of which six are the fewest.
func (p *Profile) Band(t time.Time) Band {
	if p == nil || p.data == nil {
		return Band{math.NaN(), math.NaN(), math.NaN(), Nothing, 0}
	}
	_, hour := weekOf(t)
	var found []triple
	gather := func(hour int) {
		for k := range kept {
			if x, ok := p.read(p.at(hour, k)); ok {
				found = append(found, x)
			}
		}
	}
	if gather(hour); len(found) >= enough {
		return band(found, HourOfWeek)
	}
	found = found[:0]
	for day := range 7 {
		gather(day*24 + hour%24)
	}
	if len(found) >= enough {
		return band(found, HourOfDay)
	}
	found = found[:0]
	for h := range hours {
		gather(h)
	}
	if len(found) >= 2*enough {
		return band(found, All)
	}
	return Band{math.NaN(), math.NaN(), math.NaN(), Nothing, len(found)}
}

// between is how much of what was seen a band of unlike hours spans: their levels differ by themselves, so it reaches from the low of the
// second of ten hours to the high of the ninth, but never to the least or the greatest: one odd day does not move it, however few were seen.
const between = 0.20

func band(of []triple, basis Basis) Band {
	row := make([]float64, len(of))
	quantile := func(q float64, pick func(triple) float64) float64 {
		for k, x := range of {
			row[k] = pick(x)
		}
		slices.Sort(row)
		at := min(max(1, q*float64(len(row)-1)), float64(len(row)-2))
		k := int(at)
		if k+1 >= len(row) {
			return row[k]
		}
		return row[k] + (at-float64(k))*(row[k+1]-row[k])
	}
	lower, upper := between, 1-between
	if basis == HourOfWeek {
		lower, upper = 0.5, 0.5
	}
	return Band{quantile(lower, func(x triple) float64 { return x.low }), quantile(0.5, func(x triple) float64 { return x.mid }),
		quantile(upper, func(x triple) float64 { return x.high }), basis, len(of)}
}

// Weeks is how many weeks of the best known hour were seen, and Hours how many hours in all.
func (p *Profile) Weeks() (weeks, all int) {
	if p == nil || p.data == nil {
		return 0, 0
	}
	for h := range hours {
		n := 0
		for k := range kept {
			if _, ok := p.read(p.at(h, k)); ok {
				n++
			}
		}
		weeks, all = max(weeks, n), all+n
	}
	return weeks, all
}

// Bands returns the bands of a grid's cells, in the time zone of people's weeks.
func (p *Profile) Bands(g reading.Grid, zone *time.Location) []Band {
	out := make([]Band, g.N)
	var last time.Time
	for i := range out {
		t := g.At(i).In(zone)
		hour := t.Truncate(time.Hour)
		if i == 0 || !hour.Equal(last) {
			out[i], last = p.Band(t), hour
		} else {
			out[i] = out[i-1]
		}
	}
	return out
}

// Outside is the part of the known cells that lie above their band, and below it, by more than the band's own height: a tenth of usual
// readings lies outside either edge, but not so far. NaN where nothing is known.
func Outside(cells []float64, bands []Band) (above, below float64) {
	known := 0
	for i, v := range cells {
		side, ok := bands[i].side(v)
		if !ok {
			continue
		}
		known++
		switch side {
		case 1:
			above++
		case -1:
			below++
		}
	}
	if known == 0 {
		return math.NaN(), math.NaN()
	}
	return above / float64(known), below / float64(known)
}

// Lately is how many known cells on end, up to the last, lie above their bands, or below them, as for [Outside]. One of the two is 0.
func Lately(cells []float64, bands []Band) (above, below int) {
	for i := len(cells) - 1; i >= 0; i-- {
		side, ok := bands[i].side(cells[i])
		switch {
		case !ok:
		case side == 1 && below == 0:
			above++
		case side == -1 && above == 0:
			below++
		default:
			return above, below
		}
	}
	return above, below
}

// side is 1 for a value above a band by more than the band's height, −1 for one below it by that, 0 else; false where either is not known.
func (b Band) side(v float64) (int, bool) {
	if math.IsNaN(v) || math.IsNaN(b.Mid) {
		return 0, false
	}
	height := math.Max(b.High-b.Low, 0.05*b.Mid)
	switch {
	case v > b.High+height:
		return 1, true
	case v < b.Low-height:
		return -1, true
	}
	return 0, true
}
