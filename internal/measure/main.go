// Command measure prints the project's figures: `bench` how fast it is, side by side with a plain
// alternative in the same run, `score` how well it diagnoses the lab's estate, whose truth is known.
package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"dowsingrod/internal/api"
	"dowsingrod/internal/client"
	"dowsingrod/internal/feed"
	"dowsingrod/internal/lab"
	"dowsingrod/internal/postgres"
	"dowsingrod/internal/service"
	"dowsingrod/internal/store"
)

func main() {
	slog.SetDefault(slog.New(slog.DiscardHandler))
	what := strings.Join(os.Args[1:], " ")
	ctx := context.Background()
	var err error
	switch what {
	case "bench", "score":
		err = run(what)
	case "collect":
		err = collecting(ctx)
	case "real":
		err = real(false)
	case "real hold":
		err = real(true)
	case "collect-libvirt": // the rest are parts of the above, in processes of their own
		err = manyMachines(ctx)
	case "collect-feeds":
		err = manyFeeds(ctx)
	case "serve-feeds":
		err = serveFeeds()
	case "diagnosis":
		err = diagnosis(ctx)
	case "demo":
		err = demoQuestions(ctx)
	case "estates":
		err = estates(ctx)
	case "labs":
		err = labs(ctx)
	case "lab-week", "lab-live", "lab-incidents", "lab-cost":
		err = labPart(what)
	default:
		if kinds, ok := strings.CutPrefix(what, "tuning "); ok { // measure tuning EACH [KIND …]
			each, _ := strconv.Atoi(strings.Fields(kinds)[0])
			err = tune(each, strings.Fields(kinds)[1:])
			break
		}
		var first, last int
		if n, _ := fmt.Sscanf(what, "calibrate %d %d", &first, &last); n > 0 { // measure calibrate FIRST [LAST]
			err = calibrate(min(8, first), min(8, max(first, last)))
			break
		}
		if part, arg, _ := strings.Cut(what, " "); part == "serve-estate" {
			err = serveEstate(ctx, arg)
			break
		} else if vms, bad := strconv.Atoi(arg); part == "estate" && bad == nil {
			err = estateOf(ctx, vms)
			break
		}
		err = errors.New("usage: measure bench | measure collect | measure diagnosis | measure demo | measure estates | measure labs | measure score | measure tuning EACH [KIND …] | measure calibrate FIRST [LAST] | measure real [hold]")
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, err) // log writes to where slog does, and that is nowhere
		os.Exit(1)
	}
}

// place is a service on a database of its own.
type place struct {
	url    string
	store  *store.Store
	svc    *service.Service
	client *client.Client
	base   string
	token  string
	lab    *lab.Lab
	anchor time.Time
}

func run(what string) error {
	ctx := context.Background()
	dir, err := os.MkdirTemp("", "dowse-measure-*")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	if err := os.Chmod(dir, 0o755); err != nil {
		return err
	}
	pg, err := postgres.Start(ctx, postgres.Options{Dir: dir + "/pg"}) // durable, as in use
	if err != nil {
		return err
	}
	defer pg.Stop()
	st, err := store.Open(ctx, pg.URL)
	if err != nil {
		return err
	}
	defer st.Close()
	p := &place{url: pg.URL, store: st, anchor: lab.Anchor(time.Now())}
	p.svc = service.New(st, func() time.Time { return p.anchor })
	p.lab = lab.New(lab.Seed, p.anchor)
	server := httptest.NewServer(api.New(api.Config{Service: p.svc, Log: slog.New(slog.DiscardHandler)}))
	defer server.Close()
	if err := p.svc.AddAccount(ctx, "measure", service.Admin, ""); err != nil {
		return err
	}
	if p.token, err = p.svc.AddToken(ctx, "measure", "measure"); err != nil {
		return err
	}
	p.base, p.client = server.URL, client.New(server.URL, p.token)
	if what == "score" {
		if err := p.score(ctx); err != nil {
			return err
		}
		return scoreIncidents()
	}
	return p.bench(ctx, dir)
}

func line(kind, name string, value float64, unit string) {
	fmt.Printf("%s %s %.4g %s\n", kind, name, value, unit)
}

func bench(name string, value float64, unit string) { line("BENCH", name, value, unit) }

// write makes the demo estate as a feed file.
func (p *place) write(path string) error {
	f, err := os.Create(path)
	if err != nil {
		return err
	}
	w := feed.NewWriter(f)
	if err := p.lab.Write(p.anchor.Add(-lab.Day), p.anchor, true, w.Write); err != nil {
		return err
	}
	if err := w.Flush(); err != nil {
		return err
	}
	return f.Close()
}

func (p *place) bench(ctx context.Context, dir string) error {
	path := dir + "/demo.ndjson"
	if err := p.write(path); err != nil {
		return err
	}
	took, result, err := p.load(ctx, path)
	if err != nil {
		return err
	}
	samples := float64(result.Samples) / took.Seconds()
	bench("import.demo.objects_per_s", float64(result.Objects)/took.Seconds(), "1/s")
	bench("import.demo.samples_per_s", samples, "1/s")
	plain, err := p.plainImport(ctx, 1_500_000)
	if err != nil {
		return err
	}
	bench("import.demo.samples_per_s.plain", plain, "1/s")
	bench("import.demo.samples_per_s.ratio", samples/plain, "x")
	size, perSample, err := p.size(ctx, result.Samples)
	if err != nil {
		return err
	}
	bench("storage.demo.bytes_per_sample", size, "B")
	bench("storage.demo.bytes_per_sample.plain", perSample, "B")
	bench("storage.demo.bytes_per_sample.ratio", size/perSample, "x")
	for _, q := range []struct {
		name string
		n    int
		ask  string
	}{
		{"route.vm", 200, "/route?of=vm:manifest-db-02"},
		{"route.pool", 100, "/route?of=pool:p2@heron"},
		{"reach.pool", 200, "/reach?of=pool:p2@heron"},
		{"find.name", 200, "/find?q=manifest-db-0"},
		{"strata.vm_24h", 60, "/strata?of=vm:manifest-db-02&from=-24h"},
		{"strata.vm_2h", 60, "/strata?of=vm:manifest-db-02"},
		{"suspects.pool_2h", 40, "/suspects?of=pool:p2@heron"},
		{"section.vm_2h", 40, "/section?of=vm:manifest-db-02"},
	} {
		if err := p.ask(ctx, q.name, q.n, q.ask); err != nil {
			return err
		}
	}
	for _, part := range []string{"diagnosis", "demo"} {
		if err := apart(ctx, part); err != nil {
			return err
		}
	}
	if err := p.pages(ctx); err != nil {
		return err
	}
	if err := collecting(ctx); err != nil {
		return err
	}
	if err := estates(ctx); err != nil {
		return err
	}
	return labs(ctx)
}

func (p *place) load(ctx context.Context, path string) (time.Duration, service.ImportResult, error) {
	f, err := os.Open(path)
	if err != nil {
		return 0, service.ImportResult{}, err
	}
	defer f.Close()
	began := time.Now()
	r, err := p.client.Import(ctx, f, false)
	return time.Since(began), r, err
}

// ask times questions over HTTP on loopback, as the command line asks them, in turn.
func (p *place) ask(ctx context.Context, name string, n int, paths ...string) error {
	one := func(path string) error {
		req, err := http.NewRequestWithContext(ctx, http.MethodGet, p.base+"/api/v1"+path, nil)
		if err != nil {
			return err
		}
		req.Header.Set("Authorization", "Bearer "+p.token)
		resp, err := http.DefaultClient.Do(req)
		if err != nil {
			return err
		}
		defer resp.Body.Close()
		if resp.StatusCode != http.StatusOK {
			return fmt.Errorf("%s: %s", path, resp.Status)
		}
		_, err = io.Copy(io.Discard, resp.Body)
		return err
	}
	if err := one(paths[0]); err != nil { // the first builds the picture of the estate
		return err
	}
	times := make([]time.Duration, n)
	for i := range times {
		began := time.Now()
		if err := one(paths[i%len(paths)]); err != nil {
			return err
		}
		times[i] = time.Since(began)
	}
	slices.Sort(times)
	bench(name+".p50", times[n/2].Seconds()*1e3, "ms")
	bench(name+".p99", times[(n*99+99)/100-1].Seconds()*1e3, "ms")
	return nil
}
