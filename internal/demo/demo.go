// Package demo runs a demo in a process of its own, as a visitor would, for pictures and measurements.
package demo

import (
	"bufio"
	"encoding/json"
	"errors"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"syscall"
)

// Demo is a running demo.
type Demo struct {
	Address string // http://127.0.0.1:port
	Link    string // signs in once
	Home    string // the command line finds its sign-in here

	cmd *exec.Cmd
}

var link = regexp.MustCompile(`http://\S+/sign-in#\S+`)

// Start runs bin/dowse demo with all it keeps in home, which the database's user must be able to enter, and returns when it is ready.
func Start(home string, port int) (*Demo, error) {
	d := &Demo{Home: home, cmd: exec.Command("bin/dowse", "demo", "--port", strconv.Itoa(port), "--state", filepath.Join(home, "state"))}
	d.cmd.Env, d.cmd.Stderr = d.Environ(), os.Stderr
	read, err := d.cmd.StdoutPipe()
	if err != nil {
		return nil, err
	}
	if err := d.cmd.Start(); err != nil {
		return nil, err
	}
	lines := bufio.NewScanner(read)
	for lines.Scan() {
		if d.Link = link.FindString(lines.Text()); d.Link != "" {
			d.Address, _, _ = strings.Cut(d.Link, "/sign-in")
			go func() { _, _ = io.Copy(io.Discard, read) }() // what else it says must not hold it up
			return d, nil
		}
	}
	d.Stop()
	return nil, errors.New("the demo ended before it was ready")
}

// Environ is the environment in which the command line is signed in to the demo.
func (d *Demo) Environ() []string {
	return append(os.Environ(), "HOME="+d.Home, "XDG_CONFIG_HOME="+filepath.Join(d.Home, "config"))
}

// Token is what the command line signs in with.
func (d *Demo) Token() (string, error) {
	text, err := os.ReadFile(filepath.Join(d.Home, "config", "dowse", "config.json"))
	if err != nil {
		return "", err
	}
	var kept struct {
		Token string `json:"token"`
	}
	return kept.Token, json.Unmarshal(text, &kept)
}

// Stop ends it and waits until it has.
func (d *Demo) Stop() {
	_ = d.cmd.Process.Signal(syscall.SIGTERM)
	_ = d.cmd.Wait()
}
