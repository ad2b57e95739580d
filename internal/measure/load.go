package main

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/hex"
	"fmt"
	"math/big"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"

	"dowsingrod/internal/collect"
	"dowsingrod/internal/rig"
	"dowsingrod/internal/service"
	"dowsingrod/internal/source"
	"dowsingrod/internal/source/libvirt"
)

// collecting measures what asking costs: one large libvirt daemon, and many feeds, each in a process of its own.
func collecting(ctx context.Context) error {
	exe, err := os.Executable()
	if err != nil {
		return err
	}
	for _, part := range []string{"collect-libvirt", "collect-feeds"} {
		c := exec.CommandContext(ctx, exe, part)
		c.Stdout, c.Stderr = os.Stdout, os.Stderr
		if err := c.Run(); err != nil {
			return fmt.Errorf("%s: %w", part, err)
		}
	}
	return nil
}

// processor returns the processor time that processes used so far.
func processor(pids ...int) (used time.Duration) {
	for _, pid := range pids {
		text, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
		if err != nil {
			continue
		}
		f := strings.Fields(string(text[strings.LastIndexByte(string(text), ')')+1:]))
		if len(f) > 12 {
			user, _ := strconv.Atoi(f[11])
			system, _ := strconv.Atoi(f[12])
			used += time.Duration(user+system) * 10 * time.Millisecond
		}
	}
	return used
}

// database returns the processes of the database server that serves dir.
func database(parent int) (pids []int) {
	files, _ := filepath.Glob("/proc/[0-9]*/stat")
	for _, file := range files {
		text, err := os.ReadFile(file)
		if err != nil {
			continue
		}
		f := strings.Fields(string(text[strings.LastIndexByte(string(text), ')')+1:]))
		pid, _ := strconv.Atoi(filepath.Base(filepath.Dir(file)))
		if len(f) > 1 && (f[1] == strconv.Itoa(parent) || pid == parent) {
			pids = append(pids, pid)
		}
	}
	return pids
}

func postmaster(dir string) int {
	text, err := os.ReadFile(dir)
	if err != nil {
		return 0
	}
	line, _, _ := strings.Cut(string(text), "\n")
	pid, _ := strconv.Atoi(line)
	return pid
}

// settled waits until a source has made so many passes.
func (w *tower) settled(ctx context.Context, name string, passes int64) (*collect.Health, error) {
	for {
		s, err := w.client.Source(ctx, name)
		if err != nil {
			return nil, err
		}
		if s.Health != nil && s.Health.Passes >= passes {
			return s.Health, nil
		}
		if s.Health != nil && s.Health.State == collect.Failing {
			return nil, fmt.Errorf("%s fails: %s", name, s.Health.Words)
		}
		if err := sleep(ctx, 2*time.Second); err != nil {
			return nil, err
		}
	}
}

func sleep(ctx context.Context, d time.Duration) error {
	select {
	case <-ctx.Done():
		return ctx.Err()
	case <-time.After(d):
		return nil
	}
}

// manyMachines: 2,000 machines with 3,000 disks behind one libvirt daemon, asked every 20 s.
func manyMachines(ctx context.Context) error {
	idle, err := rig.StartIdle(ctx, 2000)
	if err != nil {
		fmt.Println("collect.libvirt not measured:", err)
		return nil
	}
	defer idle.Stop()
	w, err := watchtower(ctx)
	if err != nil {
		return err
	}
	defer w.stop()
	if _, err := w.client.AddSource(ctx, service.SourceSpec{Name: "hyp", Address: idle.Address(), Interval: 20}, true); err != nil {
		return err
	}
	if _, err := w.settled(ctx, "hyp", 2); err != nil {
		return err
	}
	const passes = 3
	pg := postmaster(w.dir + "/pg/data/postmaster.pid")
	began, own, theirs := time.Now(), processor(os.Getpid()), processor(database(pg)...)
	longest := 0.0
	for k := range int64(passes) {
		h, err := w.settled(ctx, "hyp", 3+k)
		if err != nil {
			return err
		}
		longest = max(longest, h.Took)
	}
	elapsed := time.Since(began)
	bench("collect.libvirt_2000.pass", longest, "s")
	bench("collect.libvirt_2000.service_share", (processor(os.Getpid())-own).Seconds()/elapsed.Seconds(), "core")
	bench("collect.libvirt_2000.database_share", (processor(database(pg)...)-theirs).Seconds()/elapsed.Seconds(), "core")
	return plainMachines(ctx, idle)
}

// plainMachines is what one would write first: connect, and ask for every description and every disk anew each time.
func plainMachines(ctx context.Context, idle *rig.Idle) error {
	own, began := processor(os.Getpid()), time.Now()
	s, err := libvirt.Open(source.Settings{Name: "plain", Address: idle.Address(), Interval: 20 * time.Second})
	if err != nil {
		return err
	}
	defer s.Close()
	if _, err := s.Inventory(ctx); err != nil { // a first inventory reads everything
		return err
	}
	bench("collect.libvirt_2000.pass.plain", time.Since(began).Seconds(), "s")
	bench("collect.libvirt_2000.service_share.plain", (processor(os.Getpid())-own).Seconds()/20, "core")
	return nil
}

const (
	feedSources = 200
	feedVMs     = 100
	feedToken   = "bench"
)

// manyFeeds: 200 feeds of 100 VMs each over HTTPS, every 20 s, served by a process of their own.
func manyFeeds(ctx context.Context) error {
	exe, err := os.Executable()
	if err != nil {
		return err
	}
	serving := exec.CommandContext(ctx, exe, "serve-feeds")
	serving.Stderr = os.Stderr
	out, err := serving.StdoutPipe()
	if err != nil {
		return err
	}
	if err := serving.Start(); err != nil {
		return err
	}
	defer func() {
		_ = serving.Process.Kill()
		_ = serving.Wait()
	}()
	var address, pin string
	if _, err := fmt.Fscan(out, &address, &pin); err != nil {
		return err
	}
	w, err := watchtower(ctx)
	if err != nil {
		return err
	}
	defer w.stop()
	for k := range feedSources {
		spec := service.SourceSpec{Name: fmt.Sprintf("exporter-%03d", k), Address: fmt.Sprintf("%s/%d", address, k), Interval: 20, Pin: pin, Secrets: source.Secrets{Token: feedToken}}
		if _, err := w.client.AddSource(ctx, spec, true); err != nil {
			return err
		}
	}
	for k := range feedSources {
		if _, err := w.settled(ctx, fmt.Sprintf("exporter-%03d", k), 2); err != nil {
			return err
		}
	}
	pg := postmaster(w.dir + "/pg/data/postmaster.pid")
	began, own, theirs := time.Now(), processor(os.Getpid()), processor(database(pg)...)
	if err := sleep(ctx, time.Minute); err != nil {
		return err
	}
	elapsed := time.Since(began)
	late := 0
	list, err := w.client.Sources(ctx)
	if err != nil {
		return err
	}
	for _, s := range list {
		if s.Health == nil || s.Health.State != collect.Collecting || time.Since(s.Health.Newest) > 45*time.Second {
			late++
		}
	}
	bench("collect.feeds_200.service_share", (processor(os.Getpid())-own).Seconds()/elapsed.Seconds(), "core")
	bench("collect.feeds_200.database_share", (processor(database(pg)...)-theirs).Seconds()/elapsed.Seconds(), "core")
	bench("collect.feeds_200.service_memory", float64(resident(os.Getpid()))/(1<<20), "MiB")
	bench("collect.feeds_200.late_sources", float64(late), "sources")
	return nil
}

// resident returns the bytes of memory a process holds.
func resident(pid int) int {
	text, err := os.ReadFile(fmt.Sprintf("/proc/%d/statm", pid))
	if err != nil {
		return 0
	}
	f := strings.Fields(string(text))
	pages, _ := strconv.Atoi(f[1])
	return pages * syscall.Getpagesize()
}

// serveFeeds serves the feeds until its parent ends it.
func serveFeeds() error {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return err
	}
	template := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "exporter"}, NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(24 * time.Hour), IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)}}
	raw, err := x509.CreateCertificate(rand.Reader, template, template, &key.PublicKey, key)
	if err != nil {
		return err
	}
	l, err := tls.Listen("tcp", "127.0.0.1:0", &tls.Config{Certificates: []tls.Certificate{{Certificate: [][]byte{raw}, PrivateKey: key}}, NextProtos: []string{"h2", "http/1.1"}})
	if err != nil {
		return err
	}
	sum := sha256.Sum256(raw)
	fmt.Printf("https://%s %s\n", l.Addr(), hex.EncodeToString(sum[:]))
	return http.Serve(l, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Header.Get("Authorization") != "Bearer "+feedToken {
			http.Error(w, "who", http.StatusUnauthorized)
			return
		}
		n, _ := strconv.Atoi(strings.Trim(r.URL.Path, "/"))
		_, _ = w.Write([]byte(exported(n, time.Now())))
	}))
}

// exported is a feed of 100 VMs, with their readings of the last whole interval.
func exported(n int, now time.Time) string {
	var b strings.Builder
	fmt.Fprintf(&b, `{"feed":{"version":1,"source":"exporter-%03d","time":%q,"full":true}}`+"\n", n, now.UTC().Format(time.RFC3339))
	from := now.Truncate(20 * time.Second).Add(-20 * time.Second).UTC().Format(time.RFC3339)
	for i := range feedVMs {
		id := n*feedVMs + i
		fmt.Fprintf(&b, `{"object":{"kind":"vm","id":"v%d","name":"lamp-telemetry-%05d","facts":{"uuid":"6f1c24d0-0b5e-4a53-9d6c-%012x","vcpus":2,"memory_bytes":4294967296,"power":"on"},"links":{"uses":["vdisk:v%d-0"]}}}`+"\n", i, id, id, i)
		fmt.Fprintf(&b, `{"object":{"kind":"vdisk","id":"v%d-0","name":"lamp-telemetry-%05d vda","facts":{"bytes":42949672960,"format":"thin"}}}`+"\n", i, id)
	}
	for i := range feedVMs {
		x := float64((now.Unix()/20*7 + int64(n*31+i*17)) % 997)
		fmt.Fprintf(&b, `{"reading":{"of":"vdisk:v%d-0","from":%q,"step_s":20,"values":{"read_iops":[%.2f],"write_iops":[%.2f],"read_bytes_s":[%.0f],"write_bytes_s":[%.0f],"read_latency_us":[%.1f],"write_latency_us":[%.1f],"outstanding":[%.3f]}}}`+"\n",
			i, from, x/10, x/17, x*820, x*517, 300+x, 400+x/2, x/900)
		fmt.Fprintf(&b, `{"reading":{"of":"vm:v%d","from":%q,"step_s":20,"values":{"busy_share":[%.4f],"steal_share":[%.4f]}}}`+"\n", i, from, x/1200, x/90000)
	}
	return b.String()
}
