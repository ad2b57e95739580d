// Command screens makes the pictures in docs/screenshots from a fresh demo: the console's pages in
// headless Chromium, the command line in a terminal window under Xvfb.
package main

import (
	"context"
	"flag"
	"fmt"
	"log"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"dowsingrod/internal/browser"
	"dowsingrod/internal/demo"
)

func main() {
	out := flag.String("out", "docs/screenshots", "where to put the pictures")
	only := flag.String("only", "", "only pictures whose name holds this")
	flag.Parse()
	if err := run(*out, *only); err != nil {
		log.Fatal(err)
	}
}

func run(out, only string) error {
	if err := os.MkdirAll(out, 0o755); err != nil {
		return err
	}
	home, err := os.MkdirTemp("", "dowse-screens-*")
	if err != nil {
		return err
	}
	defer os.RemoveAll(home)
	if err := os.Chmod(home, 0o755); err != nil { // the database runs as another user
		return err
	}
	d, err := demo.Start(home, 7469)
	if err != nil {
		return err
	}
	defer d.Stop()
	if err := pages(out, only, d); err != nil {
		return err
	}
	if err := terminals(out, only, d); err != nil {
		return err
	}
	if !strings.Contains("lab-knee lab-credits lab-victim", only) {
		return nil
	}
	if text, err := exec.Command("bin/dowse", "lab", "figures", "--out", out).CombinedOutput(); err != nil {
		return fmt.Errorf("figures: %w: %s", err, text)
	}
	return nil
}

// shot is a picture: an address, what must be there, and what to do before it is taken.
type shot struct {
	name, path, until string
	dark              bool
	before            func(*browser.Page) error
}

const settled = `!document.querySelector('[role=status]') && document.fonts.status === 'loaded'`

func pages(out, only string, d *demo.Demo) error {
	p, end, err := browser.Open(context.Background(), 1280, 800)
	if err != nil {
		return err
	}
	defer end()
	drawn := `document.querySelector('[data-testid=section] li') && document.querySelector('[data-testid^=strata] path')`
	shots := []shot{
		{name: "", path: strings.TrimPrefix(d.Link, d.Address), until: `document.querySelector('h1')?.textContent.startsWith('Survey')`},
		{name: "survey", path: "/", until: `document.querySelectorAll('[data-testid=incidents] li').length > 0 && document.querySelectorAll('[data-testid=strip]').length > 5`},
		{name: "incidents", path: "/incidents", until: `document.querySelectorAll('[data-testid=incident-list] li').length > 4`},
		{name: "explain", path: "/explain?of=vm:manifest-db-02", until: `document.querySelectorAll('[data-testid=evidence] tr').length > 2 && document.querySelectorAll('[data-testid^=strata] path').length > 4`},
		{name: "section", path: "/section?of=vm:manifest-db-02", until: drawn},
		{name: "section-dark", path: "/section?of=vm:manifest-db-02", until: drawn, dark: true},
		{name: "strata", path: "/strata?of=vm:manifest-db-02", until: `document.querySelectorAll('[data-testid^=strata] path').length > 8`, before: func(p *browser.Page) error { return p.Move(1150, 250) }},
		{name: "suspects", path: "/suspects?of=pool:p2@heron", until: `document.querySelector('[data-testid=suspects] svg')`},
		{name: "compare", path: "/compare?of=vm:manifest-db-02&beside=before", until: `document.querySelectorAll('[data-testid=differences] li').length > 5`},
		{name: "readings", path: "/readings?of=pool:p2@heron&from=-8h", until: `document.querySelectorAll('[data-testid=measured]').length > 6 && document.body.innerText.includes('Bands are of')`},
		{name: "limits", path: "/limits", until: `document.querySelectorAll('[data-testid=passed] li').length > 3`},
		{name: "reach", path: "/reach?of=array:heron", until: `document.querySelectorAll('[data-testid=reach] tr').length > 20`},
		{name: "changes", path: "/changes?from=-12h", until: `document.querySelectorAll('[data-testid=changes] li').length > 5`},
		{name: "inventory", path: "/inventory?kind=volume&sort=-hosts", until: `document.querySelectorAll('[role=row]').length > 10`},
	}
	for _, s := range shots {
		if s.name != "" && !strings.Contains(s.name, only) {
			continue
		}
		if err := p.Go(d.Address + s.path); err != nil {
			return err
		}
		theme := "light"
		if s.dark {
			theme = "dark"
		}
		if _, err := browser.Eval[bool](p, `document.documentElement.dataset.theme = "`+theme+`", true`); err != nil {
			return err
		}
		if err := p.Until(settled + " && " + s.until); err != nil {
			return fmt.Errorf("%s: %w", s.name, err)
		}
		if s.before != nil {
			if err := s.before(p); err != nil {
				if picture, e := p.Picture(); e == nil {
					_ = os.WriteFile(filepath.Join(os.TempDir(), "failed.png"), picture, 0o644)
				}
				return err
			}
		}
		if s.name == "" {
			continue
		}
		picture, err := p.Picture()
		if err != nil {
			return err
		}
		if err := os.WriteFile(filepath.Join(out, s.name+".png"), picture, 0o644); err != nil {
			return err
		}
	}
	return nil
}

// terminals shows commands in a terminal window of 100 columns.
func terminals(out, only string, d *demo.Demo) error {
	for name, command := range map[string]string{
		"cli-explain": "dowse explain manifest-db-02 --limit 2",
	} {
		if !strings.Contains(name, only) {
			continue
		}
		if err := terminal(filepath.Join(out, name+".png"), command, d); err != nil {
			return fmt.Errorf("%s: %w", name, err)
		}
	}
	return nil
}

func terminal(path, command string, d *demo.Demo) error {
	bin, err := filepath.Abs("bin")
	if err != nil {
		return err
	}
	done := filepath.Join(d.Home, "shown")
	_ = os.Remove(done)
	inner := fmt.Sprintf(`printf '$ %s\n'; %s --color always; touch %s; sleep 60`, command, command, done)
	script := fmt.Sprintf(`xterm -u8 -fa 'DejaVu Sans Mono' -fs 9 -bg '#12181a' -fg '#e9e8e2' -geometry 116x51 -b 10 -bw 0 -e sh -c %q & x=$!
for i in $(seq 200); do [ -e %s ] && break; sleep 0.05; done
sleep 1; import -window root %s; kill $x`, inner, done, path)
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	cmd := exec.CommandContext(ctx, "xvfb-run", "-a", "-s", "-screen 0 860x800x24", "sh", "-c", script)
	cmd.Env = append(d.Environ(), "PATH="+bin+":"+os.Getenv("PATH"))
	if text, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("%w: %s", err, text)
	}
	return nil
}
