package client_test

import (
	"context"
	"net/http"
	"net/http/httptest"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dowsingrod/core/congest"
	"dowsingrod/core/estate"
	"dowsingrod/internal/client"
	"dowsingrod/internal/service"
	"dowsingrod/internal/testbed"
)

func TestMain(m *testing.M) { os.Exit(testbed.Run(m)) }

// answers serves one fixed answer.
func answers(t *testing.T, status int, contentType, body string) *client.Client {
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", contentType)
		w.WriteHeader(status)
		_, _ = w.Write([]byte(body))
	}))
	t.Cleanup(s.Close)
	return client.New(s.URL+"/", "token")
}

func TestProblemsKeepTheirWords(t *testing.T) {
	c := answers(t, 409, "application/problem+json", `{"type":"urn:dowsing-rod:problem:ambiguous-name","title":"Conflict","status":409,"detail":"two of them","errors":[{"message":"could be meant","value":"vm:a"}]}`)
	_, err := c.Overview(t.Context())
	var p *client.Problem
	require.ErrorAs(t, err, &p)
	assert.True(t, p.Of("ambiguous-name"))
	assert.False(t, p.Of("name"))
	assert.Equal(t, "two of them", p.Error())
	assert.Equal(t, "vm:a", p.Errors[0].Value)
	assert.Equal(t, "Conflict", (&client.Problem{Title: "Conflict"}).Error())
}

func TestAnswersThatAreNotTheServices(t *testing.T) {
	_, err := answers(t, 502, "text/html", "<html>Bad gateway</html>").Overview(t.Context())
	assert.ErrorContains(t, err, "is the address right?")
	_, err = answers(t, 200, "text/html", "<html>").Overview(t.Context())
	assert.ErrorContains(t, err, "cannot be read")
	_, err = answers(t, 404, "application/json", `{}`).Overview(t.Context())
	assert.ErrorContains(t, err, "not as this service would")
}

func TestUnreachableAndCancelled(t *testing.T) {
	_, err := client.New("http://127.0.0.1:1", "").Overview(t.Context())
	var gone *client.UnreachableError
	require.ErrorAs(t, err, &gone)
	assert.Contains(t, err.Error(), "127.0.0.1:1")
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	_, err = client.New("http://127.0.0.1:1", "").Overview(ctx)
	assert.ErrorIs(t, err, context.Canceled)
}

func TestEveryRequestCarriesTheToken(t *testing.T) {
	var seen []string
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		seen = append(seen, r.Method+" "+r.URL.Path+" "+r.Header.Get("Authorization"))
		_, _ = w.Write([]byte(`{}`))
	}))
	t.Cleanup(s.Close)
	c := client.New(s.URL, "secret")
	_, _ = c.Overview(t.Context())
	_, _ = c.Import(t.Context(), strings.NewReader("x"), true)
	_ = c.RemoveToken(t.Context(), "a/b")
	require.Len(t, seen, 3)
	for _, line := range seen {
		assert.Contains(t, line, "Bearer secret")
	}
	assert.Contains(t, seen[2], "/tokens/a/b")
}

func TestSigningInLeavesATokenAndNoSession(t *testing.T) {
	svc := service.New(testbed.Store(t), time.Now)
	require.NoError(t, svc.AddAccount(t.Context(), "keeper", service.Viewer, "lighthouse keeper"))
	base := testbed.Serve(t, svc, nil)
	c := client.New(base, "")
	_, err := c.SignIn(t.Context(), "keeper", "wrong wrong wrong", "x")
	var p *client.Problem
	require.ErrorAs(t, err, &p)
	assert.True(t, p.Of("sign-in-refused"))
	token, err := c.SignIn(t.Context(), "keeper", "lighthouse keeper", "on the rocks")
	require.NoError(t, err)
	me, err := client.New(base, token).WhoAmI(t.Context())
	require.NoError(t, err)
	assert.Equal(t, "keeper", me.Name)
	list, err := client.New(base, token).Tokens(t.Context())
	require.NoError(t, err)
	require.Len(t, list, 1)
	assert.Equal(t, "on the rocks", list[0].Label)
	_, err = c.WhoAmI(t.Context())
	assert.Error(t, err, "the client that signed in holds no session itself")
}

// What the client asks of diagnosis comes back as the service says it, and what is refused says why.
func TestDiagnosisThroughTheClient(t *testing.T) {
	d := testbed.LoadWatched(t)
	c := testbed.Client(t, d.Service, service.Operator)
	ctx := t.Context()
	at := func(back time.Duration) string { return d.Anchor.Add(-back).UTC().Format(time.RFC3339) }
	w := client.Window{From: at(2 * time.Hour), To: at(0)}

	x, err := c.Explain(ctx, "vm:manifest-db-02", w)
	require.NoError(t, err)
	require.NotNil(t, x.Verdict.Component)
	assert.Equal(t, "pool:p2@heron", x.Verdict.Component.Ref)
	assert.NotEmpty(t, x.Evidence[0].Trace)
	s, err := c.Survey(ctx, w)
	require.NoError(t, err)
	assert.Len(t, s.Systems, 9)
	n, err := c.Neighbours(ctx, w)
	require.NoError(t, err)
	assert.NotEmpty(t, n.Slowed)
	side, err := c.Compare(ctx, "vm:manifest-db-02", client.Window{From: at(30 * time.Minute), To: at(0)}, "", at(2*time.Hour), at(90*time.Minute))
	require.NoError(t, err)
	assert.Contains(t, side.Differences[0].Name, "heron", "its pool, or the RAID groups of that")
	m, err := c.Measured(ctx, "pool:p2@heron", w)
	require.NoError(t, err)
	assert.Equal(t, "pool:p2@heron", m.Ref)

	list, err := c.Incidents(ctx, w, 5)
	require.NoError(t, err)
	require.NotEmpty(t, list.Incidents)
	id := list.Incidents[0].ID
	one, err := c.Incident(ctx, id)
	require.NoError(t, err)
	assert.Equal(t, id, one.ID)
	one, err = c.Acknowledge(ctx, id, true)
	require.NoError(t, err)
	assert.NotNil(t, one.Acknowledged)
	one, err = c.Acknowledge(ctx, id, false)
	require.NoError(t, err)
	assert.Nil(t, one.Acknowledged)
	one, err = c.Comment(ctx, id, "looked at")
	require.NoError(t, err)
	assert.Equal(t, "looked at", one.Comments[len(one.Comments)-1].Words)

	refused := func(err error, of string) {
		t.Helper()
		var p *client.Problem
		require.ErrorAs(t, err, &p)
		assert.NotEmpty(t, p.Error())
		assert.True(t, p.Of(of), p.Type)
	}
	_, err = c.Explain(ctx, "vm:nobody", w)
	refused(err, "unknown-object")
	_, err = c.Survey(ctx, client.Window{From: at(0), To: at(time.Hour)})
	refused(err, "bad-window")
	_, err = c.Incident(ctx, 1<<40)
	refused(err, "unknown-incident")
	_, err = c.Comment(ctx, id, "   ")
	refused(err, "bad-question")

	// A viewer reads, and changes nothing.
	v := testbed.Client(t, d.Service, service.Viewer)
	_, err = v.Incident(ctx, id)
	require.NoError(t, err)
	_, err = v.Acknowledge(ctx, id, true)
	refused(err, "role-needed")
	_, err = v.Comment(ctx, id, "me too")
	refused(err, "role-needed")
}

func TestLimitsThroughTheClient(t *testing.T) {
	d := testbed.LoadDemo(t)
	c := testbed.Client(t, d.Service, service.Operator)
	ctx := t.Context()
	all, err := c.Limits(ctx, "")
	require.NoError(t, err)
	assert.NotEmpty(t, all.Limits)
	rule := congest.Rule{Kind: estate.Drive, Within: "array:gannet@gannet", Metric: "busy_share", Strained: 0.61, Failing: 0.71}
	changed, err := c.ChangeLimit(ctx, rule, "for a test")
	require.NoError(t, err)
	require.NotEmpty(t, changed.Changes)
	assert.Equal(t, "for a test", changed.Changes[0].Why)
	drives := 0
	for _, l := range changed.Limits {
		if l.Kind == estate.Drive && l.Metric == "busy_share" {
			drives++
			assert.True(t, l.Changed)
			assert.EqualValues(t, 0.61, l.Strained)
		}
	}
	assert.Equal(t, 1, drives, "those in the array, once")
	back, err := c.RestoreLimit(ctx, rule)
	require.NoError(t, err)
	assert.GreaterOrEqual(t, len(back.Changes), len(changed.Changes), "the history keeps it")
	rule.Metric = "colour"
	_, err = c.ChangeLimit(ctx, rule, "for a test")
	var p *client.Problem
	require.ErrorAs(t, err, &p)
	assert.Contains(t, p.Error(), "nothing limits colour")
	st, err := c.Stretches(ctx, "", client.Window{}, 10)
	require.NoError(t, err)
	assert.NotNil(t, st.Stretches)
}
