package live_test

import (
	"bytes"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"io"
	"net/http"
	"net/http/httptest"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dowsingrod/internal/feed"
	"dowsingrod/internal/lab"
	"dowsingrod/internal/lab/live"
)

var noon = time.Date(2026, 3, 2, 12, 0, 0, 0, time.UTC)

const token = "lab_test"

// place is a lab behind HTTPS on loopback.
type place struct {
	*live.Live
	t      *testing.T
	url    string
	client *http.Client
}

func serve(t *testing.T) *place {
	l, err := live.New(lab.Options{VMs: 120, Seed: 3, From: noon, To: noon.Add(24 * time.Hour), Steady: true}, time.Minute)
	require.NoError(t, err)
	cert, text, print, err := live.Certificate()
	require.NoError(t, err)
	assert.Len(t, print, 64)
	s := httptest.NewUnstartedServer(l.Handler(token))
	s.TLS = &tls.Config{Certificates: []tls.Certificate{cert}}
	s.StartTLS()
	t.Cleanup(s.Close)
	trusted := x509.NewCertPool()
	require.True(t, trusted.AppendCertsFromPEM(text))
	return &place{l, t, s.URL, &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{RootCAs: trusted}}}}
}

func (p *place) ask(method, path, token string, body any) (int, []byte) {
	p.t.Helper()
	b, err := json.Marshal(body)
	require.NoError(p.t, err)
	req, err := http.NewRequestWithContext(p.t.Context(), method, p.url+path, bytes.NewReader(b))
	require.NoError(p.t, err)
	req.Header.Set("Authorization", "Bearer "+token)
	res, err := p.client.Do(req)
	require.NoError(p.t, err)
	defer res.Body.Close()
	out, err := io.ReadAll(res.Body)
	require.NoError(p.t, err)
	return res.StatusCode, out
}

// mean returns the mean of a metric of an object over the last minutes of a feed, and where a link of it leads.
func (p *place) mean(source, of, metric string, last int) (mean float64, objects map[string]*feed.Object) {
	p.t.Helper()
	status, text := p.ask(http.MethodGet, "/feeds/"+source, token, nil)
	require.Equal(p.t, http.StatusOK, status)
	r, err := feed.NewReader(bytes.NewReader(text), p.Until().Add(time.Hour))
	require.NoError(p.t, err)
	defer r.Close()
	objects = map[string]*feed.Object{}
	var values []float64
	for {
		rec, err := r.Next()
		if err == io.EOF {
			break
		}
		require.NoError(p.t, err)
		switch {
		case rec.Object != nil:
			objects[rec.Object.Ref().String()] = rec.Object
		case rec.Reading != nil && rec.Reading.Of == of:
			values = append(values, rec.Reading.Values[metric]...)
		}
	}
	require.GreaterOrEqual(p.t, len(values), last, "%s of %s", metric, of)
	sum := 0.0
	for _, v := range values[len(values)-last:] {
		sum += v
	}
	return sum / float64(last), objects
}

func TestFaultsAndRemediesTakeEffectWhileItRuns(t *testing.T) {
	p := serve(t)
	require.NoError(t, p.Advance(noon.Add(10*time.Minute)))
	status, b := p.ask(http.MethodPost, "/faults", token, live.Ask{Fault: "neighbour-pool", Seed: 3})
	require.Equal(t, http.StatusOK, status, string(b))
	var begun live.Begun
	require.NoError(t, json.Unmarshal(b, &begun))
	require.Len(t, begun.By, 1)
	var culprit, hyp string
	for k := range begun.By[0] {
		if begun.By[0][k] == '@' {
			culprit, hyp = begun.By[0][3:k], begun.By[0][k+1:]
		}
	}
	disk := "vdisk:" + culprit + "-0"
	before, _ := p.mean(hyp, disk, "read_iops", 10)
	require.NoError(t, p.Advance(noon.Add(20*time.Minute)))
	during, _ := p.mean(hyp, disk, "read_iops", 10)
	assert.Greater(t, during, 3*before, "the culprit asks for more")

	status, b = p.ask(http.MethodPost, "/remedies", token, lab.Remedy{Kind: "limit", Of: disk + "@" + hyp, Value: 50})
	require.Equal(t, http.StatusOK, status, string(b))
	require.NoError(t, p.Advance(noon.Add(25*time.Minute)))
	limited, objects := p.mean(hyp, disk, "read_iops", 10)
	assert.LessOrEqual(t, limited, 101.0, "both of its loads are limited")
	assert.EqualValues(t, 50, objects[disk].Facts["iops_limit"], "and the source says so")

	status, _ = p.ask(http.MethodDelete, "/faults/1", token, nil)
	require.Equal(t, http.StatusOK, status)
	status, b = p.ask(http.MethodDelete, "/faults/1", token, nil)
	assert.Equal(t, http.StatusNotFound, status)
	assert.Contains(t, string(b), "no fault 1 is under way")
	status, _ = p.ask(http.MethodPost, "/remedies", token, lab.Remedy{Kind: "limit", Of: disk + "@" + hyp})
	require.Equal(t, http.StatusOK, status)
	require.NoError(t, p.Advance(noon.Add(35*time.Minute)))
	after, _ := p.mean(hyp, disk, "read_iops", 10)
	assert.InEpsilon(t, before, after, 0.5, "as before")
	status, b = p.ask(http.MethodGet, "/state", token, nil)
	require.Equal(t, http.StatusOK, status)
	var s live.State
	require.NoError(t, json.Unmarshal(b, &s))
	assert.Len(t, s.Sources, 7)
	require.Len(t, s.Faults, 1)
	assert.False(t, s.Faults[0].To.IsZero())
	assert.True(t, s.Time.Equal(noon.Add(35*time.Minute)))
}

func TestADiskMovesToWhereItIsTold(t *testing.T) {
	p := serve(t)
	require.NoError(t, p.Advance(noon.Add(5*time.Minute)))
	_, objects := p.mean("hyp-northmole", "host:h-01", "busy_share", 5)
	var disk, from, to string
	for ref, o := range objects {
		if on := o.Links["stored_on"]; o.Kind == "vdisk" && disk == "" && len(on) == 1 && objects[on[0]] != nil && objects[on[0]].Name[:7] == "ds-kelp" {
			disk, from = ref, on[0]
		}
	}
	require.NotEmpty(t, disk)
	for ref, o := range objects {
		if o.Kind == "datastore" && ref != from && o.Name[:8] == "ds-dulse" {
			to = ref
		}
	}
	status, b := p.ask(http.MethodPost, "/remedies", token, lab.Remedy{Kind: "move", Of: disk + "@hyp-northmole", To: to})
	require.Equal(t, http.StatusOK, status, string(b))
	require.NoError(t, p.Advance(noon.Add(10*time.Minute)))
	_, objects = p.mean("hyp-northmole", "host:h-01", "busy_share", 5)
	assert.Equal(t, []string{to}, objects[disk].Links["stored_on"])
}

func TestWhatCannotBeDoneIsRefused(t *testing.T) {
	p := serve(t)
	require.NoError(t, p.Advance(noon.Add(2*time.Minute)))
	for _, c := range []struct {
		method, path, token string
		body                any
		status              int
		says                string
	}{
		{http.MethodGet, "/state", "other", nil, http.StatusUnauthorized, "send the token"},
		{http.MethodGet, "/feeds/nobody", token, nil, http.StatusNotFound, "no such source"},
		{http.MethodPost, "/faults", token, live.Ask{Fault: "gremlins"}, http.StatusUnprocessableEntity, "no fault is called"},
		{http.MethodPost, "/faults", token, live.Ask{Fault: "limit", Part: 7}, http.StatusUnprocessableEntity, "parts 0 to 0"},
		{http.MethodPost, "/faults", token, live.Ask{Fault: "limit", Force: 99}, http.StatusUnprocessableEntity, "a force is from"},
		{http.MethodPost, "/faults", token, map[string]any{"what": 1}, http.StatusBadRequest, "cannot be read"},
		{http.MethodDelete, "/faults/x", token, nil, http.StatusBadRequest, "by its number"},
		{http.MethodPost, "/remedies", token, lab.Remedy{Kind: "pray", Of: "vdisk:a@hyp-northmole"}, http.StatusUnprocessableEntity, "limit, move, paths or depth"},
		{http.MethodPost, "/remedies", token, lab.Remedy{Kind: "limit", Of: "vdisk:a@hyp-northmole"}, http.StatusUnprocessableEntity, "no virtual disk"},
		{http.MethodPost, "/remedies", token, lab.Remedy{Kind: "depth", Of: "host:h-01@hyp-northmole", Value: 0}, http.StatusUnprocessableEntity, "from 1 to 4096"},
		{http.MethodPost, "/remedies", token, lab.Remedy{Kind: "paths", Of: "host:h-99@nobody"}, http.StatusUnprocessableEntity, "no source"},
	} {
		status, b := p.ask(c.method, c.path, c.token, c.body)
		assert.Equal(t, c.status, status, "%s %s: %s", c.method, c.path, b)
		assert.Contains(t, string(b), c.says)
	}
	_, err := live.New(lab.Options{VMs: 120, From: noon, To: noon.Add(time.Hour)}, 30*time.Second)
	assert.Error(t, err)
}
