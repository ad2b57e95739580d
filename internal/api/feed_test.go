package api_test

import (
	"bytes"
	"compress/gzip"
	"encoding/json"
	"fmt"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dowsingrod/internal/client"
	"dowsingrod/internal/service"
	"dowsingrod/internal/testbed"
)

const small = `{"feed":{"version":1,"source":"own","time":"2026-03-02T09:00:00Z","full":true}}
{"object":{"kind":"vm","id":"a","name":"own-vm"}}
{"reading":{"of":"vm:a","from":"2026-03-02T09:00:00Z","step_s":20,"values":{"busy_share":[0.5,null]}}}
`

func TestFeedsOverHTTP(t *testing.T) {
	svc := service.New(testbed.Store(t), time.Now)
	base := testbed.Serve(t, svc, nil)
	_, token := testbed.Token(t, svc, service.Operator)
	post := func(body string, query string) (*http.Response, string) {
		return call(t, http.DefaultClient, "POST", base+"/api/v1/feed"+query, body, "Authorization", "Bearer "+token, "Content-Type", "application/x-ndjson")
	}
	resp, body := post(small, "")
	require.Equal(t, 200, resp.StatusCode, body)
	var r service.ImportResult
	require.NoError(t, json.Unmarshal([]byte(body), &r))
	assert.True(t, r.Stored)
	assert.EqualValues(t, 1, r.Samples, "null is no reading")
	assert.Equal(t, 3, r.Lines)

	var zipped bytes.Buffer
	z := gzip.NewWriter(&zipped)
	_, _ = z.Write([]byte(small))
	require.NoError(t, z.Close())
	resp, body = post(zipped.String(), "")
	assert.Equal(t, 200, resp.StatusCode, body)

	resp, body = post(small+"{\"cow\":{}}\n", "")
	assert.Equal(t, 422, resp.StatusCode)
	var p client.Problem
	require.NoError(t, json.Unmarshal([]byte(body), &p))
	assert.True(t, p.Of("bad-feed"))
	require.Len(t, p.Errors, 1)
	assert.Equal(t, "line 4", p.Errors[0].Location)
	resp, body = post(small+"{\"cow\":{}}\n", "?skip_bad=true")
	assert.Equal(t, 200, resp.StatusCode)
	assert.Contains(t, body, `"bad_lines":1`)
	resp, body = post("", "")
	assert.Equal(t, 422, resp.StatusCode, body)
}

func TestALargeFeedIsTakenAsAStream(t *testing.T) {
	svc := service.New(testbed.Store(t), time.Now)
	c := testbed.Client(t, svc, service.Operator)
	var b strings.Builder
	b.WriteString(strings.SplitAfter(small, "\n")[0] + strings.SplitAfter(small, "\n")[1])
	row := strings.TrimSuffix(strings.Repeat("0.25,", 1000), ",")
	for i := range 400 { // 400,000 readings over 92 days
		fmt.Fprintf(&b, `{"reading":{"of":"vm:a","from":%q,"step_s":20,"values":{"busy_share":[%s]}}}`+"\n",
			time.Date(2025, 11, 1, 0, 0, 0, 0, time.UTC).Add(time.Duration(i)*20000*time.Second).Format(time.RFC3339), row)
	}
	r, err := c.Import(t.Context(), strings.NewReader(b.String()), false)
	require.NoError(t, err)
	assert.EqualValues(t, 400_000, r.Samples)
	d, err := c.Show(t.Context(), "own-vm", client.Window{From: "2025-11-05T00:00:00Z", To: "2025-11-06T00:00:00Z"})
	require.NoError(t, err)
	require.NotEmpty(t, d.Latest)
	assert.InDelta(t, 0.25, float64(d.Latest[0].Mean), 1e-9)
}

func TestOthersTokensAreTheirOwn(t *testing.T) {
	d := testbed.LoadDemo(t)
	base := testbed.Serve(t, d.Service, nil)
	_, mine := testbed.Token(t, d.Service, service.Viewer)
	_, theirs := testbed.Token(t, d.Service, service.Viewer)
	list := func(token string) []service.TokenInfo {
		all, err := client.New(base, token).Tokens(t.Context())
		require.NoError(t, err)
		return all
	}
	require.Len(t, list(mine), 1)
	require.Len(t, list(theirs), 1)
	err := client.New(base, mine).RemoveToken(t.Context(), list(theirs)[0].ID)
	var p *client.Problem
	require.ErrorAs(t, err, &p)
	assert.Equal(t, 404, p.Status)
	assert.Len(t, list(theirs), 1, "it is still there")
	_, admin := testbed.Token(t, d.Service, service.Admin)
	require.NoError(t, client.New(base, admin).RemoveToken(t.Context(), list(theirs)[0].ID))
	_, err = client.New(base, theirs).WhoAmI(t.Context())
	require.ErrorAs(t, err, &p)
	assert.Equal(t, 401, p.Status)
}

func TestBadParametersSayWhichAndWhy(t *testing.T) {
	d := testbed.LoadDemo(t)
	base := testbed.Serve(t, d.Service, nil)
	_, token := testbed.Token(t, d.Service, service.Admin)
	for path, says := range map[string]string{
		"/find":                                  "query.q",
		"/find?q=x&limit=0":                      "query.limit",
		"/find?q=x&limit=many":                   "query.limit",
		"/objects":                               "query.kind",
		"/strata":                                "query.of",
		"/strata?of=" + strings.Repeat("x", 700): "query.of",
		"/route?of=vm:manifest-db-02&at=soon":    "is not a time",
	} {
		resp, body := call(t, http.DefaultClient, "GET", base+"/api/v1"+path, "", "Authorization", "Bearer "+token)
		assert.Contains(t, []int{400, 422}, resp.StatusCode, path)
		assert.Contains(t, body, says, path)
	}
	for body, status := range map[string]int{`{`: 400, `{"name":"x"}`: 422, `{"name":"ab","role":"king"}`: 422, `{"name":"a b","role":"viewer"}`: 422,
		`{"name":"ab","role":"viewer","password":"short"}`: 422, `{"name":"ab","role":"viewer","more":1}`: 422} {
		resp, text := call(t, http.DefaultClient, "POST", base+"/api/v1/accounts", body, "Authorization", "Bearer "+token)
		assert.Equal(t, status, resp.StatusCode, "%s: %s", body, text)
	}
}

func TestSomebodyElsesServer(t *testing.T) {
	base := testbed.Serve(t, testbed.LoadDemo(t).Service, page)
	_, err := client.New(base+"/section", "x").Overview(t.Context()) // a page, not the interface
	require.Error(t, err)
	assert.Contains(t, err.Error(), "answer")
	_, err = client.New("::not an address", "x").Overview(t.Context())
	require.Error(t, err)
}
