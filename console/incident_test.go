package console_test

import (
	"context"
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dowsingrod/console"
	"dowsingrod/internal/browser"
	"dowsingrod/internal/service"
	"dowsingrod/internal/testbed"
)

// From the survey to who did it: the mark in a strip leads to the incident, the incident names the machine.
func TestFromTheSurveyToTheCulprit(t *testing.T) {
	d := testbed.LoadWatched(t)
	v := enterAs(t, d, service.Operator)
	window := "?from=" + d.Anchor.Add(-2*time.Hour).UTC().Format(time.RFC3339) + "&to=" + d.Anchor.UTC().Format(time.RFC3339)
	v.open("/" + window)
	v.until(`document.querySelectorAll('[data-testid=strip]').length === 9`)
	assert.Contains(t, eval[string](v, `document.querySelector('[data-testid=strip]').textContent`), "heron")
	assert.Contains(t, eval[string](v, `document.querySelector('[data-testid=statement]').textContent`), "sonar-tiles-05 did it")
	require.Equal(t, 1, eval[int](v, `document.querySelectorAll('[data-testid=strip]:first-child svg a').length`), "ink only where a limit was passed")
	eval[bool](v, `document.querySelector('[data-testid=strip] svg a').dispatchEvent(new MouseEvent('click', {bubbles: true, cancelable: true})), true`)
	v.until(`document.querySelector('[data-testid=class]')?.textContent === 'Noisy neighbour'`)
	v.until(`document.querySelector('[data-testid=who] li')?.textContent.includes('sonar-tiles-05')`)
	v.until(`document.querySelectorAll('[data-testid^=strata] path').length > 4`)
	assert.Contains(t, v.address(), "/incidents?")

	// Somebody takes it on and writes down what was done.
	require.NoError(t, v.Click(`main button`))
	v.until(`document.querySelector('main').textContent.includes('is on it')`)
	require.NoError(t, v.Click(`textarea`))
	v.press("limited to 400 I/Os per second")
	require.NoError(t, v.Click(`form button`))
	v.until(`document.querySelector('[data-testid=comments]')?.textContent.includes('limited to 400')`)
	assert.Empty(t, v.axe())

	v.open("/incidents")
	v.until(`document.querySelectorAll('[data-testid=incident-list] li').length >= 2`)
	assert.Empty(t, v.axe())
	v.open("/incidents?no=987654321")
	v.until(`document.querySelector('[role=alert]')`)
}

// Whoever may only look sees no button to act with.
func TestAViewerOnlyReadsIncidents(t *testing.T) {
	d := testbed.LoadWatched(t)
	v := enter(t)
	list, err := d.Service.Incidents(t.Context(), service.Window{From: d.Anchor.Add(-20 * time.Hour), To: d.Anchor}, 0)
	require.NoError(t, err)
	v.open("/incidents?no=" + fmt.Sprint(list.Incidents[0].ID))
	v.until(`document.querySelector('[data-testid=class]')`)
	assert.False(t, eval[bool](v, `!!document.querySelector('textarea')`))
}

func TestExplainReadsLikeANote(t *testing.T) {
	v := enter(t)
	v.open("/explain?of=vm:manifest-db-02")
	v.until(`document.querySelector('[data-testid=class]')?.textContent === 'Noisy neighbour'`)
	text := eval[string](v, `document.querySelector('main').textContent`)
	for _, part := range []string{"sonar-tiles-05 did it", "Who suffers", "Cleared", "What would settle it", "What usually helps", "% sure"} {
		assert.Contains(t, text, part)
	}
	v.open("/explain?of=vm:berth-plan-01")
	v.until(`document.querySelector('[data-testid=class]')?.textContent === 'Not the storage'`)
	v.open("/explain")
	v.until(`document.querySelector('main h2')?.textContent === 'Who complains?'`)
}

func enterAs(t *testing.T, d testbed.Demo, role service.Role) visit {
	base := testbed.Serve(t, d.Service, console.Files())
	p, end, err := browser.Open(context.Background(), 1280, 800)
	require.NoError(t, err)
	t.Cleanup(end)
	v := visit{p, t, base}
	name, _ := testbed.Token(t, d.Service, role)
	code, err := d.Service.Link(t.Context(), name)
	require.NoError(t, err)
	v.open("/sign-in#" + code)
	v.until(`document.querySelector('h1')?.textContent.startsWith('Survey')`)
	return v
}
