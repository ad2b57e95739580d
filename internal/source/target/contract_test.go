package target_test

import (
	"context"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dowsingrod/core/estate"
	"dowsingrod/internal/source"
	"dowsingrod/internal/source/sourcetest"
	"dowsingrod/internal/source/target"
)

const targetName = "iqn.2026-03.example.tidewrack:puffins"

// bed is a target daemon of its own with one LUN, and an initiator that reads and writes it.
type bed struct {
	dir    string
	port   int
	daemon *exec.Cmd
}

func newBed(t *testing.T) *bed {
	for program, pkg := range map[string]string{"tgtd": "tgt", "qemu-io": "qemu-utils"} {
		if _, err := exec.LookPath(program); err != nil {
			t.Skipf("no %s here (package %s)", program, pkg)
		}
	}
	if found, _ := filepath.Glob("/usr/lib/*/qemu/block-iscsi.so"); len(found) == 0 {
		t.Skip("no iSCSI initiator here (package qemu-block-extra)")
	}
	dir, err := os.MkdirTemp("", "dowse-tgt-")
	require.NoError(t, err)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	b := &bed{dir: dir, port: l.Addr().(*net.TCPAddr).Port}
	l.Close()
	require.NoError(t, os.WriteFile(dir+"/lun", nil, 0o600))
	require.NoError(t, os.Truncate(dir+"/lun", 64<<20))
	b.Mend(t)
	t.Cleanup(func() {
		b.Break(t)
		_ = os.RemoveAll(dir)
	})
	return b
}

func (b *bed) admin(args ...string) error {
	c := exec.Command("tgtadm", append([]string{"--lld", "iscsi"}, args...)...)
	c.Env = append(os.Environ(), "TGT_IPC_SOCKET="+b.dir+"/tgt")
	out, err := c.CombinedOutput()
	if err != nil {
		return fmt.Errorf("%w: %s", err, out)
	}
	return nil
}

func (b *bed) Settings() source.Settings {
	return source.Settings{Name: "puffins", Kind: source.Target, Address: "tgt://" + b.dir + "/tgt", Interval: time.Second}
}

func (b *bed) Open(s source.Settings) (source.Source, error) { return target.Open(s) }
func (b *bed) Nowhere() string                               { return "tgt://" + b.dir + "/nobody" }
func (b *bed) Holds() []estate.Kind {
	return []estate.Kind{estate.Array, estate.Controller, estate.TargetPort, estate.Volume, estate.Pool}
}

// session reads and writes the LUN over iSCSI, in a session of its own.
func (b *bed) Work(t *testing.T) {
	c := exec.Command("qemu-io", "-f", "raw", "-c", "write 0 256k", "-c", "read 0 1M", "-c", "flush", fmt.Sprintf("iscsi://127.0.0.1:%d/%s/1", b.port, targetName))
	out, err := c.CombinedOutput()
	require.NoError(t, err, "%s", out)
}

func (b *bed) Break(*testing.T) {
	if b.daemon != nil {
		_ = b.daemon.Process.Kill()
		_ = b.daemon.Wait()
		b.daemon = nil
	}
}

func (b *bed) Mend(t *testing.T) {
	_ = os.Remove(b.dir + "/tgt.0")
	b.daemon = exec.Command("tgtd", "-f", "--iscsi", fmt.Sprintf("portal=127.0.0.1:%d", b.port))
	b.daemon.Env = append(os.Environ(), "TGT_IPC_SOCKET="+b.dir+"/tgt")
	require.NoError(t, b.daemon.Start())
	require.Eventually(t, func() bool { return b.admin("--op", "show", "--mode", "sys") == nil }, 15*time.Second, 50*time.Millisecond)
	for _, args := range [][]string{{"--op", "new", "--mode", "target", "--tid", "1", "-T", targetName},
		{"--op", "new", "--mode", "logicalunit", "--tid", "1", "--lun", "1", "-b", b.dir + "/lun"}, {"--op", "bind", "--mode", "target", "--tid", "1", "-I", "ALL"}} {
		require.NoError(t, b.admin(args...))
	}
}

func TestContract(t *testing.T) { sourcetest.Run(t, newBed(t)) }

// Asking must not be work for the daemon: it once spun for ever on connections that asked nothing.
func TestAskingLeavesTheDaemonIdle(t *testing.T) {
	b := newBed(t)
	s, err := b.Open(b.Settings())
	require.NoError(t, err)
	ended, cancel := context.WithCancel(t.Context())
	cancel()
	for range 20 {
		_, err := s.Inventory(t.Context())
		require.NoError(t, err)
		_, _ = s.Inventory(ended)
	}
	files, err := os.ReadDir(fmt.Sprintf("/proc/%d/fd", b.daemon.Process.Pid))
	require.NoError(t, err)
	sockets := 0
	for _, f := range files {
		if to, err := os.Readlink(fmt.Sprintf("/proc/%d/fd/%s", b.daemon.Process.Pid, f.Name())); err == nil && len(to) > 6 && to[:6] == "socket" {
			sockets++
		}
	}
	assert.Less(t, sockets, 6, "no connection is left behind")
}

func TestWhatASessionDidIsCountedAndWhatEndedIsMissing(t *testing.T) {
	b := newBed(t)
	set := b.Settings()
	s, err := b.Open(set)
	require.NoError(t, err)
	r := s.Probe(t.Context())
	require.True(t, r.OK(), "%+v", r.Steps)
	b.Work(t)
	_, err = s.Inventory(t.Context())
	require.NoError(t, err)
	_, err = s.Readings(t.Context())
	require.NoError(t, err)
	b.Break(t)
	_, err = s.Inventory(t.Context())
	var tr *source.Trouble
	require.ErrorAs(t, err, &tr)
	assert.Contains(t, tr.What, "nobody listens")
	b.Mend(t)
	_, err = s.Inventory(t.Context())
	require.NoError(t, err)
	out, err := s.Readings(t.Context())
	require.NoError(t, err)
	for _, run := range out.Runs {
		for metric, v := range run.Values {
			assert.Less(t, v[0], 1e7, "%s %s after a restart", run.Of, metric)
		}
	}
}
