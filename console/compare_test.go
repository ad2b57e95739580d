package console_test

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dowsingrod/internal/service"
	"dowsingrod/internal/testbed"
)

func back(d testbed.Demo, by time.Duration) string {
	return "&from=" + d.Anchor.Add(-by).UTC().Format(time.RFC3339) + "&to=" + d.Anchor.UTC().Format(time.RFC3339)
}

// A machine beside itself just before, and beside another one: what differs most stands first.
func TestComparing(t *testing.T) {
	d := testbed.LoadDemo(t)
	v := enter(t)
	v.open("/compare?of=vm:manifest-db-02&beside=before" + back(d, 45*time.Minute))
	v.until(`document.querySelectorAll('[data-testid=differences] li').length > 5`)
	assert.Contains(t, eval[string](v, `[...document.querySelectorAll('[data-testid=differences] li')].slice(0, 5).map(l => l.textContent).join()`), "heron pool 2")
	assert.Contains(t, eval[string](v, `document.querySelector('[data-testid=times-read] figcaption').textContent`), "back end")
	assert.Empty(t, v.axe())
	require.NoError(t, v.Click(`input[aria-label="Compare with another object"]`))
	v.press("manifest-db-01\r")
	v.until(`document.querySelector('[data-testid=statement]').textContent.includes('manifest-db-01')`)
	assert.Contains(t, v.address(), "with=manifest-db-01")
	v.open("/compare")
	v.until(`document.querySelector('main h2')?.textContent === 'Compare what?'`)
}

// A limit is changed with a reason, and the change is ended again; a viewer only looks.
func TestLimitsAreChangedInTheConsole(t *testing.T) {
	d := testbed.LoadWatched(t)
	v := enterAs(t, d, service.Operator)
	v.open("/limits?of=controller:c0@gannet" + back(d, 20*time.Hour))
	v.until(`document.querySelectorAll('main section li').length > 1`)
	require.NoError(t, v.Click(`button[aria-label^="Change the limit of controller: busy"]`))
	v.until(`document.querySelector('[role=dialog]')`)
	assert.Empty(t, v.axe())
	fill := func(label, text string) {
		eval[bool](v, `(() => { const i = [...document.querySelectorAll('[role=dialog] label')].find(l => l.textContent.startsWith('`+label+`')).querySelector('input'); i.focus(); i.select(); return true })()`)
		v.press(text)
	}
	fill("Strained", "90 %")
	v.until(`document.querySelector('[role=dialog] button[type=submit]').disabled`)
	fill("Failing", "80 %")
	v.until(`document.querySelector('[role=dialog]').textContent.includes('swap them')`)
	fill("Failing", "95 %")
	fill("Why", "it is to be busy")
	v.until(`!document.querySelector('[role=dialog] button[type=submit]').disabled`)
	require.NoError(t, v.Click(`[role=dialog] button[type=submit]`))
	v.until(`!document.querySelector('[role=dialog]') && document.querySelector('[data-testid=limit-history]')?.textContent.includes('it is to be busy')`)
	require.NoError(t, v.Click(`[data-testid=limit-history] button`))
	v.until(`document.querySelector('[data-testid=limit-history]')?.textContent.includes('until')`)
	assert.Empty(t, v.axe())

	v.open("/limits?" + strings.TrimPrefix(back(d, 20*time.Hour), "&"))
	v.until(`[...document.querySelectorAll('[data-testid=passed] li')].some(l => l.textContent.includes('heron pool 2'))`)
	looks := enter(t)
	looks.open("/limits")
	looks.until(`document.querySelectorAll('main section li').length > 10`)
	assert.False(t, eval[bool](looks, `!!document.querySelector('main button[aria-label^=Change]')`))
}

// All that is measured, with its band; and the whole estate's suspects, from which one component's tenants are a click away.
func TestReadingsAndTheSuspectsOfTheEstate(t *testing.T) {
	d := testbed.LoadDemo(t)
	require.NoError(t, d.Service.LearnUntil(t.Context(), d.Anchor))
	v := enter(t)
	v.open("/readings?of=pool:p2@heron" + back(d, 2*time.Hour))
	v.until(`document.querySelectorAll('[data-testid=measured]').length === 8`)
	assert.Contains(t, eval[string](v, `document.querySelector('main h1').parentElement.parentElement.textContent`), "not as usual")
	assert.Greater(t, eval[int](v, `document.querySelector('[data-testid=measured] path').getAttribute('d').length`), 100, "a band")
	assert.Empty(t, v.axe())
	v.open("/suspects?" + strings.TrimPrefix(back(d, 2*time.Hour), "&"))
	v.until(`document.querySelector('[data-testid=slowed] li')?.textContent.includes('sonar-tiles-05')`)
	assert.Empty(t, v.axe())
	require.NoError(t, v.Click(`[data-testid=slowed] li a`))
	v.until(`document.querySelector('[data-testid=suspects]')`)
	assert.Contains(t, v.address(), "pool:p2@heron")
}
