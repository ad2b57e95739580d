package console_test

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dowsingrod/console"
	"dowsingrod/internal/browser"
	"dowsingrod/internal/service"
	"dowsingrod/internal/testbed"
)

func TestMain(m *testing.M) { os.Exit(testbed.Run(m)) }

type visit struct {
	*browser.Page
	t    *testing.T
	base string
}

// enter opens a browser on the demo and signs in with a one-time link.
func enter(t *testing.T) visit {
	d := testbed.LoadDemo(t)
	base := testbed.Serve(t, d.Service, console.Files())
	p, end, err := browser.Open(context.Background(), 1280, 800)
	require.NoError(t, err)
	t.Cleanup(end)
	v := visit{p, t, base}
	name, _ := testbed.Token(t, d.Service, service.Viewer)
	code, err := d.Service.Link(t.Context(), name)
	require.NoError(t, err)
	v.open("/sign-in#" + code)
	v.until(`document.querySelector('h1')?.textContent.startsWith('Survey')`)
	return v
}

func (v visit) open(path string) {
	v.t.Helper()
	require.NoError(v.t, v.Go(v.base+path))
}

func (v visit) until(expression string) {
	v.t.Helper()
	if err := v.Until(expression); err != nil {
		text, _ := v.Text("body")
		if picture, e := v.Picture(); e == nil {
			_ = os.WriteFile(filepath.Join(os.TempDir(), "dowse-e2e-failed.png"), picture, 0o600)
		}
		require.NoError(v.t, err, text)
	}
}

func (v visit) press(keys string) {
	v.t.Helper()
	require.NoError(v.t, v.Press(keys))
}

func eval[T any](v visit, expression string) T {
	v.t.Helper()
	out, err := browser.Eval[T](v.Page, expression)
	require.NoError(v.t, err)
	return out
}

func (v visit) address() string { return eval[string](v, "location.pathname + location.search") }

const (
	sectionDrawn  = `document.querySelectorAll('[data-testid=section] li').length > 8 && document.querySelectorAll('[data-testid^=strata] path').length > 4`
	strataDrawn   = `document.querySelectorAll('[data-testid^=strata] path').length > 10`
	suspectsDrawn = `document.querySelectorAll('[data-testid=suspects] svg').length > 10`
)

// axe runs axe-core in the page and returns what it finds serious or worse.
func (v visit) axe() []string {
	v.t.Helper()
	source, err := os.ReadFile("node_modules/axe-core/axe.min.js")
	require.NoError(v.t, err)
	eval[bool](v, string(source)+"; true")
	text := eval[string](v, `axe.run(document, {resultTypes: ['violations']}).then(r => JSON.stringify(r.violations.filter(x => x.impact === 'serious' || x.impact === 'critical').map(x => x.id + ': ' + x.nodes.map(n => n.html.slice(0, 160) + ' ' + n.any.map(a => a.message).join()).slice(0, 3).join(' | '))))`)
	var found []string
	require.NoError(v.t, json.Unmarshal([]byte(text), &found))
	return found
}

func TestFromComplaintToCulpritByKeyboardAlone(t *testing.T) {
	v := enter(t)
	v.press("/")
	v.until(`document.activeElement?.getAttribute('role') === 'combobox'`)
	v.press("manifest-db-0")
	v.until(`document.querySelectorAll('[role=option]').length > 5`)
	v.press(kb.ArrowDown)
	v.until(`document.querySelector('[role=option][aria-selected=true]')?.textContent.includes('manifest-db-02')`)
	v.press(kb.Enter)
	v.until(sectionDrawn)
	assert.Equal(t, "/section?of=vm:manifest-db-02@hyp-northmole", v.address())
	said := eval[string](v, `document.querySelector('[data-testid=statement]').textContent`)
	assert.Contains(t, said, "arises in heron pool 2")
	assert.Contains(t, said, "cleared")
	assert.Equal(t, 1, eval[int](v, `document.querySelectorAll('[data-testid=section] [aria-label=failing]').length`), "the cause is marked once")

	// Tab to what the statement says of the cause, and on to its suspects.
	for range 60 {
		v.press(kb.Tab)
		if eval[bool](v, `document.activeElement?.textContent.includes('arises in heron pool 2') ?? false`) {
			break
		}
	}
	v.press(kb.Enter)
	v.until(suspectsDrawn)
	assert.Contains(t, v.address(), "/suspects?of=pool:p2@heron")
	assert.Contains(t, eval[string](v, `document.querySelector('[data-testid=statement]').textContent`), "sonar-tiles-05 did it")
	require.NoError(t, v.Press(kb.Escape))
	eval[bool](v, `history.back(), true`)
	v.until(sectionDrawn)
	assert.Contains(t, v.address(), "manifest-db-02", "back works")
}

func TestAnyIdentifierLands(t *testing.T) {
	v := enter(t)
	found, err := testbed.LoadDemo(t).Service.Show(t.Context(), "volume:v7@heron", window(t))
	require.NoError(t, err)
	naa := strings.TrimPrefix(found.Identities[0], "naa.")
	for _, text := range []string{"0x" + strings.ToUpper(naa), naa[:14], "LUN 7", "vol-0145"} {
		v.press("/")
		v.until(`document.activeElement?.getAttribute('role') === 'combobox'`)
		v.press(text)
		v.until(`[...document.querySelectorAll('[role=option]')].some(o => o.textContent.includes('vol-0145'))`)
		v.press(kb.Escape)
		v.until(`!document.querySelector('[role=dialog]')`)
	}
}

func window(t *testing.T) service.Window {
	w, err := testbed.LoadDemo(t).Service.Window(testbed.LoadDemo(t).Anchor.Add(-3600e9), testbed.LoadDemo(t).Anchor)
	require.NoError(t, err)
	return w
}

func TestPagesAreAccessible(t *testing.T) {
	v := enter(t)
	pages := []struct{ path, until string }{
		{"/", `document.querySelectorAll('[data-testid=strip]').length > 5`},
		{"/start", `document.querySelectorAll('main a').length > 10`},
		{"/incidents", `document.querySelector('h1')?.textContent.startsWith('Incidents')`},
		{"/explain?of=vm:manifest-db-02", `document.querySelectorAll('[data-testid=evidence] tr').length > 2`},
		{"/section?of=vm:manifest-db-02", sectionDrawn},
		{"/section?of=pool:p2@heron", sectionDrawn},
		{"/strata?of=vm:manifest-db-02", strataDrawn},
		{"/suspects?of=pool:p2@heron", suspectsDrawn},
		{"/suspects?of=vm:manifest-db-02", `document.querySelectorAll('main li a').length > 4`},
		{"/section", `document.querySelector('main h2')`},
		{"/section?of=vm:nobody", `document.querySelector('[role=alert]')`},
	}
	for _, theme := range []string{"light", "dark"} {
		for _, p := range pages {
			v.open(p.path)
			v.until(p.until)
			eval[bool](v, fmt.Sprintf("localStorage.setItem('dowse theme', %q), document.documentElement.dataset.theme = %q, true", theme, theme))
			for _, problem := range v.axe() {
				t.Errorf("%s %s: %s", theme, p.path, problem)
			}
		}
	}
	v.open("/sign-in")
	v.until(`document.querySelector('form')`)
	assert.Empty(t, v.axe())
}

func TestTheAddressBarHoldsThePage(t *testing.T) {
	v := enter(t)
	v.open("/strata?of=vm:ticket-gate-12&from=-10h&to=-7h")
	v.until(strataDrawn)
	assert.Contains(t, eval[string](v, `document.querySelector('[data-testid=statement]').textContent`), "gannet controller 1")
	v.press(kb.ArrowLeft)
	v.until(`location.search.includes('Z')`)
	v.until(strataDrawn)
	moved := v.address()
	v.open(moved)
	v.until(strataDrawn)
	assert.Equal(t, moved, v.address(), "a pasted link shows the same")
	v.press("-")
	v.until(`location.pathname + location.search !== ` + fmt.Sprintf("%q", moved))
}

func TestStatesHaveTheirWords(t *testing.T) {
	v := enter(t)
	for path, words := range map[string]string{
		"/section":              "Choose an object",
		"/strata":               "Whose latency?",
		"/suspects":             "in the whole estate",
		"/section?of=vm:nobody": "No such object",
		"/section?of=pool%201":  "Which of these?",
		"/strata?of=vm:manifest-db-02&from=-1h&to=-2h":        "cannot be shown",
		"/strata?of=vm:manifest-db-02&from=-60h&to=-58h":      "no readings",
		"/suspects?of=controller:c1@gannet&from=-10h&to=-7h":  "slower by itself",
		"/strata?of=vm:berth-plan-01":                         "The storage is not the cause",
		"/section?of=zone:z-h-01-hba0@fabric-northmole":       "z_lighthouse-01_hba0",
		"/suspects?of=vm:manifest-db-02":                      "the delay arises here",
		"/suspects?of=array:heron":                            "wait for heron pool 2",
		"/section?of=vm:crew-roster-03&from=-6h&to=-4h":       "migrated",
		"/section?of=volume:v1@petrel":                        "gannet pool 1",
		"/section?of=datastore:ds-20&from=-1h":                "ds-bladder-01",
		"/strata?of=vm:manifest-db-02&from=-24h":              "heron pool 2",
		"/section?of=switch_port:skerry-a2-02&from=-30m":      "skerry-a2",
		"/section?of=vm:manifest-db-02&dir=write&from=-30m":   "Write latency by layer",
		"/suspects?of=datastore:ds-3@hyp-northmole&from=-30m": "ds-kelp-03",
	} {
		v.open(path)
		v.until(fmt.Sprintf("document.querySelector('main').textContent.includes(%q)", words))
	}
	assert.Empty(t, eval[[]string](v, `performance.getEntriesByType('resource').map(e => e.name).filter(n => !n.startsWith(location.origin) && !n.startsWith('data:'))`), "nothing is loaded from elsewhere")
}

func TestSigningOutEndsTheSession(t *testing.T) {
	v := enter(t)
	eval[bool](v, `fetch('/api/v1/session', {method: 'DELETE'}).then(() => true)`)
	v.open("/section?of=vm:manifest-db-02")
	v.until(`location.pathname === '/sign-in' && document.querySelector('form')`)
	v.open("/sign-in#used-code")
	v.until(`document.querySelector('[role=alert]')?.textContent.includes('used already')`)
}

func TestNarrowAndZoomed(t *testing.T) {
	v := enter(t)
	for _, width := range []int{800, 640, 1920} { // 640 is 1280 at 200 %
		require.NoError(t, v.Resize(width, 800))
		v.open("/section?of=vm:manifest-db-02")
		v.until(sectionDrawn)
		assert.LessOrEqual(t, eval[int](v, `document.documentElement.scrollWidth`), width, "the page does not scroll sideways at %d", width)
	}
}

// The first load must stay light: at most 350 kB of compressed script.
func TestFirstLoadIsLight(t *testing.T) {
	v := enter(t)
	v.open("/")
	v.until(`document.querySelectorAll('[data-testid=strip]').length > 5`)
	kib := eval[float64](v, `performance.getEntriesByType('resource').filter(e => e.name.endsWith('.js')).reduce((s, e) => s + e.encodedBodySize, 0) / 1024`)
	assert.Less(t, kib, 350.0)
	assert.Greater(t, kib, 50.0)
}
