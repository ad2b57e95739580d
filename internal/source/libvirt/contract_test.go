package libvirt_test

import (
	"context"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dowsingrod/core/estate"
	"dowsingrod/internal/source"
	"dowsingrod/internal/source/libvirt"
	"dowsingrod/internal/source/sourcetest"
)

// bed is a libvirt daemon of its own with the driver libvirt tests itself with: machines without machines, whose
// counters move with the clock.
type bed struct {
	dir    string
	as     *syscall.Credential
	daemon *exec.Cmd
	args   []string
	form   string // of the address: %s is the socket
}

const machines = `<node><domain type='test'><name>berth-plan</name><uuid>6f1c24d0-0b5e-4a53-9d6c-1d2a5a1c0e07</uuid><memory>65536</memory><vcpu>2</vcpu>
<os><type>hvm</type></os><devices><disk type='network' device='disk'><source protocol='iscsi' name='iqn.2026-03.example.tidewrack:shags/1'><host name='127.0.0.1' port='3260'/></source><target dev='vda' bus='virtio'/></disk>
<disk type='file' device='disk'><source file='/srv/kelp/berth-plan.raw'/><target dev='vdb' bus='virtio'/></disk></devices></domain>
<domain type='test'><name>ticket-gate</name><uuid>6f1c24d0-0b5e-4a53-9d6c-1d2a5a1c0e08</uuid><memory>65536</memory><vcpu>1</vcpu><os><type>hvm</type></os>
<devices><disk type='block' device='disk'><source dev='/dev/disk/by-id/wwn-0x6001405f00000000000000000000000e'/><target dev='vda' bus='virtio'/></disk></devices></domain></node>`

func newBed(t *testing.T, args ...string) *bed {
	if _, err := exec.LookPath("/usr/sbin/libvirtd"); err != nil {
		t.Skip("no libvirtd here (package libvirt-daemon)")
	}
	dir, err := os.MkdirTemp("", "dowse-lv-")
	require.NoError(t, err)
	b := &bed{dir: dir, args: args, form: "test+unix:///" + dir + "/node.xml?socket=%s"}
	require.NoError(t, os.WriteFile(dir+"/node.xml", []byte(machines), 0o644))
	require.NoError(t, os.Mkdir(dir+"/run", 0o755))
	require.NoError(t, os.Mkdir(dir+"/home", 0o755))
	require.NoError(t, os.Chmod(dir, 0o755))
	if os.Geteuid() == 0 { // as root it would be the machine's own daemon
		u, err := user.Lookup("nobody")
		require.NoError(t, err)
		uid, _ := strconv.Atoi(u.Uid)
		gid, _ := strconv.Atoi(u.Gid)
		b.as = &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}
		for _, name := range []string{"run", "home"} {
			require.NoError(t, os.Chown(filepath.Join(dir, name), uid, gid))
		}
	}
	t.Cleanup(func() {
		b.Break(t)
		_ = os.RemoveAll(dir)
	})
	return b
}

func (b *bed) socket() string { return b.dir + "/run/libvirt/libvirt-sock" }

func (b *bed) Settings() source.Settings {
	return source.Settings{Name: "hyp-farne", Kind: source.Libvirt, Address: strings.Replace(b.form, "%s", b.socket(), 1), Interval: time.Second}
}

func (b *bed) Open(s source.Settings) (source.Source, error) { return libvirt.Open(s) }
func (b *bed) Nowhere() string                               { return strings.Replace(b.form, "%s", b.dir+"/nobody", 1) }
func (b *bed) Holds() []estate.Kind {
	return []estate.Kind{estate.Host, estate.VM, estate.VDisk, estate.Datastore, estate.Device, estate.Path, estate.HBAPort}
}
func (b *bed) Work(*testing.T) {} // the driver's counters move by themselves

func (b *bed) Break(*testing.T) {
	if b.daemon != nil {
		_ = b.daemon.Process.Kill()
		_ = b.daemon.Wait()
		b.daemon = nil
	}
}

func (b *bed) Mend(t *testing.T) {
	b.daemon = exec.Command("/usr/sbin/libvirtd", append([]string{"--timeout", "0"}, b.args...)...)
	b.daemon.Env = append(os.Environ(), "HOME="+b.dir+"/home", "XDG_RUNTIME_DIR="+b.dir+"/run", "XDG_CONFIG_HOME="+b.dir+"/home", "XDG_CACHE_HOME="+b.dir+"/home")
	b.daemon.SysProcAttr = &syscall.SysProcAttr{Credential: b.as}
	require.NoError(t, b.daemon.Start())
	require.Eventually(t, func() bool {
		s, err := b.Open(b.Settings())
		if err != nil {
			return false
		}
		defer s.Close()
		ctx, cancel := context.WithTimeout(t.Context(), 2*time.Second)
		defer cancel()
		_, err = s.Inventory(ctx)
		return err == nil
	}, 20*time.Second, 100*time.Millisecond)
}

func TestContract(t *testing.T) {
	b := newBed(t)
	b.Mend(t)
	sourcetest.Run(t, b)
}

func TestWhatIsListed(t *testing.T) {
	b := newBed(t)
	b.Mend(t)
	s, err := b.Open(b.Settings())
	require.NoError(t, err)
	defer s.Close()
	inv, err := s.Inventory(t.Context())
	require.NoError(t, err)
	by := map[string]int{}
	for i, o := range inv.Objects {
		by[o.Ref().String()] = i
	}
	vm := inv.Objects[by["vm:6f1c24d0-0b5e-4a53-9d6c-1d2a5a1c0e07"]]
	assert.Equal(t, "berth-plan", vm.Name)
	assert.EqualValues(t, 2, vm.Facts["vcpus"])
	assert.Equal(t, "on", vm.Facts["power"])
	assert.Len(t, vm.Links["uses"], 2)
	disk := inv.Objects[by["vdisk:6f1c24d0-0b5e-4a53-9d6c-1d2a5a1c0e07/vda"]]
	assert.Equal(t, []string{"datastore:iqn.2026-03.example.tidewrack:shags/1"}, disk.Links["stored_on"])
	device := inv.Objects[by["device:6001405f00000000000000000000000e"]]
	assert.Equal(t, "6001405f00000000000000000000000e", device.Facts["naa"])
}

func TestASocketWeMayNotOpen(t *testing.T) {
	b := newBed(t)
	require.NoError(t, os.MkdirAll(b.dir+"/run/libvirt", 0o755))
	set := b.Settings()
	set.Address = "qemu+unix:///system?socket=" + b.dir + "/run/none"
	s, err := b.Open(set)
	require.NoError(t, err)
	r := s.Probe(t.Context())
	require.False(t, r.OK())
	last := r.Steps[1]
	assert.Equal(t, source.StepReachable, last.Name)
	assert.Equal(t, source.Failed, last.Outcome)
	assert.Contains(t, last.Found, "there is no socket")
	assert.True(t, strings.Contains(last.Try, "daemon runs"))
}
