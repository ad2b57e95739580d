package rig

import (
	"bufio"
	"context"
	"fmt"
	"net"
	"os"
	"os/exec"
	"strconv"
	"strings"
	"sync"
	"time"
)

// Machine is a virtual machine of the rig.
type Machine struct {
	Name string
	LUN  int

	rig    *Rig
	pooled bool
	mu     sync.Mutex
	conn   net.Conn
	lines  *bufio.Scanner
}

// guestModules are the kernel's drivers for a virtio disk on PCI.
var guestModules = []string{"virtio", "virtio_ring", "virtio_pci_legacy_dev", "virtio_pci_modern_dev", "virtio_pci", "virtio_blk"}

// buildGuest makes the initial RAM disk: our guest program and the drivers.
func (r *Rig) buildGuest(ctx context.Context) error {
	image, modules, err := kernel()
	if err != nil {
		return err
	}
	r.kernel, r.initrd = r.path("guest/kernel"), r.path("guest.initrd")
	if err := copyFile(image, r.kernel); err != nil {
		return err
	}
	root := r.path("guest/root")
	if err := os.MkdirAll(root+"/modules", 0o755); err != nil {
		return err
	}
	for _, name := range guestModules {
		found, err := exec.CommandContext(ctx, "find", modules+"/", "-name", name+".ko").Output()
		if err != nil {
			return err
		}
		if path, _, ok := strings.Cut(string(found), "\n"); ok {
			if err := copyFile(path, root+"/modules/"+name+".ko"); err != nil {
				return err
			}
		}
	}
	build := exec.CommandContext(ctx, "go", "build", "-trimpath", "-ldflags", "-s -w", "-o", root+"/init", "dowsingrod/internal/rig/guest")
	build.Env = append(os.Environ(), "CGO_ENABLED=0", "GOARCH=amd64", "GOOS=linux")
	if out, err := build.CombinedOutput(); err != nil {
		return fmt.Errorf("build the guest's program: %w: %s", err, out)
	}
	pack := exec.CommandContext(ctx, "sh", "-c", "find . | cpio --quiet -o -H newc -R 0:0 | gzip -1 > '"+r.initrd+"'")
	pack.Dir = root
	if out, err := pack.CombinedOutput(); err != nil {
		return fmt.Errorf("pack the guest's root: %w: %s", err, out)
	}
	return os.Chmod(r.initrd, 0o644)
}

func copyFile(from, to string) error {
	text, err := os.ReadFile(from)
	if err != nil {
		return err
	}
	return os.WriteFile(to, text, 0o644)
}

func (m *Machine) xml() string {
	disk := m.rig.source(m.LUN)
	kind := "network"
	if m.pooled {
		kind, disk = "volume", fmt.Sprintf(`<source pool='%s' volume='unit:0:0:%d'/>`, PoolName, m.LUN)
	}
	return fmt.Sprintf(`<domain type='qemu'><name>%s</name><memory unit='MiB'>96</memory><vcpu>1</vcpu>
<os><type arch='x86_64' machine='q35'>hvm</type><kernel>%s</kernel><initrd>%s</initrd><cmdline>console=ttyS0 quiet rdinit=/init</cmdline></os>
<features><acpi/></features>
<devices><emulator>/usr/bin/qemu-system-x86_64</emulator>
<disk type='%s' device='disk'><driver name='qemu' type='raw' cache='none'/>%s<target dev='vda' bus='virtio'/></disk>
<serial type='file'><source path='%s'/></serial>
<serial type='unix'><source mode='bind' path='%s'/></serial>
<controller type='pci' index='0' model='pcie-root'/><controller type='pci' model='pcie-root-port'/><controller type='pci' model='pcie-root-port'/><controller type='pci' model='pcie-root-port'/><controller type='pci' model='pcie-root-port'/>
<memballoon model='none'/></devices></domain>`,
		m.Name, m.rig.kernel, m.rig.initrd, kind, disk, m.rig.path("run/console-"+m.Name+".log"), m.line())
}

func (m *Machine) line() string { return m.rig.path("run/" + m.Name + ".line") }

// Boot starts the machine. It is not defined permanently: what it is now is all there is.
func (m *Machine) Boot(ctx context.Context) error {
	path := m.rig.path("run/" + m.Name + ".xml")
	if err := os.WriteFile(path, []byte(m.xml()), 0o644); err != nil {
		return err
	}
	_ = os.Remove(m.line())
	_, err := m.rig.Virsh(ctx, "create", path)
	return err
}

// Reboot ends the machine as if its power was cut, and starts it anew under the same name.
func (m *Machine) Reboot(ctx context.Context) error {
	m.hangUp()
	if _, err := m.rig.Virsh(ctx, "destroy", m.Name); err != nil {
		return err
	}
	if err := m.Boot(ctx); err != nil {
		return err
	}
	return m.ready(ctx)
}

func (m *Machine) hangUp() {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.conn != nil {
		m.conn.Close()
		m.conn = nil
	}
}

// ready waits until the guest answers on its line.
func (m *Machine) ready(ctx context.Context) error {
	return until(ctx, 90*time.Second, "the guest does not answer", func() bool {
		answer, err := m.tell("", 2*time.Second)
		return err == nil && answer == "ready"
	})
}

// tell sends a line to the guest and returns its answer.
func (m *Machine) tell(line string, limit time.Duration) (string, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.conn == nil {
		conn, err := net.Dial("unix", m.line())
		if err != nil {
			return "", err
		}
		m.conn, m.lines = conn, bufio.NewScanner(conn)
	}
	fail := func(err error) (string, error) {
		m.conn.Close()
		m.conn = nil
		return "", err
	}
	_ = m.conn.SetDeadline(time.Now().Add(limit))
	if _, err := fmt.Fprintln(m.conn, line); err != nil {
		return fail(err)
	}
	for m.lines.Scan() {
		answer := strings.TrimSpace(m.lines.Text())
		if answer == "ready" && line != "" {
			continue // an answer to an earlier call
		}
		if strings.HasPrefix(answer, "cannot") {
			return answer, fmt.Errorf("%s: the guest says: %s", m.Name, answer)
		}
		return answer, nil
	}
	return fail(fmt.Errorf("%s: the guest does not answer: %w", m.Name, m.lines.Err()))
}

// Load lets the machine work on its disk: so many requests at a time, of so many bytes, of which readShare are reads;
// iops bounds their rate, 0 does not.
func (m *Machine) Load(workers, size int, readShare, iops float64) error {
	_, err := m.tell(fmt.Sprintf("load vda %d %d %g %g", workers, size, readShare, iops), 30*time.Second)
	return err
}

// Felt returns how many requests the guest completed since it was last asked, and their mean time as it felt it.
func (m *Machine) Felt() (requests int, mean time.Duration, err error) {
	answer, err := m.tell("felt vda", 30*time.Second)
	if err != nil {
		return 0, 0, err
	}
	f := strings.Fields(answer)
	if len(f) != 4 {
		return 0, 0, fmt.Errorf("%s: the guest answers %q", m.Name, answer)
	}
	requests, _ = strconv.Atoi(f[2])
	us, _ := strconv.ParseFloat(f[3], 64)
	return requests, time.Duration(us * float64(time.Microsecond)), nil
}

// Quiet is the load of a machine on an ordinary day; Noisy is that of one that copies something big.
func (m *Machine) Quiet() error { return m.Load(2, 8<<10, 0.7, 20) }

// Noisy is the load of a machine that moves as much as it can.
func (m *Machine) Noisy() error { return m.Load(24, 32<<10, 0.3, 0) }
