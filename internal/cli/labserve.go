package cli

import (
	"bytes"
	"context"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/signal"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/urfave/cli/v3"

	"dowsingrod/core/phrase"
	"dowsingrod/internal/lab"
	"dowsingrod/internal/lab/live"
	"dowsingrod/internal/service"
)

// labFolder is where a lab that runs leaves its address, token and certificate.
func labFolder(c *cli.Command) string { return c.String("folder") }

var labFolderFlag = &cli.StringFlag{Name: "folder", Usage: "where the lab leaves its address, token and certificate", Value: "lab-live"}

func (a *App) labServe() *cli.Command {
	return &cli.Command{Name: "serve", Usage: "run an estate as time goes on, behind feeds to be pulled",
		Description: "Every source of the estate is a feed at https://HOST:PORT/feeds/SOURCE, for the token in FOLDER/token, under the\n" +
			"certificate in FOLDER/certificate.pem. FOLDER/add.sh adds them all to a service. While it runs, from another terminal:\n" +
			"dowse lab begin FAULT, dowse lab end NUMBER, dowse lab remedy, dowse lab state. Ctrl-C ends it.\n" +
			"With --speed above 1 it begins in the past (--from) and runs towards now; from there on it goes on in real time.",
		Flags: []cli.Flag{
			&cli.IntFlag{Name: "vms", Usage: "number of virtual machines", Value: 200},
			&cli.Uint64Flag{Name: "seed", Usage: "of what is drawn at random", Value: 1},
			&cli.StringFlag{Name: "listen", Usage: "address and port to listen on", Value: "127.0.0.1:7466"},
			&cli.StringFlag{Name: "from", Usage: "when the estate begins, as -2h or RFC 3339", Value: "-10m"},
			&cli.FloatFlag{Name: "speed", Usage: "how many times faster than real time, until it has come to now", Value: 1},
			&cli.DurationFlag{Name: "every", Usage: "interval of the hypervisors, a multiple of 20s", Value: lab.Step},
			&cli.BoolFlag{Name: "perfect", Usage: "let sources have no gaps, no restarts and clocks that are right"},
			labFolderFlag,
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			if c.Args().Present() {
				return wrongUsage("%q is too much: dowse lab serve takes flags only", c.Args().First())
			}
			speed := c.Float("speed")
			if !(speed >= 1 && speed <= 10000) {
				return wrongUsage("--speed is from 1 to 10,000, not %g", speed)
			}
			ctx, stop := signal.NotifyContext(ctx, syscall.SIGINT, syscall.SIGTERM)
			defer stop()
			from, err := service.ParseTime(c.String("from"), time.Now())
			if err != nil {
				return err
			}
			tick := time.Minute
			if every := c.Duration("every"); every > tick {
				tick = every
			}
			l, err := live.New(lab.Options{VMs: c.Int("vms"), Seed: c.Uint64("seed"), From: from, To: time.Now().Add(365 * 24 * time.Hour), Every: c.Duration("every"), Steady: c.Bool("perfect")}, tick)
			if err != nil {
				return wrongUsage("%s", err)
			}
			return a.runLab(ctx, c, l, speed)
		}}
}

func (a *App) runLab(ctx context.Context, c *cli.Command, l *live.Live, speed float64) error {
	listener, err := net.Listen("tcp", c.String("listen"))
	if err != nil {
		return fmt.Errorf("%s cannot be listened on; choose another with --listen: %w", c.String("listen"), err)
	}
	defer listener.Close()
	host, _, _ := net.SplitHostPort(c.String("listen"))
	cert, text, print, err := live.Certificate(host)
	if err != nil {
		return err
	}
	secret := make([]byte, 24)
	if _, err := rand.Read(secret); err != nil {
		return err
	}
	kept := labKept{Address: "https://" + listener.Addr().String(), Token: "lab_" + hex.EncodeToString(secret), Pin: print}
	if err := kept.save(labFolder(c), text, l, c.Duration("every")); err != nil {
		return err
	}
	began, origin := time.Now(), l.Until()
	clock := func() time.Time {
		now := time.Now()
		if at := origin.Add(time.Duration(float64(now.Sub(began)) * speed)); at.Before(now) {
			return at
		}
		return now
	}
	srv := &http.Server{Handler: l.Handler(kept.Token), ReadHeaderTimeout: 10 * time.Second, TLSConfig: &tls.Config{Certificates: []tls.Certificate{cert}, MinVersion: tls.VersionTLS12}}
	failed := make(chan error, 2)
	go func() { failed <- srv.ServeTLS(listener, "", "") }()
	go func() {
		failed <- l.Run(ctx, clock, func(d time.Duration) {
			t := time.NewTimer(min(max(0, time.Duration(float64(d)/speed)), time.Minute))
			defer t.Stop()
			select {
			case <-ctx.Done():
			case <-t.C:
			}
		})
	}()
	fmt.Fprintf(a.Out, "%s at %s, from %s on. Add them to a service with\n\n  sh %s\n\nand let something go wrong with  dowse lab begin neighbour-pool . Ctrl-C ends it.\n",
		phrase.Count(len(l.Sources()), "source", "sources"), kept.Address, origin.Local().Format("Mon 15:04"), filepath.Join(labFolder(c), "add.sh"))
	select {
	case <-ctx.Done():
		err = nil
	case err = <-failed:
	}
	closing, cancel := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
	defer cancel()
	return errors.Join(err, srv.Shutdown(closing))
}

// labKept is what a running lab leaves for who wants to talk to it.
type labKept struct {
	Address string `json:"address"`
	Token   string `json:"token"`
	Pin     string `json:"pin"`
}

func (k labKept) save(dir string, certificate []byte, l *live.Live, every time.Duration) error {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return fmt.Errorf("the folder cannot be made; choose another with --folder: %w", err)
	}
	text, err := json.MarshalIndent(k, "", "  ")
	if err != nil {
		return err
	}
	var add strings.Builder
	fmt.Fprintf(&add, "#!/bin/sh\n# Adds every source of the lab to the service that dowse is signed in to.\nset -e\ncd \"$(dirname \"$0\")\"\n")
	for _, s := range l.Sources() {
		fmt.Fprintf(&add, "${DOWSE:-dowse} source add %s %s/feeds/%s --interval %s --token-file token --pin %s\n", s.Name, k.Address, s.Name, max(every, time.Minute), k.Pin)
	}
	for name, body := range map[string][]byte{"lab.json": text, "token": []byte(k.Token + "\n"), "certificate.pem": certificate, "add.sh": []byte(add.String())} {
		if err := os.WriteFile(filepath.Join(dir, name), body, 0o600); err != nil {
			return err
		}
	}
	return nil
}

// labAsk asks the lab that runs.
func (a *App) labAsk(ctx context.Context, c *cli.Command, method, path string, body, into any) error {
	dir := labFolder(c)
	text, err := os.ReadFile(filepath.Join(dir, "lab.json"))
	if err != nil {
		return fmt.Errorf("no lab left its address in %s: start one with dowse lab serve, or say where with --folder: %w", dir, err)
	}
	var k labKept
	if err := json.Unmarshal(text, &k); err != nil {
		return fmt.Errorf("%s cannot be read: %w", filepath.Join(dir, "lab.json"), err)
	}
	pem, err := os.ReadFile(filepath.Join(dir, "certificate.pem"))
	if err != nil {
		return err
	}
	trusted := x509.NewCertPool()
	trusted.AppendCertsFromPEM(pem)
	var send io.Reader
	if body != nil {
		b, err := json.Marshal(body)
		if err != nil {
			return err
		}
		send = bytes.NewReader(b)
	}
	req, err := http.NewRequestWithContext(ctx, method, k.Address+path, send)
	if err != nil {
		return err
	}
	req.Header.Set("Authorization", "Bearer "+k.Token)
	client := &http.Client{Timeout: time.Minute, Transport: &http.Transport{TLSClientConfig: &tls.Config{RootCAs: trusted, MinVersion: tls.VersionTLS12}}}
	defer client.CloseIdleConnections()
	res, err := client.Do(req)
	if err != nil {
		return fmt.Errorf("the lab at %s does not answer; is dowse lab serve still running? %w", k.Address, err)
	}
	defer res.Body.Close()
	if res.StatusCode != http.StatusOK {
		var p struct{ Detail string }
		if json.NewDecoder(res.Body).Decode(&p) != nil || p.Detail == "" {
			p.Detail = res.Status
		}
		return errors.New(p.Detail)
	}
	return json.NewDecoder(res.Body).Decode(into)
}

func (a *App) labBegin() *cli.Command {
	return &cli.Command{Name: "begin", Usage: "let something go wrong in the lab that runs", ArgsUsage: "FAULT", Flags: []cli.Flag{
		labFolderFlag,
		&cli.IntFlag{Name: "part", Usage: "which part of a large estate"},
		&cli.Uint64Flag{Name: "seed", Usage: "who does what to whom", Value: 1},
		&cli.DurationFlag{Name: "ramp", Usage: "how long it takes to reach its full force"},
		&cli.FloatFlag{Name: "force", Usage: "how bad it is, 1 is usual", Value: 1},
	}, Action: func(ctx context.Context, c *cli.Command) error {
		if c.Args().Len() != 1 {
			return wrongUsage("give one fault: dowse lab faults lists them")
		}
		var b live.Begun
		ask := live.Ask{Fault: c.Args().First(), Part: c.Int("part"), Seed: c.Uint64("seed"), Ramp: c.Duration("ramp").Seconds(), Force: c.Float("force")}
		if err := a.labAsk(ctx, c, http.MethodPost, "/faults", ask, &b); err != nil {
			return err
		}
		if c.Bool("json") {
			return a.printJSON(b)
		}
		fmt.Fprintf(a.Out, "%s. End it with  dowse lab end %d\n", begunWords(b), b.ID)
		return nil
	}}
}

func (a *App) labEnd() *cli.Command {
	return &cli.Command{Name: "end", Usage: "end a fault in the lab that runs", ArgsUsage: "NUMBER", Flags: []cli.Flag{labFolderFlag}, Action: func(ctx context.Context, c *cli.Command) error {
		id, err := strconv.Atoi(c.Args().First())
		if err != nil || c.Args().Len() != 1 {
			return wrongUsage("give the number of a fault: dowse lab state lists them")
		}
		var b live.Begun
		if err := a.labAsk(ctx, c, http.MethodDelete, "/faults/"+strconv.Itoa(id), nil, &b); err != nil {
			return err
		}
		if c.Bool("json") {
			return a.printJSON(b)
		}
		fmt.Fprintf(a.Out, "%s; ended %s\n", begunWords(b), b.To.Local().Format("15:04"))
		return nil
	}}
}

func (a *App) labRemedy() *cli.Command {
	return &cli.Command{Name: "remedy", Usage: "change the estate of the lab that runs, to see whether it helps", ArgsUsage: "KIND OBJECT",
		Description: "limit vdisk:… --value N    allows a disk N I/Os per second, 0 lifts that\n" +
			"move  vdisk:… --to STORE   moves a disk to another datastore\n" +
			"paths host:…               lets a host use both fabrics evenly\n" +
			"depth host:… --value N     gives the LUNs of a host N places each",
		Flags: []cli.Flag{labFolderFlag, &cli.FloatFlag{Name: "value", Usage: "I/Os per second, or places"}, &cli.StringFlag{Name: "to", Usage: "datastore to move to"}},
		Action: func(ctx context.Context, c *cli.Command) error {
			if c.Args().Len() != 2 {
				return wrongUsage("give a kind of remedy (limit, move, paths, depth) and an object, as kind:id@source")
			}
			var done struct {
				Done string `json:"done"`
			}
			r := lab.Remedy{Kind: c.Args().Get(0), Of: c.Args().Get(1), To: c.String("to"), Value: c.Float("value")}
			if err := a.labAsk(ctx, c, http.MethodPost, "/remedies", r, &done); err != nil {
				return err
			}
			if c.Bool("json") {
				return a.printJSON(done)
			}
			fmt.Fprintln(a.Out, done.Done+".")
			return nil
		}}
}

func (a *App) labState() *cli.Command {
	return &cli.Command{Name: "state", Usage: "time, sources and faults of the lab that runs", Flags: []cli.Flag{labFolderFlag}, Action: func(ctx context.Context, c *cli.Command) error {
		var s live.State
		if err := a.labAsk(ctx, c, http.MethodGet, "/state", nil, &s); err != nil {
			return err
		}
		if c.Bool("json") {
			return a.printJSON(s)
		}
		fmt.Fprintf(a.Out, "%s, run up to %s.\n", phrase.Count(len(s.Sources), "source", "sources"), s.Time.Local().Format("Mon 15:04"))
		for _, b := range s.Faults {
			ended := ""
			if !b.To.IsZero() {
				ended = ", ended " + b.To.Local().Format("15:04")
			}
			fmt.Fprintf(a.Out, "%3d  %s%s\n", b.ID, begunWords(b), ended)
		}
		return nil
	}}
}

// begunWords says what a fault is and where.
func begunWords(b live.Begun) string {
	text := fmt.Sprintf("%s (%s) since %s", b.Fault, b.Class, b.From.Local().Format("15:04"))
	if b.At != "" {
		text += " at " + b.At
	}
	if len(b.By) > 0 {
		text += " by " + phrase.List(b.By)
	}
	return text
}
