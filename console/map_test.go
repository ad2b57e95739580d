package console_test

import (
	"context"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dowsingrod/console"
	"dowsingrod/internal/browser"
	"dowsingrod/internal/feed"
	"dowsingrod/internal/lab/large"
	"dowsingrod/internal/service"
	"dowsingrod/internal/testbed"
)

func TestAnInventoryIsFilteredSortedAndLeadsToSections(t *testing.T) {
	v := enter(t)
	v.open("/inventory")
	v.until(`document.querySelectorAll('[role=row]').length > 10`)
	assert.Contains(t, eval[string](v, `document.querySelector('[aria-live=polite]').textContent`), "120 virtual machines")
	assert.Less(t, eval[int](v, `document.querySelectorAll('[role=row]').length`), 80, "rows out of sight are not in the page")
	eval[bool](v, `[...document.querySelectorAll('button')].find(b => b.textContent === 'Add a condition').click(), true`)
	v.until(`document.querySelector('[aria-label=Value]') === document.activeElement`)
	v.press("1")
	v.press("\r")
	v.until(`document.querySelector('[aria-live=polite]').textContent.includes('45 of')`)
	assert.Contains(t, v.address(), "where=tier")
	eval[bool](v, `[...document.querySelectorAll('[role=columnheader] button')].find(b => b.textContent === 'host').click(), true`)
	v.until(`document.querySelector('[aria-sort=ascending]')?.textContent === 'host'`)
	assert.Contains(t, v.address(), "sort=host")
	v.until(`document.querySelectorAll('[role=row]')[1]?.textContent.includes('lighthouse-01')`)
	assert.Empty(t, v.axe())
	eval[bool](v, `[...document.querySelectorAll('button')].find(b => b.textContent === 'volumes').click(), true`)
	v.until(`document.querySelector('[aria-live=polite]').textContent.includes('26 volumes')`)
	eval[bool](v, `[...document.querySelectorAll('[role=cell] a')].find(a => a.textContent === 'stretched-1').click(), true`)
	v.until(sectionDrawn)
	assert.Contains(t, v.address(), "/section?of=volume:v1@petrel")
}

func TestPagesOfTheMap(t *testing.T) {
	v := enter(t)
	for _, p := range []struct{ path, until, says string }{
		{"/reach?of=array:heron", `document.querySelectorAll('[data-testid=reach] tr').length > 20`, "65 would stop and 31 would lose a mirror leg"},
		{"/changes?from=-12h", `document.querySelectorAll('[data-testid=changes] li').length === 8`, "migrated from lighthouse-07 to lighthouse-02"},
		{"/changes?from=-12h&of=vm:crew-roster-03@hyp-northmole", `document.querySelectorAll('[data-testid=changes] li').length > 0`, "Changes on the routes of crew-roster-03"},
		{"/unresolved", `document.querySelector('main li')`, "ds-tangle-01"},
		{"/hardware?of=array:gannet", `document.querySelectorAll('[data-testid=parts] li').length > 8`, "fan 2.1"},
		{"/reach", `document.querySelector('main h2')`, "Whose reach?"},
		{"/hardware", `document.querySelector('main h2')`, "Whose parts?"},
		{"/inventory?kind=volume&where=bytes>99TiB", `document.querySelector('main p')`, "answers"},
	} {
		t.Run(p.path, func(t *testing.T) {
			v.open(p.path)
			v.until(p.until)
			v.until(`document.querySelector('main').textContent.includes(` + "`" + p.says + "`" + `)`)
			assert.Empty(t, v.axe())
			assert.LessOrEqual(t, eval[int](v, `document.documentElement.scrollWidth`), 1280, "nothing hangs over")
		})
	}
}

// A section of thousands unfolds in place, and its address says what is unfolded.
func TestALargeSectionUnfoldsInPlace(t *testing.T) {
	st := testbed.Store(t)
	svc := service.New(st, time.Now) // sign-in links are held against the database's clock
	_, err := svc.ImportRecords(t.Context(), func(write func(feed.Record) error) error {
		_, err := large.Write(large.Options{VMs: 2000, Seed: 1, Time: time.Now().Add(-3 * time.Hour)}, write)
		return err
	})
	require.NoError(t, err)
	base := testbed.Serve(t, svc, console.Files())
	p, end, err := browser.Open(context.Background(), 1280, 800)
	require.NoError(t, err)
	t.Cleanup(end)
	v := visit{p, t, base}
	name, _ := testbed.Token(t, svc, service.Viewer)
	code, err := svc.Link(t.Context(), name)
	require.NoError(t, err)
	v.open("/sign-in#" + code)
	v.until(`!!document.querySelector('nav a')`)
	v.open("/section?of=pool:p0@heron-01")
	v.until(`document.querySelectorAll('[data-testid=section] li').length > 8`)
	assert.Less(t, eval[int](v, `document.querySelectorAll('[data-testid=section] li').length`), 70, "thousands of routes stay readable")
	const groups = `[...document.querySelectorAll('[data-testid=section] button[aria-expanded]')]`
	before := eval[string](v, groups+`.find(b => b.textContent.includes('virtual machines')).textContent`)
	eval[bool](v, groups+`.find(b => b.textContent.includes('virtual machines')).click(), true`)
	v.until(`location.search.includes('unfold=')`)
	v.until(`!` + groups + `.some(b => b.textContent === ` + "`" + before + "`" + `)`)
	v.until(`[...document.querySelectorAll('button')].some(b => b.textContent === 'Fold all again')`)
	assert.Empty(t, v.axe())
	eval[bool](v, `[...document.querySelectorAll('button')].find(b => b.textContent === 'Fold all again').click(), true`)
	v.until(`!location.search.includes('unfold=')`)
}

func TestTheLaneShowsChangesAndGoesToThem(t *testing.T) {
	v := enter(t)
	v.open("/section?of=vm:crew-roster-03@hyp-northmole&from=-8h")
	v.until(sectionDrawn)
	v.until(`document.querySelectorAll('[data-testid=change-lane] button').length > 0`)
	label := eval[string](v, `document.querySelector('[data-testid=change-lane] button').getAttribute('aria-label')`)
	assert.Contains(t, label, "changed")
	before := v.address()
	eval[bool](v, `document.querySelector('[data-testid=change-lane] button').click(), true`)
	v.until(`location.search.includes('to=20')`)
	assert.NotEqual(t, before, v.address(), "the window becomes the time around it")
	assert.True(t, strings.Contains(v.address(), "of=vm:crew-roster-03"))
}
