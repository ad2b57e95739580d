// Package pull reads a feed over HTTPS: the exchange format of docs/feed.md, asked for with a token.
//
// The other end may give all it knows at every request or only what changed; it may leave out what we have already,
// told by If-None-Match. What it says twice counts once.
package pull

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"os"
	"slices"
	"strings"
	"syscall"
	"time"

	"dowsingrod/core/estate"
	"dowsingrod/internal/feed"
	"dowsingrod/internal/source"
)

// Bounds on one answer.
const (
	maxBytes   = 256 << 20
	maxObjects = 500_000
	maxValues  = 4 << 20
)

// clockSlack is by how much the other end's clock may differ before its times are put right. HTTP tells its time in
// whole seconds.
const clockSlack = 2 * time.Second

// Source is a feed behind an address. It keeps to the contract of source.Source.
type Source struct {
	settings source.Settings
	address  *url.URL
	client   *http.Client

	shown   *x509.Certificate
	tag     string
	objects map[estate.Ref]feed.Object
	listed  bool
	pending source.Readings
	ahead   time.Duration
	known   bool // whether ahead is
	calls   string
	until   map[string]time.Time // end of the newest value, by series
}

// Open makes a source of settings. It connects to nothing yet.
func Open(s source.Settings) (*Source, error) {
	u, err := url.Parse(s.Address)
	bad := func(why string) (*Source, error) {
		return nil, &source.Trouble{What: fmt.Sprintf("%q is not the address of a feed: %s", s.Address, why), Try: "write it as https://host/path; the token goes into --token"}
	}
	switch {
	case err != nil || u.Host == "":
		return bad("it is no URL")
	case u.User != nil:
		return bad("an address holds no secrets")
	case u.Scheme == "http" && !loopback(u.Hostname()) && s.Secrets.Token != "":
		return bad("a token is not sent without TLS to another machine")
	case u.Scheme != "https" && u.Scheme != "http":
		return bad("the scheme is " + u.Scheme)
	}
	p := &Source{settings: s, address: u, objects: make(map[estate.Ref]feed.Object), until: make(map[string]time.Time)}
	cfg, err := s.TLS(u.Hostname(), func(c *x509.Certificate) { p.shown = c })
	if err != nil {
		return nil, err
	}
	p.client = &http.Client{
		Transport: &http.Transport{TLSClientConfig: cfg, MaxIdleConnsPerHost: 1, ResponseHeaderTimeout: time.Minute, DisableCompression: true, ForceAttemptHTTP2: true},
		CheckRedirect: func(r *http.Request, _ []*http.Request) error {
			if r.URL.Host != u.Host || r.URL.Scheme != u.Scheme {
				return &source.Trouble{What: "it sends us on to " + r.URL.Scheme + "://" + r.URL.Host, Try: "give that address instead, if it is right: the token is only sent to the address given"}
			}
			return nil
		}}
	return p, nil
}

func loopback(host string) bool {
	ip := net.ParseIP(host)
	return host == "localhost" || ip != nil && ip.IsLoopback()
}

// Close implements source.Source.
func (p *Source) Close() error {
	p.client.CloseIdleConnections()
	return nil
}

// get asks for the feed. It returns nil without an error where nothing changed.
func (p *Source) get(ctx context.Context) (*http.Response, error) {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, p.address.String(), nil)
	if err != nil {
		return nil, err
	}
	req.Header.Set("Accept", feed.MediaType)
	req.Header.Set("Accept-Encoding", "zstd, gzip")
	if p.settings.Secrets.Token != "" {
		req.Header.Set("Authorization", "Bearer "+p.settings.Secrets.Token)
	}
	if p.tag != "" {
		req.Header.Set("If-None-Match", p.tag)
	}
	sent := p.settings.Clock()
	res, err := p.client.Do(req)
	if err != nil {
		return nil, p.unreached(err)
	}
	got := p.settings.Clock()
	if date, err := http.ParseTime(res.Header.Get("Date")); err == nil {
		// It was written somewhere between, and cut to whole seconds.
		middle := sent.Add(got.Sub(sent) / 2)
		p.ahead, p.known = date.Add(500*time.Millisecond).Sub(middle), true
	}
	switch res.StatusCode {
	case http.StatusOK:
		return res, nil
	case http.StatusNotModified:
		res.Body.Close()
		return nil, nil
	}
	res.Body.Close()
	return nil, p.refused(res.StatusCode)
}

// refusal marks an answer that concerns who we are.
type refusal struct{ *source.Trouble }

func (r *refusal) Unwrap() error { return r.Trouble }

func (p *Source) refused(status int) error {
	where := p.address.Host + p.address.Path
	switch status {
	case http.StatusUnauthorized:
		return &refusal{&source.Trouble{What: where + " does not accept our token (401)", Try: "give a token that is valid there: it may have been revoked or have run out"}}
	case http.StatusForbidden:
		return &refusal{&source.Trouble{What: "our token may not read " + where + " (403)", Try: "give it that right there, or another token"}}
	case http.StatusNotFound:
		return &source.Trouble{What: "there is nothing at " + where + " (404)", Try: "check the path of the address"}
	case http.StatusTooManyRequests, http.StatusServiceUnavailable:
		return &source.Trouble{What: fmt.Sprintf("%s has no time for us (%d)", where, status), Try: "ask less often (--interval); it is tried again"}
	}
	return &source.Trouble{What: fmt.Sprintf("%s answers with status %d", where, status), Try: "look into its log; it is tried again"}
}

func (p *Source) unreached(err error) error {
	var own *source.Trouble
	if errors.As(err, &own) {
		return own
	}
	if t := source.Distrust(err); t != nil {
		return t
	}
	host := p.address.Host
	t := &source.Trouble{What: "nothing answers at " + host, Try: "check that the exporter runs and that no firewall is between", Err: err}
	var dns *net.DNSError
	var record tls.RecordHeaderError
	switch {
	case errors.As(err, &dns):
		t.What, t.Try = "the name "+dns.Name+" is not known", "check how it is written, or use its IP address"
	case errors.As(err, &record):
		t.What, t.Try = host+" does not speak TLS", "use http:// if it is on this machine, or another port"
	case errors.Is(err, syscall.ECONNREFUSED):
		t.What = "the connection to " + host + " is refused: nobody listens there"
	case errors.Is(err, context.DeadlineExceeded), os.IsTimeout(err):
		t.What, t.Try = host+" did not answer in time", "it may be overloaded; what it would have told is asked for again"
	}
	return t
}

// Inventory implements source.Source. It reads the whole answer and keeps its readings for Readings.
func (p *Source) Inventory(ctx context.Context) (source.Inventory, error) {
	res, err := p.get(ctx)
	if err != nil {
		return source.Inventory{}, err
	}
	now := p.settings.Clock()
	if res == nil {
		return source.Inventory{At: now.Round(0).UTC(), Unchanged: p.listed}, nil
	}
	defer res.Body.Close()
	t, err := p.take(res.Body, now)
	if err != nil {
		return source.Inventory{}, err
	}
	p.objects, p.pending, p.calls = t.objects, t.readings, t.header.Source
	p.tag = res.Header.Get("ETag")
	inv := source.Inventory{At: now.Round(0).UTC(), Unchanged: p.listed && !t.changed}
	p.listed = true
	if !inv.Unchanged {
		for _, o := range p.objects {
			inv.Objects = append(inv.Objects, o)
		}
		slices.SortFunc(inv.Objects, func(a, b feed.Object) int { return strings.Compare(a.Ref().String(), b.Ref().String()) })
	}
	return inv, nil
}

// taken is one answer, read but not yet believed.
type taken struct {
	header   *feed.Header
	objects  map[estate.Ref]feed.Object
	readings source.Readings
	changed  bool
	named    map[estate.Ref]bool
	values   int
}

// take reads an answer. One bad line refuses all of it: what is half understood would look like a change.
func (p *Source) take(body io.Reader, now time.Time) (*taken, error) {
	r, err := feed.NewReader(io.LimitReader(body, maxBytes), now.Add(24*time.Hour)) // its clock is judged below
	if err != nil {
		return nil, p.unreadable(0, err)
	}
	defer r.Close()
	t := &taken{objects: make(map[estate.Ref]feed.Object, len(p.objects))}
	for {
		rec, err := r.Next()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			var network net.Error
			if errors.As(err, &network) || errors.Is(err, context.DeadlineExceeded) {
				return nil, p.unreached(err)
			}
			return nil, p.unreadable(r.Line(), err)
		}
		if why := p.put(t, rec); why != nil {
			return nil, p.unreadable(rec.Line, why)
		}
	}
	if t.header == nil {
		return nil, p.unreadable(0, errors.New("it is empty"))
	}
	p.endHeader(t)
	return t, nil
}

func (p *Source) unreadable(line int, err error) error {
	where := ""
	if line > 0 && !strings.HasPrefix(err.Error(), "line ") {
		where = fmt.Sprintf("line %d: ", line)
	}
	return &source.Trouble{What: "the feed of " + p.address.Host + " cannot be taken: " + where + err.Error(), Try: "correct the exporter; docs/feed.md describes the format", Err: err}
}

// shift puts a time of the other end right by how far its clock is off.
func (p *Source) shift(t time.Time, step time.Duration) time.Time {
	if !p.known || p.ahead.Abs() <= clockSlack {
		return t
	}
	off := p.ahead
	if step > 0 {
		off = off.Round(step) // whole intervals keep the values on the borders they were measured between
	}
	return t.Add(-off)
}

func (p *Source) put(t *taken, rec feed.Record) error {
	switch {
	case rec.Header != nil:
		if t.header != nil && t.header.Source != rec.Header.Source {
			return fmt.Errorf("it holds feeds of two sources, %s and %s; give each an address of its own", t.header.Source, rec.Header.Source)
		}
		p.endHeader(t)
		if t.header == nil && !rec.Header.Full {
			for ref, o := range p.objects { // it tells what changed since
				t.objects[ref] = o
			}
		}
		t.header, t.named = rec.Header, make(map[estate.Ref]bool)
	case rec.Object != nil:
		ref := rec.Object.Ref()
		if t.named[ref] {
			return fmt.Errorf("%s is listed twice", ref)
		}
		if t.named[ref] = true; len(t.objects) >= maxObjects {
			return fmt.Errorf("more than %d objects are listed", maxObjects)
		}
		t.objects[ref] = *rec.Object
	case rec.Gone != nil:
		ref, err := estate.ParseRef(rec.Gone.Ref)
		if err != nil {
			return err
		}
		delete(t.objects, ref)
	case rec.Reading != nil:
		for _, v := range rec.Reading.Values {
			t.values += len(v)
		}
		if t.values > maxValues {
			return fmt.Errorf("more than %d values at once: take the past in with dowse import first", maxValues)
		}
		p.reading(t, rec.Reading)
	case rec.Histogram != nil:
		h := *rec.Histogram
		h.From = p.shift(h.From, time.Duration(h.Step*float64(time.Second)))
		t.readings.Histograms = append(t.readings.Histograms, h)
	case rec.Event != nil:
		e := *rec.Event
		e.Time = p.shift(e.Time, 0)
		t.readings.Events = append(t.readings.Events, e)
	}
	return nil
}

// reading keeps what is new of a run, and nothing that would begin in our future.
func (p *Source) reading(t *taken, r *feed.Reading) {
	step := time.Duration(r.Step * float64(time.Second))
	from := p.shift(r.From, step)
	now := p.settings.Clock()
	for metric, values := range r.Values {
		key := r.Of + " " + metric
		n := len(values)
		for n > 0 && from.Add(time.Duration(n)*step).After(now.Add(clockSlack+step)) {
			n--
		}
		skip := 0
		if until, ok := p.until[key]; ok {
			skip = min(n, max(0, int(until.Sub(from)/step)))
		}
		if n <= skip {
			continue
		}
		p.until[key] = from.Add(time.Duration(n) * step)
		t.readings.Runs = append(t.readings.Runs, feed.Reading{Of: r.Of, From: from.Add(time.Duration(skip) * step), Step: r.Step, Values: map[string]feed.Values{metric: values[skip:n]}})
	}
}

// endHeader drops what a full listing no longer holds.
func (p *Source) endHeader(t *taken) {
	if t.header == nil {
		return
	}
	if t.header.Full {
		for ref := range t.objects {
			if !t.named[ref] {
				delete(t.objects, ref)
			}
		}
	}
	t.changed = len(t.objects) != len(p.objects)
	for ref, o := range t.objects {
		if t.changed {
			break
		}
		old, ok := p.objects[ref]
		t.changed = !ok || !same(&old, &o)
	}
}

// Readings implements source.Source.
func (p *Source) Readings(context.Context) (source.Readings, error) {
	out := p.pending
	p.pending = source.Readings{}
	if p.known && p.ahead.Abs() > clockSlack {
		out.Notes = append(out.Notes, clockWords(p.ahead)+"; its times are put right by that")
	}
	return out, nil
}

func clockWords(ahead time.Duration) string {
	if ahead < 0 {
		return "its clock is " + (-ahead).Round(time.Second).String() + " behind ours"
	}
	return "its clock is " + ahead.Round(time.Second).String() + " ahead of ours"
}

// Watch implements source.Source: a feed tells nothing between requests.
func (p *Source) Watch(ctx context.Context, _ func(source.Happening)) error {
	<-ctx.Done()
	return nil
}

// Probe implements source.Source.
func (p *Source) Probe(ctx context.Context) source.Report {
	var r source.Report
	r.Begin()
	r.Pass(source.StepAddress, p.address.String())
	inv, err := p.Inventory(ctx)
	secured := p.address.Scheme == "https"
	certificate := func() {
		switch {
		case !secured:
			r.Note(source.StepCertificate, "none: what is said here can be read and changed on the way", "use https:// outside this machine")
		case p.settings.Pin != "":
			r.Pass(source.StepCertificate, "it is the pinned one, "+r.Certificate.SHA256[:16]+"…")
		default:
			r.Pass(source.StepCertificate, "it verifies for "+p.address.Hostname()+", until "+r.Certificate.To.Format(time.DateOnly))
		}
	}
	if p.shown != nil {
		r.Certificate = source.Describe(p.shown)
	}
	var who *refusal
	switch {
	case err == nil:
	case source.Distrust(errors.Unwrap(err)) != nil:
		r.Pass(source.StepReachable, p.address.Host+" answers")
		r.Fail(source.StepCertificate, err)
		return r
	case errors.As(err, &who):
		r.Pass(source.StepReachable, p.address.Host+" answers")
		certificate()
		r.Fail(source.StepSignedIn, who.Trouble)
		return r
	case p.known: // it answered, but not with a feed
		r.Pass(source.StepReachable, p.address.Host+" answers")
		certificate()
		r.Pass(source.StepSignedIn, "it accepts us")
		r.Pass(source.StepPermissions, "the address can be read")
		r.Fail(source.StepRecognised, err)
		return r
	default:
		r.Fail(source.StepReachable, err)
		return r
	}
	r.Pass(source.StepReachable, p.address.Host+" answers")
	certificate()
	r.Pass(source.StepSignedIn, "it accepts us")
	r.Pass(source.StepPermissions, "the feed can be read")
	r.Calls, r.Objects = p.calls, inv.Objects
	vms := 0
	for _, o := range inv.Objects {
		if o.Kind == estate.VM {
			vms++
		}
	}
	r.Pass(source.StepRecognised, fmt.Sprintf("a feed that calls itself %s: %d objects, %d of them VMs, %d runs of readings", p.calls, len(inv.Objects), vms, len(p.pending.Runs)))
	switch {
	case !p.known:
		r.Note(source.StepClock, "it does not tell its time", "make sure its clock is set by NTP")
	case p.ahead.Abs() > clockSlack:
		r.ClockAhead = &p.ahead
		r.Note(source.StepClock, clockWords(p.ahead), "set its clock by NTP; until then its times are put right by that much")
	default:
		r.ClockAhead = &p.ahead
		r.Pass(source.StepClock, "its clock and ours agree within 2 s")
	}
	return r
}
