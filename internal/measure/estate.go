package main

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"math/rand/v2"
	"net"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"dowsingrod/console"
	"dowsingrod/core/estate"
	"dowsingrod/core/route"
	"dowsingrod/internal/api"
	"dowsingrod/internal/browser"
	"dowsingrod/internal/client"
	"dowsingrod/internal/feed"
	"dowsingrod/internal/lab/large"
	"dowsingrod/internal/postgres"
	"dowsingrod/internal/service"
	"dowsingrod/internal/store"
)

// estates measures how the map behaves at 10,000 and at 100,000 virtual machines, each in a process of its own.
func estates(ctx context.Context) error {
	exe, err := os.Executable()
	if err != nil {
		return err
	}
	for _, vms := range []string{"10000", "100000"} {
		c := exec.CommandContext(ctx, exe, "estate", vms)
		c.Stdout, c.Stderr = os.Stdout, os.Stderr
		if err := c.Run(); err != nil {
			return fmt.Errorf("estate of %s: %w", vms, err)
		}
	}
	return nil
}

// grounds is a large estate in a database, and the service in a process of its own.
type grounds struct {
	dir, url string
	name     string // before the figures
	vms      int
	store    *store.Store
	first    time.Time // of the first feed
	second   time.Time // of the one in which 1 % differ
	base     string
	token    string
	link     string // signs a browser in, once
	process  *exec.Cmd
	route    time.Duration // of a virtual machine over HTTP, median
	plain    time.Duration // the same, asked of the database
}

func estateOf(ctx context.Context, vms int) error {
	dir, err := os.MkdirTemp("", "dowse-measure-*")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	if err := os.Chmod(dir, 0o755); err != nil {
		return err
	}
	pg, err := postgres.Start(ctx, postgres.Options{Dir: dir + "/pg"})
	if err != nil {
		return err
	}
	defer pg.Stop()
	now := time.Now().UTC().Truncate(time.Second)
	g := &grounds{dir: dir, url: pg.URL, vms: vms, name: fmt.Sprintf("estate_%dk.", vms/1000), first: now.Add(-2 * time.Hour), second: now.Add(-time.Hour)}
	if g.store, err = store.Open(ctx, pg.URL); err != nil {
		return err
	}
	defer g.store.Close()
	for _, step := range []func(context.Context) error{g.imports, g.asked, g.core, g.plainRoute} {
		if err := step(ctx); err != nil {
			return err
		}
	}
	return nil
}

func (g *grounds) bench(name string, value float64, unit string) { bench(g.name+name, value, unit) }

func (g *grounds) write(path string, at time.Time, changed float64) (int, error) {
	f, err := os.Create(path)
	if err != nil {
		return 0, err
	}
	w := feed.NewWriter(f)
	n, err := large.Write(large.Options{VMs: g.vms, Seed: 1, Time: at, Changed: changed}, w.Write)
	if err == nil {
		err = w.Flush()
	}
	return n, errors.Join(err, f.Close())
}

// serve starts the service in a process of its own, and returns how long it took until it was ready.
func (g *grounds) serve(ctx context.Context) (time.Duration, error) {
	exe, err := os.Executable()
	if err != nil {
		return 0, err
	}
	g.process = exec.CommandContext(ctx, exe, "serve-estate", g.url)
	g.process.Stderr = os.Stderr
	out, err := g.process.StdoutPipe()
	if err != nil {
		return 0, err
	}
	began := time.Now()
	if err := g.process.Start(); err != nil {
		return 0, err
	}
	text, err := bufio.NewReader(out).ReadString('\n')
	if err != nil {
		return 0, err
	}
	took := time.Since(began)
	words := strings.Fields(text)
	if len(words) != 3 {
		return 0, fmt.Errorf("the service said %q", text)
	}
	g.base, g.token, g.link = words[0], words[1], words[2]
	return took, nil
}

func (g *grounds) stop() {
	_ = g.process.Process.Signal(syscall.SIGTERM)
	_ = g.process.Wait()
}

// serveEstate is the service as `dowse serve` runs it.
func serveEstate(ctx context.Context, url string) error {
	st, err := store.Open(ctx, url)
	if err != nil {
		return err
	}
	defer st.Close()
	svc := service.New(st, time.Now)
	if err := svc.Load(ctx); err != nil {
		return err
	}
	if err := svc.AddAccount(ctx, "measure", service.Admin, ""); err != nil && !errors.Is(err, store.ErrTaken) {
		return err
	}
	token, err := svc.AddToken(ctx, "measure", "measure")
	if err != nil {
		return err
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return err
	}
	code, err := svc.Link(ctx, "measure")
	if err != nil {
		return err
	}
	fmt.Printf("http://%s %s %s\n", l.Addr(), token, code)
	return http.Serve(l, api.New(api.Config{Service: svc, Console: console.Files(), Log: slog.New(slog.DiscardHandler)}))
}

// memory returns the resident memory of a process now and at its highest, in bytes.
func memory(pid int) (now, peak float64) {
	text, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	if err != nil {
		return 0, 0
	}
	for line := range strings.Lines(string(text)) {
		f := strings.Fields(line)
		if len(f) < 2 {
			continue
		}
		kb, _ := strconv.ParseFloat(f[1], 64)
		switch f[0] {
		case "VmRSS:":
			now = kb * 1024
		case "VmHWM:":
			peak = kb * 1024
		}
	}
	return now, peak
}

func (g *grounds) imports(ctx context.Context) error {
	path := g.dir + "/estate.ndjson"
	objects, err := g.write(path, g.first, 0)
	if err != nil {
		return err
	}
	g.bench("objects", float64(objects), "objects")
	if _, err := g.serve(ctx); err != nil {
		return err
	}
	defer g.stop()
	cl := client.New(g.base, g.token)
	bring := func(name string) error {
		f, err := os.Open(path)
		if err != nil {
			return err
		}
		defer f.Close()
		began := time.Now()
		r, err := cl.Import(ctx, f, false)
		if err != nil {
			return err
		}
		g.bench(name, time.Since(began).Seconds(), "s")
		g.bench(name+".written", float64(r.Changed+r.Gone), "objects")
		return nil
	}
	if err := bring("import.first"); err != nil {
		return err
	}
	if _, err := g.write(path, g.second, 0.01); err != nil {
		return err
	}
	if err := bring("import.changed"); err != nil {
		return err
	}
	_, peak := memory(g.process.Process.Pid)
	g.bench("import.peak_memory", peak/1e6, "MB")
	return os.Remove(path)
}

// asked asks the running service over HTTP.
func (g *grounds) asked(ctx context.Context) error {
	took, err := g.serve(ctx)
	if err != nil {
		return err
	}
	defer g.stop()
	g.bench("load", took.Seconds(), "s")
	_, peak := memory(g.process.Process.Pid)
	g.bench("load.peak_memory", peak/1e6, "MB")
	r := rand.New(rand.NewPCG(1, 1))
	vm := func() string { return fmt.Sprintf("vm:vm-%06d", 1+r.IntN(g.vms)) }
	pool, err := g.crowded(ctx)
	if err != nil {
		return err
	}
	for _, then := range []struct {
		name string
		at   []time.Time
	}{{"", nil}, {".past", []time.Time{g.first.Add(time.Minute), g.first.Add(30 * time.Minute), g.second.Add(-time.Second)}}} {
		at := func() string {
			if then.at == nil {
				return ""
			}
			return "&at=" + then.at[r.IntN(len(then.at))].Format(time.RFC3339)
		}
		for _, q := range []struct {
			name string
			n    int
			ask  func() string
		}{
			{"route.vm", 500, func() string { return "/route?fold=12&of=" + vm() + at() }},
			{"reach.pool", 300, func() string { return "/reach?limit=300&of=" + url.QueryEscape(pool) + at() }},
			{"find.typed", 300, func() string { return "/find?q=" + url.QueryEscape(typed(r, g.vms)) + at() }},
		} {
			if err := g.ask(ctx, q.name+then.name, q.ask, q.n); err != nil {
				return err
			}
		}
	}
	if err := g.drawn(ctx, pool); err != nil {
		return err
	}
	now, _ := memory(g.process.Process.Pid)
	g.bench("memory", now/1e6, "MB")
	e, err := g.estate(ctx)
	if err != nil {
		return err
	}
	g.bench("memory.per_object", now/float64(e.Count()), "B")
	return nil
}

// drawn times the section of a pool in a browser, and how long its frames take while the pointer moves over it and the page
// is scrolled.
func (g *grounds) drawn(ctx context.Context, pool string) error {
	page, end, err := browser.Open(ctx, 1280, 800)
	if err != nil {
		return err
	}
	defer end()
	if err := page.Go(g.base + "/sign-in#" + g.link); err != nil {
		return err
	}
	if err := page.Until(`!!document.querySelector('nav a')`); err != nil {
		return err
	}
	worst := time.Duration(0)
	for range 5 {
		began := time.Now()
		if err := page.Go(g.base + "/section?of=" + url.QueryEscape(pool)); err != nil {
			return err
		}
		if err := page.Until(`document.querySelectorAll('[data-testid=section] li').length > 8`); err != nil {
			return err
		}
		worst = max(worst, time.Since(began))
	}
	g.bench("page.section.pool.worst_of_5", worst.Seconds(), "s")
	if _, err := browser.Eval[bool](page, `(() => {
		window.frames_ = []; let last = performance.now();
		const tick = (t) => { window.frames_.push(t - last); last = t; if (window.frames_.length < 2000) requestAnimationFrame(tick); };
		requestAnimationFrame(tick); return true; })()`); err != nil {
		return err
	}
	for k := range 60 {
		if err := page.Move(float64(260+(k*37)%800), float64(150+(k*53)%560)); err != nil {
			return err
		}
		if k%10 == 9 {
			if _, err := browser.Eval[bool](page, fmt.Sprintf(`(window.scrollTo(0, %d), true)`, (k%20)*20)); err != nil {
				return err
			}
		}
	}
	frame, err := browser.Eval[float64](page, `Math.max(...window.frames_.slice(2))`)
	if err != nil {
		return err
	}
	g.bench("page.section.pool.worst_frame", frame, "ms")
	return nil
}

// typed is what somebody has typed so far: the beginning of a name, an identifier in one of its notations, a LUN number.
func typed(r *rand.Rand, vms int) string {
	whole := []string{fmt.Sprintf("manifest-%06d", r.IntN(vms)), fmt.Sprintf("naa.600d05e%09x", r.Uint64()>>28), "lighthouse-00" + strconv.Itoa(r.IntN(90)+10),
		fmt.Sprintf("50:0d:%02x:%02x:%02x", r.IntN(256), r.IntN(256), r.IntN(256)), "LUN " + strconv.Itoa(r.IntN(100)), "ds-carrageen-0", "0x" + fmt.Sprintf("%08x", r.Uint32()), "heron-01"}[r.IntN(8)]
	return whole[:1+r.IntN(len(whole))]
}

func (g *grounds) ask(ctx context.Context, name string, path func() string, n int) error {
	var times []time.Duration
	for range n {
		p := path()
		req, err := http.NewRequestWithContext(ctx, http.MethodGet, g.base+"/api/v1"+p, nil)
		if err != nil {
			return err
		}
		req.Header.Set("Authorization", "Bearer "+g.token)
		began := time.Now()
		resp, err := http.DefaultClient.Do(req)
		if err != nil {
			return err
		}
		_, err = io.Copy(io.Discard, resp.Body)
		_ = resp.Body.Close()
		if err != nil {
			return err
		}
		times = append(times, time.Since(began))
		if resp.StatusCode != http.StatusOK {
			return fmt.Errorf("%s: %s", p, resp.Status)
		}
	}
	g.times(name+".http", times)
	if name == "route.vm" {
		g.route = times[len(times)/2]
	}
	return nil
}

func (g *grounds) times(name string, times []time.Duration) {
	n := len(times)
	slices.Sort(times)
	g.bench(name+".p50", times[n/2].Seconds()*1e3, "ms")
	g.bench(name+".p99", times[(n*99+99)/100-1].Seconds()*1e3, "ms")
}

func (g *grounds) estate(ctx context.Context) (*estate.Estate, error) {
	nodes, err := g.store.Estate(ctx, time.Time{})
	if err != nil {
		return nil, err
	}
	return estate.Of(len(nodes), slices.Values(nodes)), nil
}

// crowded names the pool with about 5,000 virtual machines above it, or the most there are.
func (g *grounds) crowded(ctx context.Context) (string, error) {
	e, err := g.estate(ctx)
	if err != nil {
		return "", err
	}
	m := route.NewMap(e)
	best, at := -1, int32(0)
	for _, p := range e.OfKind(estate.Pool) {
		n := len(m.VMs(p))
		if best < 0 || abs(n-5000) < abs(best-5000) {
			best, at = n, p
		}
	}
	g.bench("reach.pool.vms", float64(best), "VMs")
	return e.At(at).Key.String(), nil
}

func abs(n int) int { return max(n, -n) }

// core asks the same questions of the map itself.
func (g *grounds) core(ctx context.Context) error {
	pool, err := g.crowded(ctx)
	if err != nil {
		return err
	}
	now, err := g.estate(ctx)
	if err != nil {
		return err
	}
	var c estate.Change
	if err := g.store.Differences(ctx, g.first.Add(30*time.Minute), c.Take); err != nil {
		return err
	}
	began := time.Now()
	past := now.With(c)
	g.bench("picture.past", time.Since(began).Seconds()*1e3, "ms")
	for _, then := range []struct {
		name string
		e    *estate.Estate
	}{{"", now}, {".past", past}} {
		m := route.NewMap(then.e)
		r := rand.New(rand.NewPCG(2, 1))
		vms := then.e.OfKind(estate.VM)
		p, err := then.e.Resolve(pool)
		if err != nil {
			return err
		}
		for _, q := range []struct {
			name string
			n    int
			ask  func()
		}{
			{"route.vm", 2000, func() { m.Cut(vms[r.IntN(len(vms))], route.Folding{Most: 12}) }},
			{"reach.pool", 300, func() { m.Reach(p) }},
			{"lose.pool", 50, func() { m.Lose(p) }},
			{"find.typed", 500, func() { then.e.Find(typed(r, g.vms), "", 20) }},
		} {
			q.ask()
			runtime.GC() // what collecting costs is in the figures over HTTP
			var times []time.Duration
			for range q.n {
				began := time.Now()
				q.ask()
				times = append(times, time.Since(began))
			}
			g.times(q.name+then.name+".core", times)
		}
	}
	return nil
}
