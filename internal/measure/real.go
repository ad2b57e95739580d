package main

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"log"
	"log/slog"
	"net/http/httptest"
	"os"
	"os/signal"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"dowsingrod/console"
	"dowsingrod/internal/api"
	"dowsingrod/internal/browser"
	"dowsingrod/internal/cli"
	"dowsingrod/internal/client"
	"dowsingrod/internal/collect"
	"dowsingrod/internal/postgres"
	"dowsingrod/internal/rig"
	"dowsingrod/internal/service"
	"dowsingrod/internal/source/sources"
	"dowsingrod/internal/store"
	"dowsingrod/internal/trial"
	"dowsingrod/internal/vault"
)

// real plays the story on running virtual machines: once with a noisy one, once without. With hold it goes on serving
// afterwards, to look around.
func real(hold bool) error {
	ctx, stop := signal.NotifyContext(context.Background(), syscall.SIGINT, syscall.SIGTERM)
	defer stop()
	if missing := rig.Missing(); len(missing) > 0 {
		return fmt.Errorf("the real bench cannot run here; missing: %s", strings.Join(missing, ", "))
	}
	began := time.Now()
	say := func(format string, args ...any) {
		fmt.Printf("%6.1f s  %s\n", time.Since(began).Seconds(), fmt.Sprintf(format, args...))
	}
	w, err := watchtower(ctx)
	if err != nil {
		return err
	}
	defer w.stop()
	pictures := os.Getenv("PICTURES")
	say("starting five machines on a target whose shelf gives 250 I/Os a second")
	r, err := rig.Start(ctx, 5, rig.Options{SpareLUNs: 1})
	if err != nil {
		return err
	}
	defer r.Stop()
	say("they run: %s", r.Version(ctx))
	t := &trial.Trial{Rig: r, Client: w.client, Interval: 5 * time.Second, Stretch: 75 * time.Second, Say: say}
	w.dowse("source", "probe", r.TargetAddress())
	if err := t.Watch(ctx); err != nil {
		return err
	}
	noisy, victim := r.Machines[2], r.Machines[0]

	say("first run: nobody is noisy")
	if err := t.Quiet(ctx); err != nil {
		return err
	}
	w.dowse("source", "list")
	w.dowse("source", "show", trial.Hypervisor)
	w.dowse("suspects", t.Component(), "--from", "-70s")
	say("second run: %s will be noisy", noisy.Name)
	if err := t.Quiet(ctx); err != nil {
		return err
	}
	if err := t.Noisy(ctx, noisy); err != nil {
		return err
	}
	w.dowse("route", victim.Name)
	w.dowse("strata", victim.Name, "--from", "-150s")
	w.dowse("suspects", t.Component(), "--from", "-150s")
	if pictures != "" {
		if err := w.photograph(pictures, t, r); err != nil {
			return err
		}
	}
	if hold {
		w.invite(say)
	}
	if err := t.Limit(ctx, noisy, 40); err != nil {
		return err
	}
	w.dowse("strata", victim.Name, "--from", "-225s")
	if hold {
		say("Ctrl-C ends it")
		<-ctx.Done()
	}
	return nil
}

// tower is a service that collects, with a database of its own.
type tower struct {
	client *client.Client
	svc    *service.Service
	base   string
	token  string
	dir    string
	ends   []func()
}

func (w *tower) stop() {
	for i := len(w.ends) - 1; i >= 0; i-- {
		w.ends[i]()
	}
}

func watchtower(ctx context.Context) (w *tower, err error) {
	w = &tower{}
	defer func() {
		if err != nil {
			w.stop()
		}
	}()
	dir, err := os.MkdirTemp("", "dowse-real-*")
	if err != nil {
		return w, err
	}
	w.dir = dir
	w.ends = append(w.ends, func() { _ = os.RemoveAll(dir) })
	if err := os.Chmod(dir, 0o755); err != nil {
		return w, err
	}
	pg, err := postgres.Start(ctx, postgres.Options{Dir: filepath.Join(dir, "pg")})
	if err != nil {
		return w, err
	}
	w.ends = append(w.ends, pg.Stop)
	st, err := store.Open(ctx, pg.URL)
	if err != nil {
		return w, err
	}
	w.ends = append(w.ends, st.Close)
	w.svc = service.New(st, time.Now)
	v, err := vault.Open(filepath.Join(dir, "key"))
	if err != nil {
		return w, err
	}
	quiet := slog.New(slog.DiscardHandler)
	c := collect.New(w.svc.Sink(), collect.Options{Open: sources.Open, Log: quiet})
	w.svc.Collect(service.Collecting{Vault: v, Open: sources.Open, Changed: c.Refresh})
	within, cancel := context.WithCancel(ctx)
	done := make(chan struct{})
	go func() {
		defer close(done)
		c.Run(within)
	}()
	w.ends = append(w.ends, func() {
		cancel()
		<-done
	})
	server := httptest.NewServer(api.New(api.Config{Service: w.svc, Console: console.Files(), Log: quiet}))
	w.ends = append(w.ends, server.Close)
	if err := w.svc.AddAccount(ctx, "ops", service.Admin, ""); err != nil {
		return w, err
	}
	if w.token, err = w.svc.AddToken(ctx, "ops", "bench"); err != nil {
		return w, err
	}
	w.base, w.client = server.URL, client.New(server.URL, w.token)
	return w, nil
}

// dowse runs the command line as a user would, and prints it with its answer.
func (w *tower) dowse(args ...string) {
	var out, bad bytes.Buffer
	app := &cli.App{Out: &out, Err: &bad}
	status := app.Run(context.Background(), append([]string{"dowse", "--address", w.base, "--token", w.token}, args...))
	fmt.Printf("\n$ dowse %s\n%s%s", strings.Join(args, " "), out.String(), bad.String())
	if status != 0 {
		fmt.Printf("(exit status %d)\n", status)
	}
	fmt.Println()
}

// invite prints how to look at the console.
func (w *tower) invite(say func(string, ...any)) {
	code, err := w.svc.Link(context.Background(), "ops")
	if err != nil {
		log.Print(errors.Unwrap(err))
		return
	}
	say("look at %s/sign-in#%s", w.base, code)
}

// photograph takes pictures of the console while a machine is noisy.
func (w *tower) photograph(dir string, t *trial.Trial, r *rig.Rig) error {
	page, end, err := browser.Open(context.Background(), 1280, 800)
	if err != nil {
		return err
	}
	defer end()
	code, err := w.svc.Link(context.Background(), "ops")
	if err != nil {
		return err
	}
	steps := []struct{ name, path, ready, press string }{
		{"", "/sign-in#" + code, `document.querySelector('h1')?.textContent.includes('complains')`, ""},
		{"real-suspects", "/suspects?of=" + t.Component() + "&from=-3m", `document.querySelectorAll('[data-testid=suspects] svg').length > 5`, ""},
		{"real-strata", "/strata?of=berth-plan&from=-3m", `document.querySelectorAll('[data-testid^=strata] path').length > 4`, ""},
		{"real-sources", "/sources?source=" + trial.Hypervisor, `document.querySelectorAll('[data-testid=sources] table').length > 1`, ""},
	}
	for _, s := range steps {
		if err := page.Go(w.base + s.path); err != nil {
			return err
		}
		if err := page.Until(s.ready); err != nil {
			return err
		}
		if s.press != "" {
			if _, err := browser.Eval[bool](page, `document.querySelector('form input').focus(), true`); err != nil {
				return err
			}
			if err := page.Press(s.press + "\r"); err != nil {
				return err
			}
			if err := page.Until(`document.querySelectorAll('[data-testid=probe] li').length > 6`); err != nil {
				return err
			}
		}
		if s.name == "" {
			continue
		}
		picture, err := page.Picture()
		if err != nil {
			return err
		}
		if err := os.WriteFile(filepath.Join(dir, s.name+".png"), picture, 0o644); err != nil {
			return err
		}
	}
	return nil
}
