package api_test

import (
	"encoding/json"
	"io"
	"net/http"
	"net/http/cookiejar"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dowsingrod/core/route"
	"dowsingrod/internal/api"
	"dowsingrod/internal/client"
	"dowsingrod/internal/service"
	"dowsingrod/internal/store"
	"dowsingrod/internal/testbed"
)

func TestMain(m *testing.M) { os.Exit(testbed.Run(m)) }

var page = fstest.MapFS{"index.html": {Data: []byte(`<meta content="__NONCE__">`)}, "assets/a.js": {Data: []byte("1")}}

func call(t *testing.T, c *http.Client, method, address, body string, headers ...string) (*http.Response, string) {
	t.Helper()
	req, err := http.NewRequestWithContext(t.Context(), method, address, strings.NewReader(body))
	require.NoError(t, err)
	if body != "" {
		req.Header.Set("Content-Type", "application/json")
	}
	for i := 0; i+1 < len(headers); i += 2 {
		req.Header.Set(headers[i], headers[i+1])
	}
	resp, err := c.Do(req)
	require.NoError(t, err)
	defer resp.Body.Close()
	text, err := io.ReadAll(resp.Body)
	require.NoError(t, err)
	return resp, string(text)
}

func TestEveryCallNeedsASessionOrToken(t *testing.T) {
	base := testbed.Serve(t, testbed.LoadDemo(t).Service, nil)
	text, err := api.OpenAPI()
	require.NoError(t, err)
	var doc struct {
		OpenAPI string
		Paths   map[string]map[string]struct {
			Security []map[string][]string
		}
	}
	require.NoError(t, json.Unmarshal(text, &doc))
	assert.Equal(t, "3.1.0", doc.OpenAPI)
	calls := 0
	for path, methods := range doc.Paths {
		for method, op := range methods {
			if path == "/api/v1/session" && method != "get" || path == "/api/v1/session/link" {
				continue
			}
			calls++
			assert.Len(t, op.Security, 2, "%s %s", method, path)
			address := base + strings.NewReplacer("{name}", "x", "{id}", "x").Replace(path)
			resp, body := call(t, http.DefaultClient, strings.ToUpper(method), address, "{}")
			assert.Equal(t, http.StatusUnauthorized, resp.StatusCode, "%s %s: %s", method, path, body)
			assert.Equal(t, "application/problem+json", resp.Header.Get("Content-Type"))
			resp, _ = call(t, http.DefaultClient, strings.ToUpper(method), address, "{}", "Authorization", "Bearer dowse_wrong")
			assert.Equal(t, http.StatusUnauthorized, resp.StatusCode)
		}
	}
	assert.Greater(t, calls, 14)
}

func TestTheDescriptionIsServedToThoseSignedIn(t *testing.T) {
	d := testbed.LoadDemo(t)
	base := testbed.Serve(t, d.Service, page)
	resp, _ := call(t, http.DefaultClient, "GET", base+"/api/v1/openapi.json", "")
	assert.Equal(t, 401, resp.StatusCode)
	_, token := testbed.Token(t, d.Service, service.Viewer)
	resp, body := call(t, http.DefaultClient, "GET", base+"/api/v1/openapi.json", "", "Authorization", "Bearer "+token)
	require.Equal(t, 200, resp.StatusCode)
	text, err := api.OpenAPI()
	require.NoError(t, err)
	assert.JSONEq(t, string(text), body)
}

func TestRolesOnRoutes(t *testing.T) {
	d := testbed.LoadDemo(t)
	base := testbed.Serve(t, d.Service, nil)
	_, viewer := testbed.Token(t, d.Service, service.Viewer)
	_, operator := testbed.Token(t, d.Service, service.Operator)
	for _, c := range []struct {
		token, method, path, body string
		want                      int
	}{
		{viewer, "GET", "/api/v1/estate", "", 200},
		{viewer, "POST", "/api/v1/feed", "x", 403},
		{operator, "POST", "/api/v1/feed", "x", 422},
		{viewer, "GET", "/api/v1/accounts", "", 403},
		{operator, "POST", "/api/v1/accounts", `{"name":"new","role":"admin"}`, 403},
		{operator, "DELETE", "/api/v1/accounts/x", "", 403},
	} {
		resp, body := call(t, http.DefaultClient, c.method, base+c.path, c.body, "Authorization", "Bearer "+c.token)
		assert.Equal(t, c.want, resp.StatusCode, "%s %s: %s", c.method, c.path, body)
	}
}

func TestSessions(t *testing.T) {
	d := testbed.LoadDemo(t)
	base := testbed.Serve(t, d.Service, nil)
	require.NoError(t, d.Service.AddAccount(t.Context(), "keeper", service.Viewer, "lighthouse keeper"))
	jar, _ := cookiejar.New(nil)
	c := &http.Client{Jar: jar}
	resp, _ := call(t, c, "POST", base+"/api/v1/session", `{"name":"keeper","password":"no"}`)
	assert.Equal(t, http.StatusUnauthorized, resp.StatusCode)
	resp, body := call(t, c, "POST", base+"/api/v1/session", `{"name":"keeper","password":"lighthouse keeper"}`)
	require.Equal(t, http.StatusOK, resp.StatusCode, body)
	cookie := resp.Cookies()[0]
	assert.True(t, cookie.HttpOnly)
	assert.Equal(t, http.SameSiteStrictMode, cookie.SameSite)
	resp, body = call(t, c, "GET", base+"/api/v1/session", "")
	assert.Equal(t, http.StatusOK, resp.StatusCode)
	assert.Contains(t, body, "keeper")

	resp, _ = call(t, c, "DELETE", base+"/api/v1/session", "", "Origin", "http://evil.example", "Sec-Fetch-Site", "cross-site")
	assert.Equal(t, http.StatusForbidden, resp.StatusCode, "a write from another origin is refused")
	resp, _ = call(t, c, "GET", base+"/api/v1/session", "")
	assert.Equal(t, http.StatusOK, resp.StatusCode, "and has done nothing")
	resp, _ = call(t, c, "DELETE", base+"/api/v1/session", "")
	assert.Less(t, resp.StatusCode, 300)
	saved := cookie.Name + "=" + cookie.Value
	resp, _ = call(t, http.DefaultClient, "GET", base+"/api/v1/session", "", "Cookie", saved)
	assert.Equal(t, http.StatusUnauthorized, resp.StatusCode, "the session is over on the server too")
}

func TestALinkSignsInOnce(t *testing.T) {
	d := testbed.LoadDemo(t)
	base := testbed.Serve(t, d.Service, nil)
	require.NoError(t, d.Service.AddAccount(t.Context(), "once", service.Viewer, ""))
	code, err := d.Service.Link(t.Context(), "once")
	require.NoError(t, err)
	resp, _ := call(t, http.DefaultClient, "POST", base+"/api/v1/session/link", `{"code":"`+code+`"}`)
	assert.Equal(t, http.StatusOK, resp.StatusCode)
	resp, body := call(t, http.DefaultClient, "POST", base+"/api/v1/session/link", `{"code":"`+code+`"}`)
	assert.Equal(t, http.StatusUnauthorized, resp.StatusCode)
	assert.Contains(t, body, "used already")
}

func TestSignInIsLimited(t *testing.T) {
	base := testbed.Serve(t, testbed.LoadDemo(t).Service, nil)
	last := 0
	for range 40 {
		resp, _ := call(t, http.DefaultClient, "POST", base+"/api/v1/session/link", `{"code":"x"}`)
		last = resp.StatusCode
	}
	assert.Equal(t, http.StatusTooManyRequests, last)
}

func TestPages(t *testing.T) {
	base := testbed.Serve(t, testbed.LoadDemo(t).Service, page)
	resp, body := call(t, http.DefaultClient, "GET", base+"/section?of=vm:a", "")
	assert.Equal(t, 200, resp.StatusCode)
	csp := resp.Header.Get("Content-Security-Policy")
	for _, part := range []string{"default-src 'none'", "script-src 'self'", "frame-ancestors 'none'", "base-uri 'none'"} {
		assert.Contains(t, csp, part)
	}
	assert.NotContains(t, csp, "unsafe")
	nonce := strings.TrimSuffix(strings.SplitN(body, `content="`, 2)[1], `">`)
	assert.Contains(t, csp, "'nonce-"+nonce+"'")
	_, again := call(t, http.DefaultClient, "GET", base+"/", "")
	assert.NotContains(t, again, nonce, "each page has its own")
	resp, _ = call(t, http.DefaultClient, "GET", base+"/assets/a.js", "")
	assert.Contains(t, resp.Header.Get("Cache-Control"), "immutable")
	resp, body = call(t, http.DefaultClient, "GET", base+"/api/v1/nothing", "")
	assert.Equal(t, 404, resp.StatusCode)
	assert.Contains(t, body, "urn:dowsing-rod:problem:")
	for _, path := range []string{"/healthz", "/readyz"} {
		resp, _ = call(t, http.DefaultClient, "GET", base+path, "")
		assert.Equal(t, 200, resp.StatusCode)
		assert.Equal(t, "nosniff", resp.Header.Get("X-Content-Type-Options"))
	}
}

func TestProblemsAreStable(t *testing.T) {
	c := testbed.Client(t, testbed.LoadDemo(t).Service, service.Operator)
	kind := func(err error) string {
		var p *client.Problem
		require.ErrorAs(t, err, &p)
		assert.NotEmpty(t, p.Detail)
		return strings.TrimPrefix(p.Type, "urn:dowsing-rod:problem:")
	}
	_, err := c.Show(t.Context(), "vm:nobody", client.Window{})
	assert.Equal(t, "unknown-object", kind(err))
	_, err = c.Show(t.Context(), "pool 1", client.Window{})
	assert.Equal(t, "ambiguous-name", kind(err))
	var p *client.Problem
	require.ErrorAs(t, err, &p)
	assert.Len(t, p.Errors, 2)
	_, err = c.Strata(t.Context(), "manifest-db-02", client.Window{From: "-1h", To: "-2h"})
	assert.Equal(t, "bad-window", kind(err))
	_, err = c.Strata(t.Context(), "manifest-db-02", client.Window{From: "yesterday"})
	assert.Equal(t, "bad-window", kind(err))
	_, err = c.Import(t.Context(), strings.NewReader("hello\n"), false)
	assert.Equal(t, "bad-feed", kind(err))
	_, err = client.New("http://127.0.0.1:1", "").Overview(t.Context())
	var gone *client.UnreachableError
	assert.ErrorAs(t, err, &gone)
}

func TestAWindowWithoutDataSaysSo(t *testing.T) {
	c := testbed.Client(t, testbed.LoadDemo(t).Service, service.Viewer)
	s, err := c.Strata(t.Context(), "manifest-db-02", client.Window{From: "-40h", To: "-38h"})
	require.NoError(t, err)
	assert.Equal(t, "unknown", s.Verdict)
	assert.Contains(t, s.Statement[0].Text, "no readings")
}

func TestClientReachesEveryQuestion(t *testing.T) {
	c := testbed.Client(t, testbed.LoadDemo(t).Service, service.Viewer)
	ctx := t.Context()
	_, err := c.WhoAmI(ctx)
	require.NoError(t, err)
	metrics, err := c.Metrics(ctx)
	require.NoError(t, err)
	assert.Greater(t, len(metrics), 20)
	found, err := c.Find(ctx, "manifest-db-02", "vm", 5, "")
	require.NoError(t, err)
	require.Len(t, found.Objects, 1)
	list, err := c.List(ctx, "pool", "", 2)
	require.NoError(t, err)
	assert.Len(t, list.Objects, 2)
	assert.NotEmpty(t, list.Next)
	v, err := c.Section(ctx, "manifest-db-02", client.Window{})
	require.NoError(t, err)
	assert.Len(t, v.Figures, len(v.Section.Nodes))
	assert.Greater(t, len(v.Strata.Read.Total), 300)
	r, err := c.Route(ctx, "manifest-db-02", "", route.Folding{})
	require.NoError(t, err)
	assert.Len(t, r.Routes, 8)
	reach, err := c.Reach(ctx, "pool:p2@heron", "", 3)
	require.NoError(t, err)
	assert.Len(t, reach.VMs, 3)
	assert.Greater(t, reach.Total, 20)
	inventory, err := c.Inventory(ctx, client.Inventory{Kind: "vm", Where: []string{"tier=1", "name~manifest"}, Sort: "-host", Limit: 5})
	require.NoError(t, err)
	assert.Len(t, inventory.Rows, 5)
	assert.NotEmpty(t, inventory.Next)
	changes, err := c.Changes(ctx, "", client.Window{From: "-12h"}, 3)
	require.NoError(t, err)
	assert.Equal(t, []int{3, 8}, []int{len(changes.Changes), changes.Total})
	history, err := c.History(ctx, "crew-roster-03", client.Window{From: "-12h"}, route.Folding{Most: 12})
	require.NoError(t, err)
	assert.Greater(t, len(history), 1)
	unresolved, err := c.Unresolved(ctx, "")
	require.NoError(t, err)
	assert.Equal(t, 1, unresolved.Total)
	parts, err := c.Hardware(ctx, "gannet", client.Window{})
	require.NoError(t, err)
	assert.Equal(t, 1, parts.Below)
	why, err := c.Why(ctx, "manifest-db-02", client.Window{})
	require.NoError(t, err)
	assert.NotEmpty(t, why.Causes)
	var dot strings.Builder
	require.NoError(t, c.Map(ctx, "manifest-db-02", "", "dot", false, route.Folding{}, &dot))
	assert.Contains(t, dot.String(), "digraph")
	var asked *client.Problem
	require.ErrorAs(t, c.Map(ctx, "nobody", "", "dot", false, route.Folding{}, &dot), &asked)
	assert.True(t, asked.Of("unknown-object"))
	_, err = c.Inventory(ctx, client.Inventory{Kind: "vm", Where: []string{"height>3"}, Limit: 5})
	require.ErrorAs(t, err, &asked)
	assert.True(t, asked.Of("bad-question"))
	s, err := c.Suspects(ctx, "pool:p2@heron", client.Window{})
	require.NoError(t, err)
	assert.Equal(t, "sonar-tiles-05", s.Tenants[0].Name)
	label, err := c.AddToken(ctx, "mine")
	require.NoError(t, err)
	assert.True(t, strings.HasPrefix(label, "dowse_"))
	tokens, err := c.Tokens(ctx)
	require.NoError(t, err)
	require.Len(t, tokens, 2)
	require.NoError(t, c.RemoveToken(ctx, tokens[1].ID))
}

func TestWhenTheDatabaseIsGone(t *testing.T) {
	st := testbed.Store(t)
	svc := service.New(st, time.Now)
	require.NoError(t, svc.AddAccount(t.Context(), "ops", service.Admin, ""))
	token, err := svc.AddToken(t.Context(), "ops", "x")
	require.NoError(t, err)
	base := testbed.Serve(t, svc, nil)
	st.Close()
	resp, _ := call(t, http.DefaultClient, "GET", base+"/readyz", "")
	assert.Equal(t, http.StatusServiceUnavailable, resp.StatusCode)
	resp, body := call(t, http.DefaultClient, "GET", base+"/api/v1/estate", "", "Authorization", "Bearer "+token)
	assert.Equal(t, http.StatusServiceUnavailable, resp.StatusCode)
	assert.Contains(t, body, "database-unavailable")
	resp, _ = call(t, http.DefaultClient, "GET", base+"/healthz", "")
	assert.Equal(t, 200, resp.StatusCode, "the service itself lives")
	require.ErrorIs(t, st.Ping(t.Context()), store.ErrUnavailable)
}

// The console's types are generated from this description; `make generate` renews both.
func TestTheDescriptionInTheTreeIsCurrent(t *testing.T) {
	text, err := api.OpenAPI()
	require.NoError(t, err)
	kept, err := os.ReadFile(filepath.Join("..", "..", "console", "openapi.json"))
	require.NoError(t, err)
	assert.JSONEq(t, string(text), string(kept), "run  make generate")
}
