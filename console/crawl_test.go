package console_test

import (
	"encoding/json"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dowsingrod/internal/service"
	"dowsingrod/internal/testbed"
)

// said is what a page shows and where it leads.
type said struct {
	Heading string   `json:"heading"`
	Text    string   `json:"text"`
	Alert   string   `json:"alert"`
	Links   []string `json:"links"`
	Marks   []string `json:"marks"` // what pictures say of themselves
}

const says = `JSON.stringify({
	heading: document.querySelector('h1')?.textContent ?? '',
	text: document.querySelector('main')?.innerText ?? '',
	alert: document.querySelector('main [role=alert]')?.textContent ?? '',
	links: [...document.querySelectorAll('main a')].map(a => a.href?.baseVal ?? a.href).map(h => new URL(h, location.href)).filter(u => u.origin === location.origin).map(u => u.pathname + u.search),
	marks: [...document.querySelectorAll('main [aria-label], main title')].map(e => e.getAttribute('aria-label') ?? e.textContent),
})`

// look opens a page and waits until it is drawn.
func (v visit) look(path string) (out said) {
	v.t.Helper()
	v.open(path)
	v.until(`document.querySelector('h1') && !document.querySelector('[role=status]')`)
	require.NoError(v.t, json.Unmarshal([]byte(eval[string](v, says)), &out))
	return out
}

// From the survey on, every link leads to a page that has a heading and something to say, and nothing that a program wrote for itself is shown
// to a person. Of each page and kind of object the first few are followed.
func TestEveryLinkLeadsSomewhere(t *testing.T) {
	d := testbed.LoadWatched(t)
	v := enterAs(t, d, service.Operator)
	const most = 2
	taken := map[string]int{}
	shape := func(link string) string {
		u, err := url.Parse(link)
		require.NoError(t, err)
		kind, _, _ := strings.Cut(u.Query().Get("of"), ":")
		beside := ""
		if u.Query().Get("beside") != "" {
			beside = " beside"
		}
		return u.Path + " " + kind + beside
	}
	queue := []string{"/", "/incidents", "/suspects", "/limits", "/compare?of=vm:manifest-db-02&beside=before", "/explain?of=vm:berth-plan-01", "/strata?of=application:manifests"}
	seen := map[string]bool{}
	pages := map[string]bool{}
	for visited := 0; len(queue) > 0 && visited < 50; {
		link := queue[0]
		queue = queue[1:]
		if seen[link] || taken[shape(link)] >= most {
			continue
		}
		seen[link] = true
		taken[shape(link)]++
		visited++
		got := v.look(link)
		u, _ := url.Parse(link)
		pages[u.Path] = true
		assert.NotEmpty(t, got.Heading, link)
		assert.Greater(t, len(got.Text), 40, link)
		assert.Empty(t, got.Alert, link)
		for _, text := range append(got.Marks, got.Text, got.Heading) {
			for _, wrong := range []string{"NaN", "undefined", "[object", "Infinity", "in the in ", "null", "  ,", "_us", "_share"} {
				assert.NotContains(t, text, wrong, link)
			}
		}
		queue = append(queue, got.Links...)
	}
	for _, page := range []string{"/", "/incidents", "/explain", "/suspects", "/strata", "/compare", "/section", "/readings", "/limits"} {
		assert.True(t, pages[page], "no link leads to %s", page)
	}
}

// At no width does a page of the diagnosis scroll sideways, and no figure is cut off.
func TestPagesFitEveryWidth(t *testing.T) {
	d := testbed.LoadWatched(t)
	v := enterAs(t, d, service.Operator)
	list, err := d.Service.Incidents(t.Context(), service.Window{From: d.Anchor.Add(-20 * time.Hour), To: d.Anchor}, 0)
	require.NoError(t, err)
	require.NotEmpty(t, list.Incidents)
	for _, width := range []int{800, 1280, 1920} {
		require.NoError(t, v.Resize(width, 800))
		for _, path := range []string{"/", "/incidents", "/explain?of=vm:manifest-db-02", "/suspects", "/suspects?of=pool:p2@heron", "/strata?of=vm:manifest-db-02",
			"/compare?of=vm:manifest-db-02&beside=before", "/readings?of=pool:p2@heron", "/limits"} {
			v.look(path)
			assert.LessOrEqual(t, eval[int](v, `document.documentElement.scrollWidth`), width, "%s at %d", path, width)
			cut := eval[[]string](v, `[...document.querySelectorAll('main td, main dd, main h1, main h2')].filter(e => e.scrollWidth > e.clientWidth + 1 && getComputedStyle(e).overflowX === 'hidden' && getComputedStyle(e).textOverflow !== 'ellipsis').map(e => e.textContent)`)
			assert.Empty(t, cut, "%s at %d", path, width)
			beyond := eval[[]string](v, `[...document.querySelectorAll('main svg text')].filter(e => e.textContent && e.getBoundingClientRect().right > document.documentElement.clientWidth + 1).map(e => e.textContent)`)
			assert.Empty(t, beyond, "%s at %d", path, width)
		}
	}
}

// What is usual at that hour is drawn behind latency and behind the readings that a verdict rests on, and told where one points.
func TestWhatIsUsualIsDrawn(t *testing.T) {
	d := testbed.LoadDemo(t)
	require.NoError(t, d.Service.LearnUntil(t.Context(), d.Anchor))
	v := enter(t)
	v.look("/strata?of=vm:manifest-db-02")
	v.until(strataDrawn)
	assert.Contains(t, eval[string](v, `document.querySelector('[data-testid=strata-read] figcaption').textContent`), "usual then")
	box := eval[[]float64](v, `(r => [r.left + r.width * 0.3, r.top + r.height * 0.4])(document.querySelector('[data-testid=strata-read] svg[role=img]').getBoundingClientRect())`)
	require.NoError(t, v.Move(box[0], box[1]))
	v.until(`/usual then/.test(document.querySelector('[data-testid=strata-read] dl')?.textContent)`)
	told := eval[string](v, `document.querySelector('[data-testid=strata-read] dl').textContent`)
	assert.Regexp(t, `usual then[\d.]+( µs| ms)? to [\d.]+ (µs|ms)`, told)
	v.look("/explain?of=vm:manifest-db-02")
	v.until(`document.querySelectorAll('[data-testid=lanes] path[fill="var(--water)"]').length >= 2`)
}
