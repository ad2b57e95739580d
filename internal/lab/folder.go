package lab

import (
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"sync"
	"sync/atomic"

	"github.com/klauspost/compress/zstd"

	"dowsingrod/internal/feed"
)

// Written says what a run of the lab wrote.
type Written struct{ Sources, Objects, Samples int64 }

// WriteFolder writes a feed of every source, <source>.ndjson.zst, and truth.json to a folder that is made where it is missing.
// Files appear only once all are whole.
func (f *Fleet) WriteFolder(dir string) (Written, error) {
	var w Written
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return w, fmt.Errorf("the folder cannot be made; choose another with --out: %w", err)
	}
	work, err := os.MkdirTemp(dir, ".lab-*")
	if err != nil {
		return w, fmt.Errorf("the folder cannot be written to; choose another with --out: %w", err)
	}
	defer os.RemoveAll(work)
	var mu sync.Mutex
	files := map[string]*packed{}
	of := func(source string) (*packed, error) {
		mu.Lock()
		defer mu.Unlock()
		p, ok := files[source]
		if !ok {
			var err error
			if p, err = pack(filepath.Join(work, source+".ndjson.zst")); err != nil {
				return nil, err
			}
			files[source] = p
		}
		return p, nil
	}
	err = f.Write(func(source string, r feed.Record) error {
		p, err := of(source)
		if err != nil {
			return err
		}
		switch {
		case r.Object != nil:
			atomic.AddInt64(&w.Objects, 1)
		case r.Reading != nil:
			n := 0
			for _, v := range r.Reading.Values {
				n += len(v)
			}
			atomic.AddInt64(&w.Samples, int64(n))
		}
		return p.write(r)
	})
	for _, p := range files {
		err = errors.Join(err, p.close())
	}
	if err != nil {
		return w, err
	}
	truth, err := json.MarshalIndent(f.Truth(), "", "  ")
	if err != nil {
		return w, err
	}
	if err := os.WriteFile(filepath.Join(work, "truth.json"), append(truth, '\n'), 0o644); err != nil {
		return w, err
	}
	w.Sources = int64(len(files))
	names, err := os.ReadDir(work)
	for _, n := range names {
		err = errors.Join(err, os.Rename(filepath.Join(work, n.Name()), filepath.Join(dir, n.Name())))
	}
	return w, err
}

// packed is a feed that is written compressed.
type packed struct {
	file *os.File
	zip  *zstd.Encoder
	feed *feed.Writer
}

func pack(path string) (*packed, error) {
	file, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o644)
	if err != nil {
		return nil, err
	}
	// One at a time and without long windows: parts are written side by side already, and the same input gives the same bytes.
	zip, err := zstd.NewWriter(file, zstd.WithEncoderLevel(zstd.SpeedFastest), zstd.WithEncoderConcurrency(1), zstd.WithWindowSize(1<<20))
	if err != nil {
		return nil, errors.Join(err, file.Close())
	}
	return &packed{file, zip, feed.NewWriter(zip)}, nil
}

func (p *packed) write(r feed.Record) error { return p.feed.Write(r) }

func (p *packed) close() error { return errors.Join(p.feed.Flush(), p.zip.Close(), p.file.Close()) }
