package libvirt

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"net/url"
	"os"
	"strings"
	"sync/atomic"
	"syscall"
	"time"

	wire "github.com/digitalocean/go-libvirt"

	"dowsingrod/internal/source"
)

// endpoint is an address taken apart: where to connect, and which driver to ask for there.
type endpoint struct {
	transport string // unix, tcp, tls
	socket    string
	server    string // host:port
	name      string // host alone, as in its certificate
	driver    wire.ConnectURI
}

// parseAddress reads a libvirt URI, driver[+transport]://[host[:port]]/path[?socket=…].
func parseAddress(text string) (endpoint, error) {
	bad := func(why string) (endpoint, error) {
		return endpoint{}, &source.Trouble{What: fmt.Sprintf("%q is not the address of a libvirt daemon: %s", text, why),
			Try: "write it as qemu:///system, qemu+tls://host/system, or qemu+unix:///system?socket=/path/to/libvirt-sock"}
	}
	u, err := url.Parse(text)
	if err != nil {
		return bad("it is no URI")
	}
	driver, transport, _ := strings.Cut(u.Scheme, "+")
	if transport == "" {
		if transport = "unix"; u.Host != "" {
			transport = "tls"
		}
	}
	if driver == "" {
		return bad("it does not begin with a driver, as qemu: does")
	}
	if u.User != nil {
		return bad("an address holds no secrets")
	}
	e := endpoint{transport: transport, name: u.Hostname(), driver: wire.ConnectURI((&url.URL{Scheme: driver, Path: u.Path}).String())}
	if !strings.Contains(string(e.driver), "://") {
		e.driver = wire.ConnectURI(driver + "://" + u.Path)
	}
	port := u.Port()
	switch transport {
	case "unix":
		if u.Host != "" {
			return bad("a socket is on this machine and has no host")
		}
		if e.socket = u.Query().Get("socket"); e.socket == "" {
			e.socket = standardSocket(u.Path)
		}
		return e, nil
	case "tcp":
		if port == "" {
			port = "16509"
		}
	case "tls":
		if port == "" {
			port = "16514"
		}
	default:
		return bad("the transport " + transport + " is not spoken here: unix, tcp and tls are")
	}
	if u.Hostname() == "" {
		return bad("it names no host")
	}
	e.server = net.JoinHostPort(u.Hostname(), port)
	return e, nil
}

func standardSocket(path string) string {
	if dir := os.Getenv("XDG_RUNTIME_DIR"); path == "/session" && dir != "" {
		return dir + "/libvirt/libvirt-sock"
	}
	return "/run/libvirt/libvirt-sock"
}

func (e endpoint) String() string {
	if e.transport == "unix" {
		return e.socket
	}
	return e.server
}

// dial opens the transport. shown is called with a server's certificate.
func (e endpoint) dial(ctx context.Context, s source.Settings, shown func(*x509.Certificate)) (net.Conn, error) {
	var d net.Dialer
	if e.transport == "unix" {
		conn, err := d.DialContext(ctx, "unix", e.socket)
		if err != nil {
			return nil, unreached(e, err)
		}
		return conn, nil
	}
	conn, err := d.DialContext(ctx, "tcp", e.server)
	if err != nil {
		return nil, unreached(e, err)
	}
	if e.transport == "tcp" {
		return conn, nil
	}
	cfg, err := s.TLS(e.name, shown)
	if err != nil {
		conn.Close()
		return nil, err
	}
	secured := tls.Client(conn, cfg)
	if err := secured.HandshakeContext(ctx); err != nil {
		conn.Close()
		if t := source.Distrust(err); t != nil {
			return nil, t
		}
		return nil, refusedTLS(e, err)
	}
	// The daemon answers with one byte, 1, once it has accepted the client's certificate.
	var verdict [1]byte
	if deadline, ok := ctx.Deadline(); ok {
		_ = secured.SetReadDeadline(deadline)
	}
	if _, err := secured.Read(verdict[:]); err != nil || verdict[0] != 1 {
		secured.Close()
		return nil, refusedTLS(e, err)
	}
	_ = secured.SetReadDeadline(time.Time{})
	return secured, nil
}

func refusedTLS(e endpoint, err error) error {
	return &credentialError{&source.Trouble{What: "the daemon at " + e.String() + " does not accept our certificate",
		Try: "give a client certificate and its key that its authority signed and its list of allowed names holds (--certificate, --key)", Err: err}}
}

// credentialError marks a refusal that concerns who we are, not whether we got there.
type credentialError struct{ *source.Trouble }

func (c *credentialError) Unwrap() error { return c.Trouble }

func unreached(e endpoint, err error) error {
	t := &source.Trouble{What: "nothing answers at " + e.String(), Try: "check that the daemon runs and listens there, and that no firewall is between", Err: err}
	switch {
	case errors.Is(err, fs.ErrNotExist):
		t.What, t.Try = "there is no socket "+e.socket, "check that the daemon runs; name its socket with ?socket= if it is elsewhere"
	case errors.Is(err, fs.ErrPermission):
		t.What, t.Try = "the socket "+e.socket+" may not be opened by the user this service runs as", "make that user a member of the group libvirt, or use the read-only socket libvirt-sock-ro"
	case errors.Is(err, syscall.ECONNREFUSED):
		t.What = "the connection to " + e.String() + " is refused: no daemon listens there"
	case errors.Is(err, context.DeadlineExceeded), os.IsTimeout(err):
		t.What = e.String() + " does not answer"
	}
	var dns *net.DNSError
	if errors.As(err, &dns) {
		t.What, t.Try = "the name "+dns.Name+" is not known", "check how it is written, or use its IP address"
	}
	return t
}

// session is one connection to a daemon. It is closed where a call outlasts its context: the protocol has no way to
// give up a single call.
type session struct {
	*wire.Libvirt
	conn   net.Conn
	closed atomic.Bool
}

// readyConn lets go-libvirt use a connection that is open already.
type readyConn struct{ net.Conn }

func (r readyConn) Dial() (net.Conn, error) { return r.Conn, nil }

func open(ctx context.Context, e endpoint, s source.Settings, shown func(*x509.Certificate)) (*session, error) {
	conn, err := e.dial(ctx, s, shown)
	if err != nil {
		return nil, err
	}
	v := &session{Libvirt: wire.NewWithDialer(readyConn{conn}), conn: conn}
	err = v.within(ctx, func() error { return v.ConnectToURI(e.driver) })
	if err != nil {
		v.close()
		return nil, refused(e, err)
	}
	return v, nil
}

func refused(e endpoint, err error) error {
	var lv wire.Error
	if errors.As(err, &lv) {
		switch wire.ErrorNumber(lv.Code) {
		case wire.ErrAuthFailed, wire.ErrAuthCancelled, wire.ErrAuthUnavailable, wire.ErrAccessDenied, wire.ErrOperationDenied:
			return &credentialError{&source.Trouble{What: "the daemon at " + e.String() + " does not let us in: " + lv.Message,
				Try: "allow the user this service runs as, by its access rules or by a client certificate", Err: err}}
		}
		return &source.Trouble{What: fmt.Sprintf("the daemon at %s refuses %s: %s", e, e.driver, lv.Message),
			Try: "check the path of the address: /system for the machine's VMs, /session for those of a user", Err: err}
	}
	return lost(e, err)
}

func lost(e endpoint, err error) error {
	var t *source.Trouble
	if errors.As(err, &t) {
		return err
	}
	if errors.Is(err, context.DeadlineExceeded) {
		return &source.Trouble{What: "the daemon at " + e.String() + " did not answer in time", Try: "it may be overloaded, or hang on a host that is down; what it measured meanwhile is missing", Err: err}
	}
	return &source.Trouble{What: "the connection to " + e.String() + " was lost", Try: "check whether the daemon was restarted; it is tried again", Err: err}
}

// within runs calls, and closes the connection where they outlast ctx.
func (v *session) within(ctx context.Context, f func() error) error {
	done := make(chan error, 1)
	go func() { done <- f() }()
	select {
	case err := <-done:
		return err
	case <-ctx.Done():
		v.close()
		<-done // ends at once: its connection is gone
		return ctx.Err()
	}
}

func (v *session) alive() bool {
	select {
	case <-v.Disconnected():
		return false
	default:
		return !v.closed.Load()
	}
}

func (v *session) close() {
	if v.closed.CompareAndSwap(false, true) {
		_ = v.conn.Close()
	}
}
