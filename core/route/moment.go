package route

import (
	"time"

	"dowsingrod/core/estate"
	"dowsingrod/core/reading"
)

// Moment is a stretch of time in which the topology did not change.
type Moment struct {
	From, To time.Time
	Map      *Map
}

// Cells returns the cells [i, j) of g whose start lies in the moment.
func (m Moment) Cells(g reading.Grid) (i, j int) {
	ceil := func(t time.Time) int {
		c := g.Cell(t)
		if c < g.N && g.At(c).Before(t) {
			c++
		}
		return c
	}
	return ceil(m.From), ceil(m.To)
}

// Readings gives the runs of a metric of an object that overlap the window asked for; none where
// there is nothing. It must be safe for repeated calls, from several goroutines as well.
type Readings interface {
	Runs(k estate.Key, metric string) []reading.Series
}

// Need names metrics of an object that a computation will ask for.
type Need struct {
	Key     estate.Key
	Metrics []string
}
