package target

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"net/url"
	"strconv"
	"strings"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"dowsingrod/internal/source"
)

// endpoint is the daemon's management socket.
type endpoint struct{ socket string }

// standardSocket is where Debian's package puts it.
const standardSocket = "/var/run/tgtd/socket"

// parseAddress reads tgt:///path/of/socket?port=0. The path is as in TGT_IPC_SOCKET, without the control port at its
// end.
func parseAddress(text string) (endpoint, error) {
	u, err := url.Parse(text)
	if err != nil || u.Scheme != "tgt" || u.Host != "" || u.User != nil {
		return endpoint{}, &source.Trouble{What: fmt.Sprintf("%q is not the address of a target daemon", text),
			Try: "write it as tgt:// for the standard socket of this machine, or tgt:///path/of/socket; the daemon can only be asked on its own machine"}
	}
	path, port := u.Path, u.Query().Get("port")
	if path == "" || path == "/" {
		path = standardSocket
	}
	if port == "" {
		port = "0"
	}
	if n, err := strconv.Atoi(port); err != nil || n < 0 || n > 65535 {
		return endpoint{}, &source.Trouble{What: fmt.Sprintf("%q is no control port", port), Try: "give the number tgtd was started with (--control-port), 0 where it was not"}
	}
	return endpoint{path + "." + port}, nil
}

// Of the management protocol: what is asked, and of what.
const (
	opShow = 2
	opStat = 6

	modeSystem = 0
	modeTarget = 1
)

// maxAnswer bounds an answer: 200 bytes a LUN and session, for 300,000 of them.
const maxAnswer = 64 << 20

// answer is what the daemon said, and which process said it; 0 where that cannot be told.
type answer struct {
	text    string
	process int
}

// ask sends one request on a connection of its own and returns the answer. The request is the struct that tgtadm
// sends: mode, operation, driver name, length, target, session, LUN and six more numbers, in the machine's byte order.
//
// A connection that is closed before a whole request was sent makes the daemon spin on it for ever, so nothing here
// ever connects without asking, and a context that ends is only looked at afterwards.
func (e endpoint) ask(ctx context.Context, mode, op uint32) (answer, error) {
	if ctx.Err() != nil {
		return answer{}, ctx.Err()
	}
	conn, err := e.dial(context.WithoutCancel(ctx))
	if err != nil {
		return answer{}, err
	}
	defer conn.Close()
	var request [120]byte
	order := binary.NativeEndian
	order.PutUint32(request[0:], mode)
	order.PutUint32(request[4:], op)
	copy(request[8:72], "iscsi")
	order.PutUint32(request[72:], uint32(len(request)))
	order.PutUint32(request[76:], ^uint32(0)) // any target
	order.PutUint64(request[88:], ^uint64(0)) // any LUN
	if _, err := conn.Write(request[:]); err != nil {
		return answer{}, e.broken(ctx, err)
	}
	stop := context.AfterFunc(ctx, func() { _ = conn.SetDeadline(time.Unix(1, 0)) })
	defer stop()
	var head [8]byte
	if _, err := io.ReadFull(conn, head[:]); err != nil {
		return answer{}, e.broken(ctx, err)
	}
	code, length := order.Uint32(head[0:]), order.Uint32(head[4:])
	switch {
	case code != 0:
		return answer{}, &source.Trouble{What: fmt.Sprintf("the daemon at %s answers with its error %d", e.socket, code), Try: "check with tgtadm --op show --mode target that it works"}
	case length < 8 || length > maxAnswer:
		return answer{}, &source.Trouble{What: fmt.Sprintf("the answer from %s claims to be %d bytes long", e.socket, length), Try: "check that this is tgtd's management socket"}
	}
	text := make([]byte, length-8)
	if _, err := io.ReadFull(conn, text); err != nil {
		return answer{}, e.broken(ctx, err)
	}
	return answer{strings.TrimRight(string(text), "\x00"), peer(conn)}, nil
}

// peer returns the process at the other end.
func peer(conn *net.UnixConn) (pid int) {
	raw, err := conn.SyscallConn()
	if err != nil {
		return 0
	}
	_ = raw.Control(func(fd uintptr) {
		if cred, err := unix.GetsockoptUcred(int(fd), unix.SOL_SOCKET, unix.SO_PEERCRED); err == nil {
			pid = int(cred.Pid)
		}
	})
	return pid
}

func (e endpoint) dial(ctx context.Context) (*net.UnixConn, error) {
	var d net.Dialer
	conn, err := d.DialContext(ctx, "unix", e.socket)
	switch {
	case err == nil:
		return conn.(*net.UnixConn), nil
	case errors.Is(err, fs.ErrNotExist):
		return nil, &source.Trouble{What: "there is no socket " + e.socket, Try: "check that tgtd runs on this machine; if its socket is elsewhere, name it in the address", Err: err}
	case errors.Is(err, fs.ErrPermission):
		return nil, &denied{e.socket, err}
	case errors.Is(err, syscall.ECONNREFUSED):
		return nil, &source.Trouble{What: "nobody listens at " + e.socket, Try: "tgtd has ended: start it again", Err: err}
	}
	return nil, e.broken(ctx, err)
}

func (e endpoint) broken(ctx context.Context, err error) error {
	switch {
	case errors.Is(ctx.Err(), context.DeadlineExceeded):
		return &source.Trouble{What: "the daemon at " + e.socket + " did not answer in time", Try: "it may hang on a backing store; what it counted meanwhile is missing", Err: ctx.Err()}
	case ctx.Err() != nil:
		return ctx.Err()
	case errors.Is(err, syscall.ECONNRESET), errors.Is(err, io.EOF), errors.Is(err, syscall.EPIPE):
		return &denied{e.socket, err} // how the daemon turns away whoever is not its own user and group
	}
	return &source.Trouble{What: "the daemon at " + e.socket + " stopped answering", Try: "check whether it was restarted; it is tried again", Err: err}
}

// denied says that the daemon turned us away. A daemon that ends while it is asked looks alike.
type denied struct {
	socket string
	err    error
}

func (d *denied) trouble() *source.Trouble {
	return &source.Trouble{What: "the daemon at " + d.socket + " closes the connection without an answer",
		Try: "it answers only to its own user and group: run this service as them, or collect on that machine as them and push a feed", Err: d}
}

func (d *denied) Error() string { return d.socket + ": " + d.err.Error() }
func (d *denied) Unwrap() error { return d.err }
