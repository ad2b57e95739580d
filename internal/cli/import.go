package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"
	"github.com/urfave/cli/v3"

	"dowsingrod/core/phrase"
	"dowsingrod/internal/client"
	"dowsingrod/internal/service"
)

func (a *App) importFeed() *cli.Command {
	return &cli.Command{Name: "import", Usage: "bring in feeds: files, plain, gzip or zstd, or - for standard input", ArgsUsage: "FILE …",
		Flags: []cli.Flag{&cli.BoolFlag{Name: "skip-bad", Usage: "store all good lines and write the rejected ones beside the file"}},
		Action: func(ctx context.Context, c *cli.Command) error {
			if c.Args().Len() == 0 {
				return wrongUsage("name the file: dowse import FILE …")
			}
			cl, err := a.connect(c)
			if err != nil {
				return err
			}
			for _, path := range c.Args().Slice() {
				if err := a.importFile(ctx, c, cl, path); err != nil {
					return err // what came before it is in
				}
			}
			return nil
		}}
}

func (a *App) importFile(ctx context.Context, c *cli.Command, cl *client.Client, path string) error {
	in, size := io.ReadCloser(os.Stdin), int64(0)
	if path != "-" {
		f, err := os.Open(path)
		if err != nil {
			return err
		}
		info, err := f.Stat()
		if err != nil {
			return err
		}
		if info.IsDir() {
			return fmt.Errorf("%s is a directory: give a file", path)
		}
		in, size = f, info.Size()
	}
	defer in.Close()
	r, err := cl.Import(ctx, a.watch(in, path, size), c.Bool("skip-bad"))
	if err != nil {
		return a.refused(err, path)
	}
	return a.imported(c, path, r)
}

func (a *App) refused(err error, path string) error {
	var p *client.Problem
	if errors.As(err, &p) && p.Of("bad-feed") {
		p.Detail = path + ": " + p.Detail
		for _, e := range p.Errors {
			if e.Location != "line 0" {
				fmt.Fprintln(a.Err, "Correct them, or store the rest with --skip-bad.")
				break
			}
		}
	}
	return err
}

func (a *App) imported(c *cli.Command, path string, r service.ImportResult) error {
	beside := ""
	if r.Bad > 0 && path != "-" {
		var err error
		if beside, err = writeRejected(path, r.Rejected); err != nil {
			return fmt.Errorf("the rest is stored, but the rejected lines cannot be written beside the file: %w", err)
		}
	}
	if c.Bool("json") {
		return a.printJSON(r)
	}
	fmt.Fprintf(a.Out, "%s: %s from %s, %d changed, %d gone; %s readings in %s.\n", path, phrase.Count(r.Objects, "object", "objects"),
		phrase.Count(r.Sources, "feed header", "feed headers"), r.Changed, r.Gone, phrase.Rate(float64(r.Samples)), phrase.Span(time.Duration(r.Took*1e9)))
	if r.Bad == 0 {
		return nil
	}
	for _, e := range r.Errors {
		fmt.Fprintf(a.Err, "  line %d: %s\n", e.Line, e.Reason)
	}
	if more := r.Bad - len(r.Errors); more > 0 {
		fmt.Fprintf(a.Err, "  and %d more\n", more)
	}
	if beside != "" {
		fmt.Fprintf(a.Err, "%s rejected; they are in %s\n", phrase.Count(r.Bad, "line was", "lines were"), beside)
	}
	return nil
}

// writeRejected copies the rejected lines of a feed to a file beside it.
func writeRejected(path string, ranges []service.LineRange) (string, error) {
	f, err := os.Open(path)
	if err != nil {
		return "", err
	}
	defer f.Close()
	var in io.Reader = f
	name := path
	switch {
	case strings.HasSuffix(path, ".gz"):
		name = strings.TrimSuffix(path, ".gz")
		if in, err = gzip.NewReader(f); err != nil {
			return "", err
		}
	case strings.HasSuffix(path, ".zst"):
		name = strings.TrimSuffix(path, ".zst")
		z, err := zstd.NewReader(f)
		if err != nil {
			return "", err
		}
		defer z.Close()
		in = z
	}
	name = strings.TrimSuffix(name, ".ndjson") + ".rejected.ndjson"
	out, err := os.Create(name)
	if err != nil {
		return "", err
	}
	w := bufio.NewWriter(out)
	if err := copyLines(w, bufio.NewReaderSize(in, 1<<20), ranges); err != nil {
		out.Close()
		return "", err
	}
	if err := w.Flush(); err != nil {
		out.Close()
		return "", err
	}
	return name, out.Close()
}

// copyLines copies the lines in ranges, holding none of them whole: one may be larger than memory.
func copyLines(w *bufio.Writer, r *bufio.Reader, ranges []service.LineRange) error {
	line := 1
	for len(ranges) > 0 {
		part, err := r.ReadSlice('\n')
		if line >= ranges[0].First && line <= ranges[0].Last {
			if _, err := w.Write(part); err != nil {
				return err
			}
		}
		switch {
		case err == nil:
			if line++; line > ranges[0].Last {
				ranges = ranges[1:]
			}
		case errors.Is(err, bufio.ErrBufferFull):
		case errors.Is(err, io.EOF):
			return nil
		default:
			return err
		}
	}
	return nil
}

// watch shows on a terminal how far a file has been sent.
func (a *App) watch(in io.Reader, path string, size int64) io.Reader {
	if !isTerminal(a.Err) || size < 8<<20 {
		return in
	}
	return &progress{in: in, out: a.Err, name: path, size: size}
}

type progress struct {
	in         io.Reader
	out        io.Writer
	name       string
	done, size int64
	shown      time.Time
}

func (p *progress) Read(b []byte) (int, error) {
	n, err := p.in.Read(b)
	p.done += int64(n)
	if now := time.Now(); now.Sub(p.shown) > 200*time.Millisecond || err != nil {
		p.shown = now
		fmt.Fprintf(p.out, "\r%s: %s of %s sent ", p.name, phrase.Bytes(float64(p.done)), phrase.Bytes(float64(p.size)))
		if err != nil {
			fmt.Fprint(p.out, "\r\x1b[K")
		}
	}
	return n, err
}
