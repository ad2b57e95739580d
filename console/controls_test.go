package console_test

import (
	"context"
	"fmt"
	"net/http/httptest"
	"strings"
	"testing"

	"log/slog"

	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dowsingrod/console"
	"dowsingrod/internal/api"
	"dowsingrod/internal/browser"
	"dowsingrod/internal/service"
	"dowsingrod/internal/testbed"
)

func (v visit) click(selector string) {
	v.t.Helper()
	require.NoError(v.t, v.Click(selector))
}

func TestThemeIsChosenAndKept(t *testing.T) {
	v := enter(t)
	theme := func() string { return eval[string](v, "document.documentElement.dataset.theme") }
	before := theme()
	v.click(`button[aria-label^="Show on a"]`)
	assert.NotEqual(t, before, theme())
	chosen := theme()
	v.open("/strata")
	v.until(`document.querySelector('main h2')`)
	assert.Equal(t, chosen, theme())
	ground := eval[string](v, "getComputedStyle(document.body).backgroundColor")
	v.click(`button[aria-label^="Show on a"]`)
	assert.NotEqual(t, ground, eval[string](v, "getComputedStyle(document.body).backgroundColor"))
}

func TestKeysAreListed(t *testing.T) {
	v := enter(t)
	v.press("?")
	v.until(`document.querySelector('[role=dialog]')?.textContent.includes('move the window')`)
	assert.Empty(t, v.axe())
	v.press(kb.Escape)
	v.until(`!document.querySelector('[role=dialog]')`)
}

func TestReadsAndWrites(t *testing.T) {
	v := enter(t)
	v.open("/section?of=vm:manifest-db-02")
	v.until(sectionDrawn)
	v.until(`document.querySelector('[data-testid=strata-read]')`)
	assert.Contains(t, eval[string](v, `document.querySelector('[data-testid=section]').textContent`), "ms", "a read gained milliseconds")
	eval[bool](v, `[...document.querySelectorAll('[aria-label="Reads or writes"] button')].find(b => b.textContent === 'writes').click(), true`)
	v.until(`document.querySelector('[data-testid=strata-write]')`)
	assert.Contains(t, v.address(), "dir=write")
}

func TestWindowsByButtons(t *testing.T) {
	v := enter(t)
	v.open("/strata?of=vm:manifest-db-02")
	v.until(strataDrawn)
	eval[bool](v, `[...document.querySelectorAll('[aria-label="Length of the window"] button')].find(b => b.textContent === '8 h').click(), true`)
	v.until(`location.search.includes('from=-8h')`)
	v.click(`button[aria-label="Earlier"]`)
	v.until(`location.search.includes('to=')`)
	v.until(strataDrawn)
	assert.False(t, eval[bool](v, `document.querySelector('button[aria-label="Later"]').disabled`))
	v.click(`button[aria-label="Later"]`)
	v.until(`!location.search.includes('to=')`)
	assert.True(t, eval[bool](v, `document.querySelector('button[aria-label="Later"]').disabled`), "there is nothing later than now")
}

// Dragging over a chart chooses the window dragged over.
func TestDraggingLooksCloser(t *testing.T) {
	v := enter(t)
	v.open("/strata?of=vm:manifest-db-02")
	v.until(strataDrawn)
	at := func(event string, part float64) {
		eval[bool](v, fmt.Sprintf(`(() => {
			const svg = document.querySelector('[data-testid=strata-read] svg[role=img]');
			svg.setPointerCapture = () => {};
			const box = svg.getBoundingClientRect();
			svg.dispatchEvent(new PointerEvent(%q, {bubbles: true, pointerId: 1, clientX: box.left + 24 + %v * (box.width - 102), clientY: box.top + 20}));
			return new Promise(done => requestAnimationFrame(() => done(true)));
		})()`, event, part))
	}
	at("pointerdown", 0.25)
	at("pointermove", 0.5)
	v.until(`document.querySelector('[data-testid=strata-read] svg[role=img] rect')`)
	at("pointerup", 0.5)
	v.until(`location.search.includes('from=20')`)
	length := eval[float64](v, `(() => { const p = new URLSearchParams(location.search); return (Date.parse(p.get('to')) - Date.parse(p.get('from'))) / 60000 })()`)
	assert.InDelta(t, 30, length, 2)
}

func TestHoverReadsOutEveryLayer(t *testing.T) {
	v := enter(t)
	v.open("/strata?of=vm:manifest-db-02")
	v.until(strataDrawn)
	require.NoError(t, v.Move(900, 240))
	v.until(`document.querySelector('[data-testid=strata-read] dl')?.textContent.includes('together')`)
	said := eval[string](v, `document.querySelector('[data-testid=strata-read] dl').textContent`)
	for _, word := range []string{"guest", "host", "fabric", "front end", "back end", "IOPS", "throughput", "in flight", "ms"} {
		assert.Contains(t, said, word)
	}
}

func TestFoldsUnfold(t *testing.T) {
	v := enter(t)
	v.open("/section?of=pool:p2@heron")
	v.until(sectionDrawn)
	eval[bool](v, `[...document.querySelectorAll('[data-testid=section] button')].find(b => b.textContent.includes('25 VMs')).click(), true`)
	v.until(`[...document.querySelectorAll('a')].some(a => a.textContent.includes('radar-replay-02'))`)
	assert.Empty(t, v.axe())
	eval[bool](v, `[...document.querySelectorAll('a')].find(a => a.textContent.includes('radar-replay-02')).click(), true`)
	v.until(`location.search.includes('radar-replay-02')`)
	v.until(sectionDrawn)
}

func TestAllTenantsCanBeSeenAndTakenAway(t *testing.T) {
	v := enter(t)
	v.open("/suspects?of=pool:p2@heron")
	v.until(suspectsDrawn)
	first := eval[int](v, `document.querySelectorAll('[data-testid=suspects] svg').length`)
	eval[bool](v, `[...document.querySelectorAll('button')].find(b => b.textContent.includes('more tenants')).click(), true`)
	v.until(`document.querySelectorAll('[data-testid=suspects] a').length === 25`)
	assert.Greater(t, eval[int](v, `document.querySelectorAll('[data-testid=suspects] svg').length`), first)
	eval[bool](v, `window.taken = '', navigator.clipboard.writeText = async (s) => { window.taken = s }, true`)
	require.NoError(t, v.Click(`button[aria-label^="Take it away"]`))
	v.until(`document.querySelector('[role=menuitem]')`)
	eval[bool](v, `[...document.querySelectorAll('[role=menuitem]')].find(m => m.textContent === 'Copy as CSV').click(), true`)
	v.until(`window.taken.length > 100`)
	lines := strings.Split(strings.TrimSpace(eval[string](v, "window.taken")), "\r\n")
	assert.Len(t, lines, 26)
	assert.True(t, strings.HasPrefix(lines[1], "sonar-tiles-05,3,suspect,"), lines[1])
}

func TestWhenTheServiceGoesAway(t *testing.T) {
	d := testbed.LoadDemo(t)
	server := httptest.NewServer(api.New(api.Config{Service: d.Service, Console: console.Files(), Log: slog.New(slog.DiscardHandler)}))
	p, end, err := browser.Open(context.Background(), 1280, 800)
	require.NoError(t, err)
	t.Cleanup(end)
	v := visit{p, t, server.URL}
	name, _ := testbed.Token(t, d.Service, service.Viewer)
	code, err := d.Service.Link(t.Context(), name)
	require.NoError(t, err)
	v.open("/sign-in#" + code)
	v.until(`document.querySelectorAll('main a').length > 10`)
	server.CloseClientConnections()
	server.Close()
	eval[bool](v, `[...document.querySelectorAll('main a')].find(a => a.textContent === 'heron').click(), true`)
	v.until(`document.querySelector('[role=alert]')?.textContent.includes('does not answer')`)
	assert.Contains(t, eval[string](v, `document.querySelector('[role=alert]').textContent`), "Try again")
}

func TestNothingIsComplainedOfInTheConsole(t *testing.T) {
	v := enter(t)
	v.open("/section?of=vm:manifest-db-02")
	v.until(sectionDrawn)
	eval[bool](v, `window.violations = [], document.addEventListener('securitypolicyviolation', e => window.violations.push(e.violatedDirective + ' ' + e.blockedURI)), true`)
	v.press("/")
	v.until(`document.activeElement?.getAttribute('role') === 'combobox'`)
	v.press("heron")
	v.until(`document.querySelectorAll('[role=option]').length > 3`)
	v.press(kb.Escape)
	require.NoError(t, v.Move(640, 200))
	assert.Empty(t, eval[[]string](v, "window.violations"), "the content security policy holds")
}
