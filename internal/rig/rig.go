// Package rig runs a small real estate on loopback, from Debian's packages: QEMU virtual machines under a libvirt
// daemon, with disks on LUNs of an iSCSI target daemon, whose backing store is a shelf that gives so many I/Os a second
// and no more. Everything lives in one directory, listens on loopback, and ends with the rig.
//
// The libvirt daemon runs in session mode, as an unprivileged user where the rig is started by root, so that it has
// nothing to do with one the machine may run already. No hardware virtualization is needed.
package rig

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"
)

// Names of the rig's estate.
const (
	TargetName    = "iqn.2026-03.example.tidewrack:shags"
	InitiatorName = "iqn.2026-03.example.tidewrack:farne"
	PoolName      = "kelp"
)

// Options of a rig.
type Options struct {
	// ShelfIOPS is what the shelf gives all LUNs together; 0 takes 250.
	ShelfIOPS int
	// SpareLUNs are LUNs beyond one for each machine.
	SpareLUNs int
}

// Rig is a running estate.
type Rig struct {
	Dir      string
	Machines []*Machine

	port   int
	luns   int
	as     *syscall.Credential // whom libvirt runs as; nil for ourselves
	target *exec.Cmd
	daemon *exec.Cmd
	shelf  *exec.Cmd
	logs   []*os.File
	kernel string
	initrd string
}

// programs are what the rig runs, with the package each is in.
var programs = map[string]string{"libvirtd": "libvirt-daemon", "virsh": "libvirt-clients", "qemu-system-x86_64": "qemu-system-x86",
	"qemu-storage-daemon": "qemu-system-common", "tgtd": "tgt", "tgtadm": "tgt", "fusermount3": "fuse3", "cpio": "cpio", "go": "golang"}

// Missing lists, in words, what this machine lacks to run a rig; empty where it lacks nothing.
func Missing() []string {
	var out []string
	for program, pkg := range programs {
		if _, err := look(program); err != nil {
			out = append(out, "package "+pkg)
		}
	}
	if _, _, err := kernel(); err != nil {
		out = append(out, err.Error())
	}
	if f, err := os.OpenFile("/dev/fuse", os.O_RDWR, 0); err != nil {
		out = append(out, "/dev/fuse")
	} else {
		f.Close()
	}
	for _, driver := range []string{"block-iscsi.so"} {
		if found, _ := filepath.Glob("/usr/lib/*/qemu/" + driver); len(found) == 0 {
			out = append(out, "package qemu-block-extra")
		}
	}
	if found, _ := filepath.Glob("/usr/lib/*/libvirt/storage-backend/*iscsi-direct*"); len(found) == 0 {
		out = append(out, "package libvirt-daemon-driver-storage-iscsi-direct")
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// look finds a program, also where only root has it on the path.
func look(program string) (string, error) {
	if path, err := exec.LookPath(program); err == nil {
		return path, nil
	}
	for _, dir := range []string{"/usr/sbin/", "/sbin/"} {
		if _, err := os.Stat(dir + program); err == nil {
			return dir + program, nil
		}
	}
	return "", exec.ErrNotFound
}

// Start makes a rig with n machines, each with one LUN of its own. The last two reach theirs through a libvirt storage
// pool on the target, the others by themselves.
func Start(ctx context.Context, n int, o Options) (_ *Rig, err error) {
	if missing := Missing(); len(missing) > 0 {
		return nil, fmt.Errorf("the rig cannot run here; missing: %s", strings.Join(missing, ", "))
	}
	if o.ShelfIOPS == 0 {
		o.ShelfIOPS = 250
	}
	dir, err := os.MkdirTemp("", "dowse-rig-")
	if err != nil {
		return nil, err
	}
	r := &Rig{Dir: dir, luns: n + o.SpareLUNs}
	defer func() {
		if err != nil {
			r.Stop()
		}
	}()
	if err := r.prepare(); err != nil {
		return nil, err
	}
	if err := r.startShelf(ctx, o.ShelfIOPS); err != nil {
		return nil, err
	}
	if err := r.StartTarget(ctx); err != nil {
		return nil, err
	}
	if err := r.StartLibvirt(ctx); err != nil {
		return nil, err
	}
	if err := r.definePool(ctx); err != nil {
		return nil, err
	}
	if err := r.buildGuest(ctx); err != nil {
		return nil, err
	}
	for i := range n {
		m := &Machine{rig: r, Name: machineNames[i%len(machineNames)], LUN: i + 1, pooled: i >= n-2}
		if i >= len(machineNames) {
			m.Name += "-" + strconv.Itoa(i/len(machineNames)+1)
		}
		r.Machines = append(r.Machines, m)
		if err := m.Boot(ctx); err != nil {
			return nil, fmt.Errorf("start %s: %w", m.Name, err)
		}
	}
	for _, m := range r.Machines {
		if err := m.ready(ctx); err != nil {
			return nil, fmt.Errorf("%s does not come up: %w%s", m.Name, err, r.tail("console-"+m.Name))
		}
	}
	return r, nil
}

var machineNames = []string{"berth-plan", "ticket-gate", "tide-model", "crew-roster", "sonar-tiles"}

// prepare makes the directories, and decides whom libvirt runs as.
func (r *Rig) prepare() error {
	if os.Geteuid() == 0 {
		u, err := user.Lookup("nobody")
		if err != nil {
			return fmt.Errorf("libvirt is not run as root here, and there is no user nobody: %w", err)
		}
		uid, _ := strconv.ParseUint(u.Uid, 10, 32)
		gid, _ := strconv.ParseUint(u.Gid, 10, 32)
		r.as = &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}
	}
	if err := os.Chmod(r.Dir, 0o711); err != nil {
		return err
	}
	for _, name := range []string{"run", "home", "home/.config", "home/.config/libvirt", "disks", "shelf", "luns", "guest"} {
		if err := os.MkdirAll(r.path(name), 0o755); err != nil {
			return err
		}
	}
	// One process of libvirt's less: no daemon for the consoles' logs.
	if err := os.WriteFile(r.path("home/.config/libvirt/qemu.conf"), []byte("stdio_handler = \"file\"\n"), 0o644); err != nil {
		return err
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return err
	}
	r.port = l.Addr().(*net.TCPAddr).Port
	l.Close()
	return r.own("run", "home", "home/.config", "home/.config/libvirt", "home/.config/libvirt/qemu.conf")
}

// own gives files to whom libvirt runs as.
func (r *Rig) own(names ...string) error {
	if r.as == nil {
		return nil
	}
	for _, name := range names {
		if err := os.Chown(r.path(name), int(r.as.Uid), int(r.as.Gid)); err != nil {
			return err
		}
	}
	return nil
}

func (r *Rig) path(name string) string { return filepath.Join(r.Dir, name) }

// TargetAddress is where Dowsing Rod finds the target daemon.
func (r *Rig) TargetAddress() string { return "tgt://" + r.path("tgt") }

// LibvirtAddress is where Dowsing Rod finds the libvirt daemon.
func (r *Rig) LibvirtAddress() string { return "qemu+unix:///session?socket=" + r.LibvirtSocket() }

// LibvirtSocket is the daemon's socket.
func (r *Rig) LibvirtSocket() string { return r.path("run/libvirt/libvirt-sock") }

func (r *Rig) environment() []string {
	return append(os.Environ(), "HOME="+r.path("home"), "XDG_RUNTIME_DIR="+r.path("run"), "XDG_CONFIG_HOME="+r.path("home/.config"),
		"XDG_CACHE_HOME="+r.path("home/.cache"), "XDG_DATA_HOME="+r.path("home/.local"), "TGT_IPC_SOCKET="+r.path("tgt"), "LIBVIRT_AUTOSTART=0")
}

// spawn starts a program of the rig's in the background, with its output in a file of its name.
func (r *Rig) spawn(as *syscall.Credential, program string, args ...string) (*exec.Cmd, error) {
	path, err := look(program)
	if err != nil {
		return nil, err
	}
	log, err := os.OpenFile(r.path(program+".log"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o644)
	if err != nil {
		return nil, err
	}
	r.logs = append(r.logs, log)
	c := exec.Command(path, args...)
	c.Dir, c.Env, c.Stdout, c.Stderr = r.Dir, r.environment(), log, log
	c.SysProcAttr = &syscall.SysProcAttr{Credential: as, Setpgid: true}
	return c, c.Start()
}

// run runs a program of the rig's to its end and returns what it printed.
func (r *Rig) run(ctx context.Context, as *syscall.Credential, program string, args ...string) (string, error) {
	path, err := look(program)
	if err != nil {
		return "", err
	}
	ctx, cancel := context.WithTimeout(ctx, 60*time.Second)
	defer cancel()
	c := exec.CommandContext(ctx, path, args...)
	var out, bad bytes.Buffer
	c.Dir, c.Env, c.Stdout, c.Stderr = r.Dir, r.environment(), &out, &bad
	c.SysProcAttr = &syscall.SysProcAttr{Credential: as}
	if err := c.Run(); err != nil {
		return out.String(), fmt.Errorf("%s %s: %w: %s", program, strings.Join(args, " "), err, strings.TrimSpace(bad.String()))
	}
	return out.String(), nil
}

// tail returns the end of a log, for a message.
func (r *Rig) tail(program string) string {
	text, err := os.ReadFile(r.path(program + ".log"))
	if err != nil || len(text) == 0 {
		return ""
	}
	return "\n" + program + " said:\n" + string(text[max(0, len(text)-1500):])
}

// until waits for something to become true, looking every 50 ms.
func until(ctx context.Context, limit time.Duration, what string, f func() bool) error {
	ctx, cancel := context.WithTimeout(ctx, limit)
	defer cancel()
	tick := time.NewTicker(50 * time.Millisecond)
	defer tick.Stop()
	for !f() {
		select {
		case <-ctx.Done():
			return fmt.Errorf("%s: not within %s", what, limit)
		case <-tick.C:
		}
	}
	return nil
}

// Stop ends everything and removes the directory.
func (r *Rig) Stop() {
	ctx, cancel := context.WithTimeout(context.Background(), 30*time.Second)
	defer cancel()
	for _, m := range r.Machines {
		m.hangUp()
	}
	r.killMachines(ctx)
	for _, c := range []*exec.Cmd{r.daemon, r.target} {
		end(c, syscall.SIGKILL)
	}
	end(r.shelf, syscall.SIGTERM)
	for i := 1; i <= r.luns; i++ {
		_ = syscall.Unmount(r.path("shelf/"+strconv.Itoa(i)), syscall.MNT_FORCE|2) // lazily, where the shelf did not
	}
	for _, f := range r.logs {
		f.Close()
	}
	_ = os.RemoveAll(r.Dir)
}

// killMachines ends the QEMU processes, which are libvirt's children and not ours.
func (r *Rig) killMachines(_ context.Context) {
	files, _ := filepath.Glob(r.path("run/libvirt/qemu/run/*.pid"))
	for _, f := range files {
		text, err := os.ReadFile(f)
		if err != nil {
			continue
		}
		pid, err := strconv.Atoi(strings.TrimSpace(string(text)))
		name, _ := os.ReadFile(fmt.Sprintf("/proc/%d/comm", pid))
		if err == nil && strings.HasPrefix(string(name), "qemu") {
			_ = syscall.Kill(pid, syscall.SIGKILL)
		}
	}
}

func end(c *exec.Cmd, sig syscall.Signal) {
	if c == nil || c.Process == nil {
		return
	}
	_ = c.Process.Signal(sig)
	done := make(chan struct{})
	go func() {
		_ = c.Wait()
		close(done)
	}()
	select {
	case <-done:
	case <-time.After(5 * time.Second):
		_ = c.Process.Kill()
		<-done
	}
}

func kernel() (image, modules string, err error) {
	images, _ := filepath.Glob("/boot/vmlinuz-*-cloud-amd64")
	slices.Sort(images)
	for _, image := range slices.Backward(images) {
		dir := "/lib/modules/" + strings.TrimPrefix(filepath.Base(image), "vmlinuz-")
		if _, err := os.Stat(dir); err == nil {
			return image, dir, nil
		}
	}
	return "", "", errors.New("package linux-image-cloud-amd64")
}
