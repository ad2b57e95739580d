package console_test

import (
	"context"
	"fmt"
	"net/http"
	"net/http/httptest"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dowsingrod/console"
	"dowsingrod/internal/browser"
	"dowsingrod/internal/service"
	"dowsingrod/internal/testbed"
)

// exporter serves a small feed over TLS, with a certificate nobody knows, to whoever has the token.
func exporter(t *testing.T) *httptest.Server {
	s := httptest.NewTLSServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Header.Get("Authorization") != "Bearer tidal" {
			http.Error(w, "who", http.StatusUnauthorized)
			return
		}
		now := time.Now().UTC().Truncate(time.Second)
		fmt.Fprintf(w, `{"feed":{"version":1,"source":"exporter-3","time":%q,"full":true}}
{"object":{"kind":"vm","id":"v","name":"tide-model-09","links":{"uses":["vdisk:v0"]}}}
{"object":{"kind":"vdisk","id":"v0"}}
{"reading":{"of":"vdisk:v0","from":%q,"step_s":1,"values":{"read_iops":[10,20,30]}}}
`, now.Format(time.RFC3339), now.Add(-3*time.Second).Format(time.RFC3339))
	}))
	t.Cleanup(s.Close)
	return s
}

func TestASourceIsProbedPinnedKeptAndRemoved(t *testing.T) {
	svc := service.New(testbed.Store(t), time.Now)
	testbed.Collect(t, svc)
	base := testbed.Serve(t, svc, console.Files())
	p, end, err := browser.Open(context.Background(), 1280, 800)
	require.NoError(t, err)
	t.Cleanup(end)
	page := visit{p, t, base}
	name, _ := testbed.Token(t, svc, service.Admin)
	code, err := svc.Link(t.Context(), name)
	require.NoError(t, err)
	page.open("/sign-in#" + code)
	page.until(`document.querySelector('h2')?.textContent.includes('Nothing is watched yet')`)

	page.open("/sources")
	page.until(`document.querySelector('main')?.textContent.includes('Nothing is collected yet')`)
	click := func(text string) {
		t.Helper()
		require.True(t, eval[bool](page, fmt.Sprintf(`(() => { const b = [...document.querySelectorAll('button')].find(x => x.textContent.trim() === %q && !x.disabled); b?.click(); return !!b })()`, text)), text)
	}
	focus := func(label string) {
		t.Helper()
		require.True(t, eval[bool](page, fmt.Sprintf(`(() => { const l = [...document.querySelectorAll('label')].find(x => x.textContent.trim() === %q); const c = l && document.getElementById(l.htmlFor); c?.focus(); c?.select?.(); return !!c })()`, label)), label)
	}
	click("Add a source")
	page.until(`document.querySelector('form input')`)
	assert.Contains(t, page.address(), "source=")
	focus("Address")
	page.press(exporter(t).URL + "/feed")
	page.until(`[...document.querySelectorAll('label')].some(x => x.textContent === 'Token')`)
	focus("Name")
	page.press("exporter-3")
	focus("Every")
	page.press("1")
	focus("Token")
	page.press("tidal")
	assert.Empty(t, page.axe())
	click("Probe")
	page.until(`document.querySelector('[data-testid=probe]')?.textContent.includes('nobody known here signed')`)
	assert.True(t, eval[bool](page, `[...document.querySelectorAll('button')].find(x => x.textContent === 'Keep and collect').disabled`), "nothing is kept before the probe passes")
	click("Pin this certificate")
	page.until(`document.querySelector('[data-testid=probe]')?.textContent.includes('it is the pinned one')`)
	page.until(`document.querySelector('[data-testid=probe]')?.textContent.includes('exporter-3')`)
	click("Keep and collect")
	page.until(`document.querySelector('[data-testid=sources]')?.textContent.includes('collecting')`)
	page.until(`location.search.includes('source=exporter-3')`)
	page.until(`document.querySelector('[data-testid=sources]')?.textContent.includes('secrets kept')`)
	text := eval[string](page, `document.documentElement.outerHTML`)
	assert.NotContains(t, text, "tidal")
	assert.Empty(t, page.axe())
	click("Pause")
	page.until(`document.querySelector('[data-testid=sources]')?.textContent.includes('collecting is paused')`)
	click("Remove")
	page.until(`document.querySelector('[role=alertdialog]')`)
	assert.Empty(t, page.axe())
	eval[bool](page, `(() => { [...document.querySelectorAll('[role=alertdialog] button')].find(x => x.textContent === 'Remove').click(); return true })()`)
	page.until(`document.querySelector('[data-testid=sources]')?.textContent.includes('removed')`)
}
