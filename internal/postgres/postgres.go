// Package postgres finds a PostgreSQL of Debian's packages and runs one on loopback, in a directory of
// its own, for the demo and the tests.
package postgres

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"net"
	"net/url"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5"
)

// ErrMissing says that no PostgreSQL server is installed.
var ErrMissing = errors.New("no PostgreSQL server 15 or newer is installed: run  sudo apt-get install postgresql-15")

// Options say how a server is run.
type Options struct {
	// Dir holds the data, the password and the server's log. It is made where it is not there, and
	// must be reachable for the user postgres where the caller is root.
	Dir string
	// Throwaway gives up durability for speed: the data will not be kept. For tests.
	Throwaway bool
}

// Server is a running PostgreSQL.
type Server struct {
	// URL connects as its superuser.
	URL  string
	cmd  *exec.Cmd
	done chan struct{}
	err  error
	log  string
}

// Find returns the directory of the newest installed server's programs, or ErrMissing.
func Find() (string, error) {
	dirs, _ := filepath.Glob("/usr/lib/postgresql/*/bin")
	best, newest := "", 14
	for _, d := range dirs {
		if v, err := strconv.Atoi(filepath.Base(filepath.Dir(d))); err == nil && v > newest {
			if _, err := os.Stat(filepath.Join(d, "initdb")); err == nil {
				best, newest = d, v
			}
		}
	}
	if best == "" {
		if p, err := exec.LookPath("initdb"); err == nil {
			return filepath.Dir(p), nil
		}
		return "", ErrMissing
	}
	return best, nil
}

// Start makes the data directory where there is none and starts a server on a free port of loopback.
// It ends with the returned server's Stop. Where an earlier run was killed and left its server behind,
// that one is ended first.
func Start(ctx context.Context, opt Options) (*Server, error) {
	bin, err := Find()
	if err != nil {
		return nil, err
	}
	who, err := runAs()
	if err != nil {
		return nil, err
	}
	if err := os.MkdirAll(opt.Dir, 0o755); err != nil {
		return nil, err
	}
	if err := who.own(opt.Dir); err != nil {
		return nil, err
	}
	data, secret := filepath.Join(opt.Dir, "data"), filepath.Join(opt.Dir, "password")
	if _, err := os.Stat(filepath.Join(data, "PG_VERSION")); err != nil {
		if err := create(ctx, bin, data, secret, who, opt); err != nil {
			return nil, err
		}
	}
	password, err := os.ReadFile(secret)
	if err != nil {
		return nil, fmt.Errorf("read the password of the database in %s: %w", opt.Dir, err)
	}
	endLeftover(data)
	var last error
	for range 3 { // a free port may be taken by somebody else in between
		s, err := run(ctx, bin, data, strings.TrimSpace(string(password)), who, opt)
		if err == nil {
			return s, nil
		}
		last = err
	}
	return nil, last
}

func create(ctx context.Context, bin, data, secret string, who identity, opt Options) error {
	if err := os.RemoveAll(data); err != nil {
		return err
	}
	var raw [24]byte
	if _, err := rand.Read(raw[:]); err != nil {
		return err
	}
	if err := os.WriteFile(secret, []byte(hex.EncodeToString(raw[:])+"\n"), 0o600); err != nil {
		return err
	}
	if err := who.own(secret); err != nil {
		return err
	}
	args := []string{"-D", data, "-U", "dowse", "-A", "scram-sha-256", "--pwfile=" + secret, "-E", "UTF8", "--locale=C.UTF-8"}
	if opt.Throwaway {
		args = append(args, "--no-sync")
	}
	cmd := exec.CommandContext(ctx, filepath.Join(bin, "initdb"), args...)
	cmd.Dir = opt.Dir
	cmd.SysProcAttr = who.attr()
	if out, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("make the database in %s: %w\n%s", data, err, bytes.TrimSpace(out))
	}
	return nil
}

func run(ctx context.Context, bin, data, password string, who identity, opt Options) (*Server, error) {
	port, err := freePort()
	if err != nil {
		return nil, err
	}
	args := []string{"-D", data, "-p", strconv.Itoa(port), "-c", "listen_addresses=127.0.0.1", "-c", "unix_socket_directories=",
		"-c", "max_connections=60", "-c", "shared_buffers=128MB", "-c", "jit=off", "-c", "max_wal_size=2GB", "-c", "wal_compression=on", "-c", "log_min_messages=warning"}
	if opt.Throwaway {
		args = append(args, "-c", "fsync=off", "-c", "synchronous_commit=off", "-c", "full_page_writes=off")
	}
	s := &Server{done: make(chan struct{}), log: filepath.Join(opt.Dir, "postgresql.log")}
	out, err := os.OpenFile(s.log, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return nil, err
	}
	s.cmd = exec.Command(filepath.Join(bin, "postgres"), args...)
	s.cmd.Dir, s.cmd.Stdout, s.cmd.Stderr = opt.Dir, out, out
	s.cmd.SysProcAttr = who.attr()
	if err := s.cmd.Start(); err != nil {
		out.Close()
		return nil, fmt.Errorf("start the database: %w", err)
	}
	go func() {
		s.err = s.cmd.Wait()
		out.Close()
		close(s.done)
	}()
	u := url.URL{Scheme: "postgres", User: url.UserPassword("dowse", password), Host: net.JoinHostPort("127.0.0.1", strconv.Itoa(port)), Path: "/postgres", RawQuery: "sslmode=disable"}
	s.URL = u.String()
	if err := s.ready(ctx); err != nil {
		s.Stop()
		return nil, err
	}
	return s, nil
}

func (s *Server) ready(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, 30*time.Second)
	defer cancel()
	tick := time.NewTicker(20 * time.Millisecond)
	defer tick.Stop()
	for {
		conn, err := pgx.Connect(ctx, s.URL)
		if err == nil {
			return conn.Close(ctx)
		}
		select {
		case <-s.done:
			return fmt.Errorf("the database ended at its start; its log is %s: %v", s.log, s.err)
		case <-ctx.Done():
			return fmt.Errorf("the database did not answer within 30 s; its log is %s: %w", s.log, err)
		case <-tick.C:
		}
	}
}

// Stop ends the server in an orderly way and waits for it.
func (s *Server) Stop() {
	_ = s.cmd.Process.Signal(syscall.SIGINT) // "fast": open transactions are rolled back
	select {
	case <-s.done:
	case <-time.After(20 * time.Second):
		_ = s.cmd.Process.Signal(syscall.SIGQUIT)
		<-s.done
	}
}

// Done is closed when the server has ended, for whatever reason.
func (s *Server) Done() <-chan struct{} { return s.done }

// endLeftover ends a server that still runs on the data. The caller must be the only one that may use
// the directory.
func endLeftover(data string) {
	text, err := os.ReadFile(filepath.Join(data, "postmaster.pid"))
	if err != nil {
		return
	}
	first, _, _ := strings.Cut(string(text), "\n")
	pid, err := strconv.Atoi(strings.TrimSpace(first))
	if err != nil || pid <= 1 {
		return
	}
	name, err := os.ReadFile(fmt.Sprintf("/proc/%d/cmdline", pid))
	if err != nil || !slices.Contains(strings.Split(string(name), "\x00"), data) {
		return // the number was given to somebody else since
	}
	_ = syscall.Kill(pid, syscall.SIGINT)
	for range 200 {
		if syscall.Kill(pid, 0) != nil {
			return
		}
		time.Sleep(50 * time.Millisecond)
	}
}

func freePort() (int, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return 0, err
	}
	defer l.Close()
	return l.Addr().(*net.TCPAddr).Port, nil
}

// identity is who runs the server: PostgreSQL refuses to be root.
type identity struct {
	root     bool
	uid, gid int
}

func runAs() (identity, error) {
	if os.Geteuid() != 0 {
		return identity{}, nil
	}
	u, err := user.Lookup("postgres")
	if err != nil {
		return identity{}, errors.New("PostgreSQL refuses to run as root and there is no user postgres: install the package postgresql-15, which makes it, or run as another user")
	}
	uid, errU := strconv.Atoi(u.Uid)
	gid, errG := strconv.Atoi(u.Gid)
	return identity{true, uid, gid}, errors.Join(errU, errG)
}

func (i identity) own(path string) error {
	if !i.root {
		return nil
	}
	return os.Chown(path, i.uid, i.gid)
}

// attr puts the server in a process group of its own, so that Ctrl-C reaches us first and we end it in
// order.
func (i identity) attr() *syscall.SysProcAttr {
	a := &syscall.SysProcAttr{Setpgid: true}
	if i.root {
		a.Credential = &syscall.Credential{Uid: uint32(i.uid), Gid: uint32(i.gid)}
	}
	return a
}

// Forget removes the data of a server that does not run any more, or ends it first where it was left
// behind. The caller must be the only one that may use the directory.
func Forget(dir string) error {
	data := filepath.Join(dir, "data")
	endLeftover(data)
	return errors.Join(os.RemoveAll(data), os.RemoveAll(filepath.Join(dir, "password")), os.RemoveAll(filepath.Join(dir, "postgresql.log")))
}
