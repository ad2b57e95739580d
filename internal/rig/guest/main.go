//go:build linux

// Command guest is the whole user space of a virtual machine of the rig: it runs as its init, reads and writes its
// disks as it is told over its second serial line, and says what it felt. One line a command:
//
//	                                          an empty line is answered by "ready"
//	load DISK WORKERS BYTES READ_SHARE IOPS   work on /dev/vd… from now on; IOPS 0 means as fast as it goes
//	felt DISK                                 answers "felt DISK I/OS MEAN_US" since the last such question
package main

import (
	"bufio"
	"fmt"
	"math/rand/v2"
	"os"
	"strings"
	"sync"
	"sync/atomic"
	"time"
	"unsafe"

	"golang.org/x/sys/unix"
)

func main() {
	for _, m := range []struct{ kind, at string }{{"proc", "/proc"}, {"sysfs", "/sys"}, {"devtmpfs", "/dev"}} {
		_ = os.MkdirAll(m.at, 0o755)
		if err := unix.Mount(m.kind, m.at, m.kind, 0, ""); err != nil {
			fmt.Println("guest: mount", m.at, err)
		}
	}
	// In the order in which one needs the other.
	for _, name := range []string{"virtio_ring", "virtio", "virtio_pci_legacy_dev", "virtio_pci_modern_dev", "virtio_pci", "virtio_blk"} {
		if err := load("/modules/" + name + ".ko"); err != nil {
			fmt.Println("guest: module", name, err)
		}
	}
	line, err := serial("/dev/ttyS1")
	if err != nil {
		fmt.Println("guest: serial line", err)
		select {}
	}
	disks := map[string]*disk{}
	for in := bufio.NewScanner(line); in.Scan(); {
		fmt.Fprintln(line, answer(disks, in.Text()))
	}
	select {} // an init that ends takes the kernel with it
}

func load(file string) error {
	f, err := os.Open(file)
	if os.IsNotExist(err) {
		return nil // built into this kernel
	}
	if err != nil {
		return err
	}
	defer f.Close()
	return unix.FinitModule(int(f.Fd()), "", 0)
}

// serial opens a line without echo and without translation.
func serial(path string) (*os.File, error) {
	f, err := os.OpenFile(path, os.O_RDWR, 0)
	if err != nil {
		return nil, err
	}
	t, err := unix.IoctlGetTermios(int(f.Fd()), unix.TCGETS)
	if err != nil {
		return nil, err
	}
	t.Iflag, t.Oflag, t.Lflag = 0, 0, 0
	t.Cflag |= unix.CREAD | unix.CLOCAL
	t.Cc[unix.VMIN], t.Cc[unix.VTIME] = 1, 0
	return f, unix.IoctlSetTermios(int(f.Fd()), unix.TCSETS, t)
}

func answer(disks map[string]*disk, line string) string {
	var name string
	var workers, size int
	var readShare, iops float64
	switch verb, rest, _ := strings.Cut(line, " "); verb {
	case "":
		return "ready"
	case "load":
		if _, err := fmt.Sscan(rest, &name, &workers, &size, &readShare, &iops); err != nil {
			return "cannot " + line + ": " + err.Error()
		}
		if d := disks[name]; d != nil {
			d.stop()
			delete(disks, name)
		}
		if workers == 0 {
			return "ok"
		}
		d, err := start("/dev/"+name, workers, size, readShare, iops)
		if err != nil {
			return "cannot " + line + ": " + err.Error()
		}
		disks[name] = d
		return "ok"
	case "felt":
		if d := disks[rest]; d != nil {
			n, us := d.count.Swap(0), d.micros.Swap(0)
			return fmt.Sprintf("felt %s %d %.0f", rest, n, float64(us)/float64(max(n, 1)))
		}
		return "felt " + rest + " 0 0"
	}
	return "cannot " + line
}

// disk is a block device under load.
type disk struct {
	file          *os.File
	bytes         int64
	done          chan struct{}
	workers       sync.WaitGroup
	count, micros atomic.Int64
}

func start(path string, workers, size int, readShare, iops float64) (*disk, error) {
	file, err := os.OpenFile(path, os.O_RDWR|unix.O_DIRECT, 0)
	if err != nil {
		return nil, err
	}
	end, err := file.Seek(0, 2)
	if err != nil {
		return nil, err
	}
	d := &disk{file: file, bytes: end, done: make(chan struct{})}
	for range workers {
		d.workers.Go(func() { d.work(size, readShare, iops/float64(workers)) })
	}
	return d, nil
}

func (d *disk) stop() {
	close(d.done)
	d.workers.Wait()
	d.file.Close()
}

// work reads and writes at random places, one request at a time, with exponential gaps where a rate is set.
func (d *disk) work(size int, readShare, iops float64) {
	buffer := aligned(size)
	places := d.bytes / int64(size)
	for due := time.Now(); ; {
		if iops > 0 {
			due = due.Add(time.Duration(rand.ExpFloat64() / iops * float64(time.Second)))
			if late := time.Since(due); late > time.Second {
				due = due.Add(late) // what could not be done in time is not made up for later
			}
		}
		select {
		case <-d.done:
			return
		case <-time.After(time.Until(due)):
		}
		at := rand.Int64N(places) * int64(size)
		begin := time.Now()
		var err error
		if rand.Float64() < readShare {
			_, err = d.file.ReadAt(buffer, at)
		} else {
			_, err = d.file.WriteAt(buffer, at)
		}
		if err != nil {
			fmt.Println("guest:", err)
			continue
		}
		d.count.Add(1)
		d.micros.Add(time.Since(begin).Microseconds())
	}
}

// aligned returns a buffer at a page's border, as direct I/O asks for.
func aligned(size int) []byte {
	const page = 4096
	b := make([]byte, size+page)
	skip := page - int(uintptr(unsafe.Pointer(&b[0]))%page)
	return b[skip : skip+size]
}
