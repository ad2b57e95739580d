package service

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dowsingrod/core/estate"
	"dowsingrod/core/route"
)

var at0 = time.Date(2026, 3, 2, 9, 0, 7, 0, time.UTC) // on no round moment

func TestEveryWindowFitsItsCells(t *testing.T) {
	for _, length := range []time.Duration{time.Minute, 30 * time.Minute, 2 * time.Hour, 3*time.Hour + 17*time.Minute, 8 * time.Hour, 24 * time.Hour, 7 * 24 * time.Hour, 35 * 24 * time.Hour} {
		w := Window{From: at0, To: at0.Add(length)}
		g, first, err := grid(w, 0)
		require.NoError(t, err, length)
		shown := g.N - first
		assert.LessOrEqual(t, shown, mostCells+1, length)
		assert.Positive(t, shown, length)
		assert.False(t, g.At(first).After(w.From), "the window's start is shown")
		assert.Less(t, w.From.Sub(g.At(first)), g.Step)
		assert.LessOrEqual(t, w.To.Sub(g.End()), g.Step, "and so is its end, to within a cell")
		back := g.At(first).Sub(g.From)
		assert.GreaterOrEqual(t, back, time.Hour-g.Step, "an hour at least tells what is usual")
		assert.LessOrEqual(t, back, 24*time.Hour)
		assert.Zero(t, g.From.UnixNano()%int64(g.Step), "cells begin at round moments, so that neighbouring windows share them")
	}
}

func TestPicturesHoldUntilTheNextChange(t *testing.T) {
	changes := []time.Time{at0, at0.Add(time.Hour), at0.Add(2 * time.Hour)}
	for offset, want := range map[time.Duration][2]time.Time{
		-time.Hour:       {{}, at0},
		0:                {at0, at0.Add(time.Hour)},
		30 * time.Minute: {at0, at0.Add(time.Hour)},
		time.Hour:        {at0.Add(time.Hour), at0.Add(2 * time.Hour)},
		9 * time.Hour:    {at0.Add(2 * time.Hour), {}},
	} {
		from, to := begins(changes, at0.Add(offset))
		assert.Equal(t, want, [2]time.Time{from, to}, offset)
	}
	from, to := begins(nil, at0)
	assert.True(t, from.IsZero() && to.IsZero())
}

func picture(names ...string) *route.Map {
	var objects []estate.Object
	for _, n := range names {
		objects = append(objects, estate.Object{Key: estate.Key{Source: "hyp", Ref: estate.Ref{Kind: estate.VM, ID: n}}, Name: n})
	}
	return route.NewMap(estate.Build(objects))
}

func TestAnObjectIsLookedForBackInTime(t *testing.T) {
	moments := []route.Moment{{From: at0, To: at0.Add(time.Hour), Map: picture("gone", "stays")}, {From: at0.Add(time.Hour), To: at0.Add(2 * time.Hour), Map: picture("stays", "new")}}
	kept, i, err := resolve(moments, "gone")
	require.NoError(t, err)
	assert.Len(t, kept, 1, "later pictures do not know it")
	assert.Equal(t, "gone", kept[0].Map.Estate().At(i).Name)
	kept, _, err = resolve(moments, "stays")
	require.NoError(t, err)
	assert.Len(t, kept, 2)
	_, _, err = resolve(moments, "never")
	var missing *estate.NotFoundError
	require.ErrorAs(t, err, &missing)
}

func TestRejectedLinesAreKeptAsRuns(t *testing.T) {
	var r ImportResult
	for _, line := range []int{3, 4, 5, 9, 10, 12} {
		r.reject(line, "bad")
	}
	assert.Equal(t, []LineRange{{3, 5}, {9, 10}, {12, 12}}, r.Rejected)
	assert.Equal(t, 6, r.Bad)
	assert.Equal(t, "the feed was refused and nothing stored: 6 bad lines, the first is line 3: bad", (&FeedError{r}).Error())
	var whole ImportResult
	whole.reject(0, "it is empty")
	assert.Equal(t, "the feed was refused and nothing stored: it is empty", (&FeedError{whole}).Error())
}
