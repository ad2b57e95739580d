package rig

import (
	"context"
	"fmt"
	"os"
	"strconv"
	"strings"
	"syscall"
	"time"
)

// lunBytes is the size of a LUN.
const lunBytes = 256 << 20

// startShelf starts what the LUNs lie on: files behind one common limit of I/Os a second, as a shelf of drives has.
func (r *Rig) startShelf(ctx context.Context, iops int) error {
	args := []string{"--object", "throttle-group,id=shelf,x-iops-total=" + strconv.Itoa(iops)}
	for i := 1; i <= r.luns; i++ {
		n := strconv.Itoa(i)
		if err := os.WriteFile(r.path("disks/"+n), nil, 0o600); err != nil {
			return err
		}
		if err := os.Truncate(r.path("disks/"+n), lunBytes); err != nil {
			return err
		}
		if err := os.WriteFile(r.path("shelf/"+n), nil, 0o600); err != nil {
			return err
		}
		args = append(args, "--blockdev", "file,node-name=file"+n+",filename="+r.path("disks/"+n),
			"--blockdev", "throttle,node-name=lun"+n+",throttle-group=shelf,file=file"+n,
			"--export", "fuse,id=export"+n+",node-name=lun"+n+",mountpoint="+r.path("shelf/"+n)+",writable=on,allow-other=off")
	}
	var err error
	if r.shelf, err = r.spawn(nil, "qemu-storage-daemon", args...); err != nil {
		return err
	}
	last := r.path("shelf/" + strconv.Itoa(r.luns))
	err = until(ctx, 15*time.Second, "the shelf does not come up", func() bool {
		info, err := os.Stat(last)
		return err == nil && info.Size() == lunBytes
	})
	if err != nil {
		return fmt.Errorf("%w%s", err, r.tail("qemu-storage-daemon"))
	}
	return nil
}

func (r *Rig) admin(ctx context.Context, args ...string) (string, error) {
	return r.run(ctx, nil, "tgtadm", append([]string{"--lld", "iscsi"}, args...)...)
}

// StartTarget starts the target daemon with all LUNs behind one target.
func (r *Rig) StartTarget(ctx context.Context) (err error) {
	_ = os.Remove(r.path("tgt.0"))
	if r.target, err = r.spawn(nil, "tgtd", "-f", "--iscsi", "portal=127.0.0.1:"+strconv.Itoa(r.port)); err != nil {
		return err
	}
	err = until(ctx, 15*time.Second, "the target daemon does not answer", func() bool {
		_, err := r.admin(ctx, "--op", "show", "--mode", "sys")
		return err == nil
	})
	if err != nil {
		return fmt.Errorf("%w%s", err, r.tail("tgtd"))
	}
	steps := [][]string{{"--op", "new", "--mode", "target", "--tid", "1", "-T", TargetName}}
	for i := 1; i <= r.luns; i++ {
		steps = append(steps, []string{"--op", "new", "--mode", "logicalunit", "--tid", "1", "--lun", strconv.Itoa(i), "-b", r.path("shelf/" + strconv.Itoa(i))})
	}
	steps = append(steps, []string{"--op", "bind", "--mode", "target", "--tid", "1", "-I", "ALL"})
	for _, s := range steps {
		if _, err := r.admin(ctx, s...); err != nil {
			return err
		}
	}
	return nil
}

// StopTarget ends the target daemon at once, as a crash would.
func (r *Rig) StopTarget() {
	end(r.target, syscall.SIGKILL)
	r.target = nil
}

// FreezeLibvirt stops the libvirt daemon from running.
func (r *Rig) FreezeLibvirt() error { return r.daemon.Process.Signal(syscall.SIGSTOP) }

// ThawLibvirt lets it go on.
func (r *Rig) ThawLibvirt() error { return r.daemon.Process.Signal(syscall.SIGCONT) }

// StartLibvirt starts the libvirt daemon. Machines that run already are its own again.
func (r *Rig) StartLibvirt(ctx context.Context) (err error) {
	if r.daemon, err = r.spawn(r.as, "libvirtd", "--timeout", "0"); err != nil {
		return err
	}
	err = until(ctx, 20*time.Second, "the libvirt daemon does not answer", func() bool {
		_, err := r.Virsh(ctx, "version")
		return err == nil
	})
	if err != nil {
		return fmt.Errorf("%w%s", err, r.tail("libvirtd"))
	}
	return nil
}

// StopLibvirt ends the libvirt daemon at once. Machines go on.
func (r *Rig) StopLibvirt() {
	end(r.daemon, syscall.SIGKILL)
	r.daemon = nil
}

// Virsh runs a command of libvirt's own shell on the rig's daemon.
func (r *Rig) Virsh(ctx context.Context, args ...string) (string, error) {
	return r.run(ctx, r.as, "virsh", append([]string{"-q", "-c", "qemu+unix:///session?socket=" + r.LibvirtSocket()}, args...)...)
}

func (r *Rig) definePool(ctx context.Context) error {
	xml := fmt.Sprintf(`<pool type='iscsi-direct'><name>%s</name><source><host name='127.0.0.1' port='%d'/><device path='%s'/><initiator><iqn name='%s'/></initiator></source></pool>`,
		PoolName, r.port, TargetName, InitiatorName)
	if err := os.WriteFile(r.path("run/pool.xml"), []byte(xml), 0o644); err != nil {
		return err
	}
	_, err := r.Virsh(ctx, "pool-create", r.path("run/pool.xml"))
	return err
}

// Limit puts a limit of I/Os a second on a machine's disk by hand, as an operator would; 0 takes it off.
func (r *Rig) Limit(ctx context.Context, m *Machine, iops int) error {
	_, err := r.Virsh(ctx, "blkdeviotune", m.Name, "vda", "--total-iops-sec", strconv.Itoa(iops), "--live")
	return err
}

// Move copies a machine's disk to another LUN while it runs, and lets it go on there.
func (r *Rig) Move(ctx context.Context, m *Machine, lun int) error {
	xml := fmt.Sprintf(`<disk type='network' device='disk'><driver name='qemu' type='raw' cache='none'/>%s<target dev='vda' bus='virtio'/></disk>`, r.source(lun))
	path := r.path("run/move-" + m.Name + ".xml")
	if err := os.WriteFile(path, []byte(xml), 0o644); err != nil {
		return err
	}
	_, err := r.Virsh(ctx, "blockcopy", m.Name, "vda", "--xml", path, "--reuse-external", "--transient-job", "--wait", "--pivot", "--timeout", "50")
	if err == nil {
		m.LUN = lun
	}
	return err
}

func (r *Rig) source(lun int) string {
	return fmt.Sprintf(`<source protocol='iscsi' name='%s/%d'><host name='127.0.0.1' port='%d'/><initiator><iqn name='%s'/></initiator></source>`,
		TargetName, lun, r.port, InitiatorName)
}

// Version returns what the daemons call themselves, for a report.
func (r *Rig) Version(ctx context.Context) string {
	text, _ := r.Virsh(ctx, "version", "--daemon")
	var out []string
	for _, line := range strings.Split(text, "\n") {
		for _, key := range []string{"Running hypervisor: ", "Running against daemon: "} {
			if v, ok := strings.CutPrefix(line, key); ok {
				out = append(out, v)
			}
		}
	}
	return strings.Join(out, ", ")
}

// Plug gives a machine another disk while it runs, on a LUN.
func (r *Rig) Plug(ctx context.Context, m *Machine, lun int, dev string) error {
	path := r.path("run/plug-" + m.Name + ".xml")
	xml := fmt.Sprintf(`<disk type='network' device='disk'><driver name='qemu' type='raw' cache='none'/>%s<target dev='%s' bus='virtio'/></disk>`, r.source(lun), dev)
	if err := os.WriteFile(path, []byte(xml), 0o644); err != nil {
		return err
	}
	_, err := r.Virsh(ctx, "attach-device", m.Name, path, "--live")
	return err
}

// Unplug takes a disk from a machine while it runs.
func (r *Rig) Unplug(ctx context.Context, m *Machine, dev string) error {
	_, err := r.Virsh(ctx, "detach-disk", m.Name, dev, "--live")
	return err
}

// Define defines a machine that does not run, and returns its UUID.
func (r *Rig) Define(ctx context.Context, name string) (string, error) {
	path := r.path("run/define-" + name + ".xml")
	xml := fmt.Sprintf(`<domain type='qemu'><name>%s</name><memory unit='MiB'>64</memory><os><type arch='x86_64' machine='q35'>hvm</type></os>
<devices><disk type='network' device='disk'><driver name='qemu' type='raw'/>%s<target dev='vda' bus='virtio'/></disk></devices></domain>`, name, r.source(1))
	if err := os.WriteFile(path, []byte(xml), 0o644); err != nil {
		return "", err
	}
	if _, err := r.Virsh(ctx, "define", path); err != nil {
		return "", err
	}
	uuid, err := r.Virsh(ctx, "domuuid", name)
	return strings.TrimSpace(uuid), err
}
