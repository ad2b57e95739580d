package cli_test

import (
	"bufio"
	"encoding/json"
	"image"
	"image/color"
	"image/png"
	"io"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dowsingrod/internal/feed"
	"dowsingrod/internal/source"
	"dowsingrod/internal/source/pull"
)

func TestLabRunWritesFeedsAndTheTruth(t *testing.T) {
	c := demo(t)
	dir := filepath.Join(t.TempDir(), "run")
	out, said, status := c.run("lab", "run", "--fault", "controller-slow", "--seed", "4", "--hours", "1", "--vms", "100", "--to", "2026-03-02T12:00:00Z", "--out", dir)
	require.Zero(t, status, said)
	assert.Contains(t, out, "7 sources")
	assert.Contains(t, out, "controller-slow (degraded) at controller:")
	text, err := os.ReadFile(filepath.Join(dir, "truth.json"))
	require.NoError(t, err)
	var truth struct {
		Causes []struct{ Class, Component string }
	}
	require.NoError(t, json.Unmarshal(text, &truth))
	require.Len(t, truth.Causes, 1)
	assert.Equal(t, "degraded", truth.Causes[0].Class)
	files, err := filepath.Glob(filepath.Join(dir, "*.ndjson.zst"))
	require.NoError(t, err)
	assert.Len(t, files, 7)
	for _, name := range files {
		f, err := os.Open(name)
		require.NoError(t, err)
		r, err := feed.NewReader(f, time.Date(2026, 3, 2, 12, 1, 0, 0, time.UTC))
		require.NoError(t, err)
		records := 0
		for {
			if _, err = r.Next(); err != nil {
				break
			}
			records++
		}
		require.ErrorIs(t, err, io.EOF, name)
		assert.Greater(t, records, 20, name)
		r.Close()
		f.Close()
	}
}

func TestLabRunRefusesWhatMakesNoSense(t *testing.T) {
	c := demo(t)
	for args, says := range map[string]string{
		"--fault gremlins": "no fault is called", "--hours 0": "--hours is from 0.5", "--vms 3": "40 machines at least", "--every 15s": "multiple of 20s", "extra": "flags only",
		"--force 9": "a force is from",
	} {
		_, said, status := c.run(append([]string{"lab", "run", "--out", t.TempDir()}, strings.Fields(args)...)...)
		assert.Equal(t, 2, status, args)
		assert.Contains(t, said, says, args)
	}
	_, said, status := c.run("lab", "state", "--folder", t.TempDir())
	assert.Equal(t, 1, status)
	assert.Contains(t, said, "dowse lab serve")
}

func TestLabFaultsAreExplained(t *testing.T) {
	c := demo(t)
	out, _, status := c.run("lab", "faults")
	require.Zero(t, status)
	for _, line := range strings.Split(out, "\n") {
		assert.LessOrEqual(t, len([]rune(line)), 100, line)
	}
	assert.Contains(t, out, "slow-receiver")
	out, _, _ = c.run("lab", "faults", "--json")
	var kinds []struct{ Name, Class, Says string }
	require.NoError(t, json.Unmarshal([]byte(out), &kinds))
	assert.Greater(t, len(kinds), 25)
	classes := map[string]bool{}
	for _, k := range kinds {
		assert.NotEmpty(t, k.Says)
		classes[k.Class] = true
	}
	for _, class := range []string{"noisy_neighbour", "own_demand", "crowd", "growth", "degraded", "slow_receiver", "path", "host_queue", "limit", "site_link", "cleared"} {
		assert.True(t, classes[class], class)
	}
}

func TestALabIsServedAndTalkedTo(t *testing.T) {
	c := demo(t)
	folder := filepath.Join(t.TempDir(), "live")
	cmd := c.command("lab", "serve", "--vms", "60", "--listen", "127.0.0.1:0", "--folder", folder, "--from", "-30m", "--speed", "10000")
	pipe, err := cmd.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, cmd.Start())
	defer func() {
		require.NoError(t, cmd.Process.Signal(syscall.SIGINT))
		assert.NoError(t, cmd.Wait(), "it ends cleanly")
	}()
	line, err := bufio.NewReader(pipe).ReadString('\n')
	require.NoError(t, err)
	assert.Contains(t, line, "7 sources at https://127.0.0.1:")
	out, said, status := c.run("lab", "begin", "site-link", "--folder", folder)
	require.Zero(t, status, said)
	assert.Contains(t, out, "site-link (site_link) since")
	require.Eventually(t, func() bool { // half an hour passes in a fraction of a second
		out, _, _ = c.run("lab", "state", "--folder", folder, "--json")
		var s struct{ Time time.Time }
		return json.Unmarshal([]byte(out), &s) == nil && time.Since(s.Time) < 3*time.Minute
	}, 20*time.Second, 50*time.Millisecond)
	address, err := os.ReadFile(filepath.Join(folder, "lab.json"))
	require.NoError(t, err)
	var kept struct{ Address, Pin string }
	require.NoError(t, json.Unmarshal(address, &kept))
	token, err := os.ReadFile(filepath.Join(folder, "token"))
	require.NoError(t, err)
	puller, err := pull.Open(source.Settings{Name: "petrel", Address: kept.Address + "/feeds/petrel", Pin: kept.Pin, Secrets: source.Secrets{Token: strings.TrimSpace(string(token))}})
	require.NoError(t, err)
	defer puller.Close()
	inventory, err := puller.Inventory(t.Context())
	require.NoError(t, err, "a source of the service can pull it")
	assert.NotEmpty(t, inventory.Objects)
	out, _, status = c.run("lab", "remedy", "depth", "host:h-01@hyp-northmole", "--value", "256", "--folder", folder)
	require.Zero(t, status)
	assert.Contains(t, out, "256 places")
	out, _, status = c.run("lab", "end", "1", "--folder", folder)
	require.Zero(t, status)
	assert.Contains(t, out, "ended")
	_, said, status = c.run("lab", "end", "1", "--folder", folder)
	assert.Equal(t, 1, status)
	assert.Contains(t, said, "no fault 1 is under way")
	info, err := os.Stat(filepath.Join(folder, "token"))
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
}

func TestLabFiguresAreDrawn(t *testing.T) {
	c := demo(t)
	dir := t.TempDir()
	out, said, status := c.run("lab", "figures", "--out", dir)
	require.Zero(t, status, said)
	assert.Equal(t, 3, strings.Count(out, ".png"))
	files, err := filepath.Glob(filepath.Join(dir, "*.png"))
	require.NoError(t, err)
	for _, name := range files {
		f, err := os.Open(name)
		require.NoError(t, err)
		picture, err := png.Decode(f)
		require.NoError(t, err)
		f.Close()
		assert.Equal(t, image.Pt(1280, 720), picture.Bounds().Size(), name)
		tones := map[color.Color]bool{}
		for x := 0; x < 1280; x += 2 {
			for y := 0; y < 720; y += 2 {
				tones[picture.At(x, y)] = true
			}
		}
		assert.Greater(t, len(tones), 20, "something is drawn in %s", name)
	}
	assert.Len(t, files, 3)
}
