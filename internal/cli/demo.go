package cli

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"os/signal"
	"path/filepath"
	"strconv"
	"syscall"
	"time"

	"github.com/klauspost/compress/zstd"
	"github.com/urfave/cli/v3"

	"dowsingrod/core/phrase"
	"dowsingrod/internal/api"
	"dowsingrod/internal/feed"
	"dowsingrod/internal/lab"
	"dowsingrod/internal/postgres"
	"dowsingrod/internal/service"
	"dowsingrod/internal/store"
)

// demoAccount is who the demo signs in as.
const demoAccount = "ops"

// anchorSetting keeps the moment around which the demo's scenario is laid out.
const anchorSetting = "demo anchor"

func (a *App) demo() *cli.Command {
	return &cli.Command{Name: "demo", Usage: "everything on loopback: a database of its own, the service, and the demo estate",
		Description: "Starts PostgreSQL in a state directory of its own, loads Tidewrack Ferries with a week of readings that\n" +
			"ends now, and goes on from there, and serves. The next start finds the data again. Ctrl-C ends all it started.",
		Flags: []cli.Flag{
			&cli.IntFlag{Name: "port", Value: DefaultPort, Usage: "port to listen on, on loopback", Sources: cli.EnvVars("PORT")},
			&cli.StringFlag{Name: "state", Usage: "state directory", Sources: cli.EnvVars("DOWSE_STATE")},
			&cli.BoolFlag{Name: "reset", Usage: "forget all and start over"},
			&cli.StringFlag{Name: "write", Usage: "write the demo estate as a feed to this file (.ndjson.zst) instead"},
			&cli.BoolFlag{Name: "verbose", Usage: "log every request"},
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			if path := c.String("write"); path != "" {
				return a.writeDemo(path)
			}
			ctx, stop := signal.NotifyContext(ctx, syscall.SIGINT, syscall.SIGTERM)
			defer stop()
			err := a.runDemo(ctx, c)
			if ctx.Err() != nil && errors.Is(err, context.Canceled) {
				return nil
			}
			return err
		}}
}

// stateDir is where the demo keeps its database. Root's home is closed to the user postgres.
func stateDir() (string, error) {
	if os.Geteuid() == 0 {
		return "/var/lib/dowse-demo", nil
	}
	if dir := os.Getenv("XDG_STATE_HOME"); dir != "" {
		return filepath.Join(dir, "dowse-demo"), nil
	}
	home, err := os.UserHomeDir()
	return filepath.Join(home, ".local", "state", "dowse-demo"), err
}

func (a *App) runDemo(ctx context.Context, c *cli.Command) error {
	began := time.Now()
	log := newLog(a.Err, slog.LevelWarn, c.Bool("verbose"))
	step := func(format string, args ...any) {
		fmt.Fprintf(a.Out, "%5.1f s  %s\n", time.Since(began).Seconds(), fmt.Sprintf(format, args...))
	}
	l, err := listen("127.0.0.1:" + strconv.Itoa(c.Int("port")))
	if err != nil {
		return err
	}
	defer l.Close()
	dir := c.String("state")
	if dir == "" {
		if dir, err = stateDir(); err != nil {
			return err
		}
	}
	unlock, err := lock(dir)
	if err != nil {
		return err
	}
	defer unlock()
	if c.Bool("reset") {
		step("forgetting %s", dir)
		if err := postgres.Forget(dir); err != nil {
			return err
		}
	}
	step("starting PostgreSQL in %s", dir)
	pg, err := postgres.Start(ctx, postgres.Options{Dir: dir})
	if err != nil {
		return err
	}
	defer pg.Stop()
	st, err := store.Open(ctx, pg.URL)
	if err != nil {
		return err
	}
	defer st.Close()
	svc := service.New(st, time.Now)
	stopCollecting, err := startCollecting(ctx, svc, filepath.Join(dir, "key"), log)
	if err != nil {
		return err
	}
	defer stopCollecting()
	d := &demoFeed{store: st, service: svc, step: step}
	if err := d.load(ctx); err != nil {
		return err
	}
	if err := svc.Load(ctx); err != nil {
		return err
	}
	address := "http://" + l.Addr().String()
	link, path, err := a.demoAccess(ctx, svc, address)
	if err != nil {
		return err
	}
	a.welcome(address, link, path, began)
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	defer startWatching(ctx, svc, log)()
	fed := make(chan struct{})
	go func() {
		defer close(fed)
		d.follow(ctx)
	}()
	go func() {
		select {
		case <-pg.Done():
			log.Error("the database has ended; restart the demo")
		case <-ctx.Done():
		}
	}()
	err = run(ctx, l, api.Config{Service: svc, Console: a.Console, Log: log})
	cancel()
	<-fed
	fmt.Fprintln(a.Out, "Stopped. The data is kept; make demo finds it again, make demo-reset starts over.")
	return err
}

// lock keeps two demos from one state directory.
func lock(dir string) (func(), error) {
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return nil, fmt.Errorf("the state directory cannot be made; choose another with --state: %w", err)
	}
	f, err := os.OpenFile(filepath.Join(dir, "lock"), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, err
	}
	if err := syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		f.Close()
		return nil, fmt.Errorf("another demo runs on %s: end it, or choose another directory with --state", dir)
	}
	return func() { f.Close() }, nil
}

// demoAccess makes the account, a fresh token for the command line and a fresh sign-in link.
func (a *App) demoAccess(ctx context.Context, svc *service.Service, address string) (link, path string, err error) {
	if err := svc.AddAccount(ctx, demoAccount, service.Admin, ""); err != nil && !errors.Is(err, store.ErrTaken) {
		return "", "", err
	}
	id := service.Identity{Role: service.Admin}
	old, err := svc.Tokens(ctx, id)
	if err != nil {
		return "", "", err
	}
	for _, t := range old {
		if t.Account == demoAccount && t.Label == "demo command line" {
			if err := svc.RemoveToken(ctx, id, t.ID); err != nil {
				return "", "", err
			}
		}
	}
	token, err := svc.AddToken(ctx, demoAccount, "demo command line")
	if err != nil {
		return "", "", err
	}
	if path, err = (config{Address: address, Token: token}).save(); err != nil {
		return "", "", err
	}
	code, err := svc.Link(ctx, demoAccount)
	return address + "/sign-in#" + code, path, err
}

func (a *App) welcome(address, link, path string, began time.Time) {
	fmt.Fprintf(a.Out, `
Ready after %.1f s at %s
Sign in once, within 30 minutes, with this link:

  %s

or look from another terminal (its sign-in is in %s):

  bin/dowse find manifest-db-02
  bin/dowse strata manifest-db-02
  bin/dowse suspects pool:p2@heron

Ctrl-C ends it.
`, time.Since(began).Seconds(), address, link, path)
}

// demoFeed brings the demo estate in and keeps it going.
type demoFeed struct {
	store   *store.Store
	service *service.Service
	step    func(string, ...any)
	lab     *lab.Lab
	next    time.Time
}

// stale is how old the demo's readings may be at a start. Older ones are laid out anew around now, so
// that the demo always ends at the present.
const stale = 20 * time.Minute

func (d *demoFeed) load(ctx context.Context) error {
	now := lab.Anchor(time.Now())
	kept, err := d.store.Setting(ctx, anchorSetting)
	if err != nil {
		return err
	}
	_, end, err := d.store.Extent(ctx)
	if err != nil {
		return err
	}
	if anchor, err := time.Parse(time.RFC3339, kept); err == nil && now.Sub(end) < stale && !end.After(now) {
		d.step("the data is there, up to %s ago", phrase.Span(time.Since(end)))
		d.lab, d.next = lab.New(lab.Seed, anchor), lab.Anchor(end)
		return d.catchUp(ctx)
	}
	d.lab = lab.New(lab.Seed, now)
	if kept != "" {
		d.step("moving the demo's week to now")
		if err := d.store.DropSources(ctx, lab.Names()); err != nil {
			return err
		}
		if err := d.service.ForgetFindings(ctx, lab.Names()); err != nil {
			return err
		}
	}
	d.step("bringing in Tidewrack Ferries: %d objects, a week of readings", d.lab.Objects())
	records, shown := 0, time.Now()
	totals, err := d.service.ImportRecords(ctx, func(write func(feed.Record) error) error {
		return d.lab.WriteWeek(now, func(r feed.Record) error {
			if records++; time.Since(shown) > time.Second && r.Reading != nil {
				shown = time.Now()
				d.step("  up to %s before now", phrase.Span(now.Sub(r.Reading.From)))
			}
			return write(r)
		})
	})
	if err != nil {
		return err
	}
	d.step("%s readings of %d objects are in", phrase.Rate(float64(totals.Samples)), totals.Objects)
	d.next = now
	return d.store.SetSetting(ctx, anchorSetting, now.Format(time.RFC3339))
}

// catchUp brings in what the estate did since.
func (d *demoFeed) catchUp(ctx context.Context) error {
	to := lab.Anchor(time.Now())
	if !d.next.Before(to) {
		return nil
	}
	_, err := d.service.ImportRecords(ctx, func(write func(feed.Record) error) error {
		return d.lab.Write(d.next, to, false, write)
	})
	if err == nil {
		d.next = to
	}
	return err
}

// follow keeps the estate going until ctx ends.
func (d *demoFeed) follow(ctx context.Context) {
	tick := time.NewTicker(20 * time.Second)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
			if err := d.catchUp(ctx); err != nil && ctx.Err() == nil {
				slog.Error("the demo's readings could not be brought in; trying again", "error", err)
			}
		}
	}
}

// writeDemo writes the demo estate as a feed.
func (a *App) writeDemo(path string) error {
	f, err := os.Create(path)
	if err != nil {
		return err
	}
	defer f.Close()
	z, err := zstd.NewWriter(f)
	if err != nil {
		return err
	}
	w := feed.NewWriter(z)
	now := lab.Anchor(time.Now())
	if err := lab.New(lab.Seed, now).WriteWeek(now, w.Write); err != nil {
		return err
	}
	if err := w.Flush(); err != nil {
		return err
	}
	if err := z.Close(); err != nil {
		return err
	}
	fmt.Fprintf(a.Out, "The demo estate as a feed is in %s\n", path)
	return f.Close()
}
