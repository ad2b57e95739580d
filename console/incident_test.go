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
	"dowsingrod/internal/feed"
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
	v.until(`document.querySelector('[data-testid=lanes] svg')?.getAttribute('aria-label').includes('heron pool 2: busy')`)
	assert.Contains(t, eval[string](v, `document.querySelector('[data-testid=lanes] svg').getAttribute('aria-label')`), "sonar-tiles-05: data rate")
	// What stands below stands on the same axis: the plots begin and end at the same places.
	edges := `[...document.querySelectorAll('[data-testid=strata-read] svg > g > line, [data-testid=lanes] svg > g > g > line')].map(l => l.getBoundingClientRect()).filter(r => r.width > 200).map(r => [Math.round(r.left), Math.round(r.right)].join('-'))`
	assert.Len(t, unique(eval[[]string](v, edges)), 1)
	// Sentences lead to what they rest on.
	links := eval[[]string](v, `[...document.querySelectorAll('[data-testid=statement] a')].map(a => new URL(a.href).pathname + ' ' + a.textContent)`)
	assert.Contains(t, links, "/suspects It waits for heron pool 2")
	assert.Contains(t, links, "/strata sonar-tiles-05 did it")
	assert.Contains(t, eval[string](v, `document.querySelector('[data-testid=statement]').textContent`), "of tier 1")
	assert.Equal(t, "/readings", eval[string](v, `new URL(document.querySelector('[data-testid=evidence] td:nth-child(2) a').href).pathname`))
	assert.Empty(t, v.axe())

	v.open("/explain?of=vm:berth-plan-01")
	v.until(`document.querySelector('[data-testid=class]')?.textContent === 'Not the storage'`)
	v.until(`document.querySelector('[data-testid=lanes] svg')?.getAttribute('aria-label').includes('kept waiting for a processor')`)
	cleared := eval[string](v, `document.querySelector('[data-testid=cleared]').textContent`)
	for _, part := range []string{"half of its reads within", "99 % within", "never above"} {
		assert.Contains(t, cleared, part)
	}
	assert.Contains(t, eval[string](v, `document.querySelector('main').textContent`), "What else it could be")
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

func unique(of []string) map[string]bool {
	out := map[string]bool{}
	for _, x := range of {
		out[x] = true
	}
	return out
}

// Every page of diagnosis reads on the dark ground as well: nothing serious in contrast, names or order.
func TestDiagnosisInTheDark(t *testing.T) {
	d := testbed.LoadWatched(t)
	v := enterAs(t, d, service.Operator)
	for path, there := range map[string]string{
		"/":          `document.querySelectorAll('[data-testid=strip]').length === 9`,
		"/incidents": `document.querySelectorAll('[data-testid=incident-list] li').length > 1`,
		"/explain?of=vm:manifest-db-02" + back(d, 2*time.Hour):             `document.querySelector('[data-testid=lanes] svg')`,
		"/suspects?of=pool:p2@heron" + back(d, 2*time.Hour):                `document.querySelector('[data-testid=suspects] svg')`,
		"/suspects?" + back(d, 2*time.Hour)[1:]:                            `document.querySelector('[data-testid=slowed] li')`,
		"/strata?of=vm:manifest-db-02" + back(d, 2*time.Hour):              `document.querySelectorAll('[data-testid^=strata] path').length > 8`,
		"/compare?of=vm:manifest-db-02&beside=before" + back(d, time.Hour): `document.querySelectorAll('[data-testid=differences] li').length > 5`,
	} {
		v.open(path)
		v.until(there)
		eval[bool](v, `document.documentElement.dataset.theme = "dark", true`)
		assert.Empty(t, v.axe(), path)
		assert.LessOrEqual(t, eval[int](v, `document.documentElement.scrollWidth`), 1280, path)
	}
}

// A survey of many systems shows whom they hurt in full and the others on a line each, and finds any by its name or source.
func TestASurveyOfManySystems(t *testing.T) {
	st := testbed.Store(t)
	now := time.Now().Truncate(time.Minute)
	svc := service.New(st, func() time.Time { return now })
	const many = 300
	_, err := svc.ImportRecords(t.Context(), func(write func(feed.Record) error) error {
		for k := range many {
			source := fmt.Sprintf("array-%03d", k)
			if err := write(feed.Record{Header: &feed.Header{Version: 1, Source: source, Time: now.Add(-3 * time.Hour), Full: true}}); err != nil {
				return err
			}
			busy := make([]float64, 120)
			for i := range busy {
				if busy[i] = 0.3; k%5 == 0 && i > 60 && i < 80 {
					busy[i] = 0.99
				}
			}
			for _, r := range []feed.Record{
				{Object: &feed.Object{Kind: "array", ID: "x", Name: fmt.Sprintf("shag-%03d", k), Facts: map[string]any{"serial": source}}},
				{Object: &feed.Object{Kind: "pool", ID: "p", Name: "pool 1", Links: map[string][]string{"part_of": {"array:x"}}}},
				{Reading: &feed.Reading{Of: "pool:p", From: now.Add(-2 * time.Hour), Step: 60, Values: map[string]feed.Values{"busy_share": busy}}},
			} {
				if err := write(r); err != nil {
					return err
				}
			}
		}
		return nil
	})
	require.NoError(t, err)
	v := enterAs(t, testbed.Demo{Service: svc, Anchor: now}, service.Viewer)
	strips := `document.querySelectorAll('[data-testid=strip]').length`
	v.until(strips + ` === 24`)
	assert.Contains(t, eval[string](v, `document.querySelector('h1').parentElement.textContent`), "300 systems")
	assert.Contains(t, eval[string](v, `document.querySelector('[data-testid=rest]').textContent`), "36 more passed a limit")
	tall := eval[float64](v, `Math.max(...[...document.querySelectorAll('[data-testid=strip]')].map(s => s.getBoundingClientRect().height))`)
	assert.Less(t, tall, 30.0, "who hurt nobody takes a line")
	assert.Equal(t, "array · 1 pool", eval[string](v, `document.querySelector('[data-testid=strip] [title^=array]').textContent`), "of what is not told of nothing is said")
	require.NoError(t, v.Click(`[data-testid=rest] button`))
	v.until(strips + ` === 60`)
	require.NoError(t, v.Click(`[data-testid=rest] button`))
	v.until(strips + ` === 300`)
	require.NoError(t, v.Click(`input[aria-label="Only systems whose name holds this"]`))
	v.press("shag-12")
	v.until(strips + ` === 10`)
	assert.Empty(t, v.axe())
}
