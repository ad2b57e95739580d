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
