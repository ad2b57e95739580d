package rig

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"
)

// Idle is a libvirt daemon with the driver that libvirt tests itself with: machines that are only described, whose
// counters move with the clock. It shows what asking many machines costs.
type Idle struct {
	dir    string
	daemon *exec.Cmd
}

// StartIdle starts one with so many machines, half of them with a second disk. The last part of each address and
// identity follows from its number.
func StartIdle(ctx context.Context, machines int) (*Idle, error) {
	program, err := look("libvirtd")
	if err != nil {
		return nil, fmt.Errorf("libvirtd is missing (package libvirt-daemon)")
	}
	dir, err := os.MkdirTemp("", "dowse-idle-")
	if err != nil {
		return nil, err
	}
	d := &Idle{dir: dir}
	var b strings.Builder
	b.WriteString("<node>")
	for i := range machines {
		fmt.Fprintf(&b, `<domain type='test'><name>lamp-telemetry-%04d</name><uuid>6f1c24d0-0b5e-4a53-9d6c-%012x</uuid><memory>65536</memory><vcpu>1</vcpu><os><type>hvm</type></os><devices>`, i, i)
		for k := range 1 + i%2 {
			fmt.Fprintf(&b, `<disk type='network' device='disk'><source protocol='iscsi' name='%s/%d'><host name='127.0.0.1' port='3260'/></source><target dev='vd%c' bus='virtio'/></disk>`, TargetName, 2*i+k, 'a'+k)
		}
		b.WriteString("</devices></domain>")
	}
	b.WriteString("</node>")
	for _, name := range []string{"run", "home"} {
		if err := os.Mkdir(filepath.Join(dir, name), 0o755); err != nil {
			return nil, err
		}
	}
	if err := os.WriteFile(filepath.Join(dir, "node.xml"), []byte(b.String()), 0o644); err != nil {
		return nil, err
	}
	if err := os.Chmod(dir, 0o755); err != nil {
		return nil, err
	}
	d.daemon = exec.Command(program, "--timeout", "0")
	d.daemon.Env = append(os.Environ(), "HOME="+dir+"/home", "XDG_RUNTIME_DIR="+dir+"/run", "XDG_CONFIG_HOME="+dir+"/home", "XDG_CACHE_HOME="+dir+"/home")
	if os.Geteuid() == 0 {
		u, err := user.Lookup("nobody")
		if err != nil {
			return nil, err
		}
		uid, _ := strconv.Atoi(u.Uid)
		gid, _ := strconv.Atoi(u.Gid)
		for _, name := range []string{"run", "home"} {
			if err := os.Chown(filepath.Join(dir, name), uid, gid); err != nil {
				return nil, err
			}
		}
		d.daemon.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}}
	}
	if err := d.daemon.Start(); err != nil {
		return nil, err
	}
	err = until(ctx, 15*time.Second, "the libvirt daemon does not come up", func() bool {
		_, err := os.Stat(d.socket())
		return err == nil
	})
	if err != nil {
		d.Stop()
	}
	return d, err
}

func (d *Idle) socket() string { return d.dir + "/run/libvirt/libvirt-sock" }

// Address is where Dowsing Rod finds it.
func (d *Idle) Address() string { return "test+unix:///" + d.dir + "/node.xml?socket=" + d.socket() }

// Stop ends it.
func (d *Idle) Stop() {
	end(d.daemon, syscall.SIGKILL)
	_ = os.RemoveAll(d.dir)
}
