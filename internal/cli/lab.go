package cli

import (
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"
	"github.com/urfave/cli/v3"

	"dowsingrod/core/phrase"
	"dowsingrod/internal/feed"
	"dowsingrod/internal/lab/large"
	"dowsingrod/internal/service"
)

// lab makes estates that do not exist, to try things on.
func (a *App) lab() *cli.Command {
	return &cli.Command{Name: "lab", Usage: "make up estates to try things on", Commands: []*cli.Command{a.labRun(), a.labFaults(), a.labServe(), a.labBegin(), a.labEnd(), a.labRemedy(), a.labState(), a.labFigures(), a.labEstate()}}
}

func (a *App) labEstate() *cli.Command {
	return &cli.Command{Name: "estate", Usage: "write the inventory of a made-up estate of any size as feeds",
		Description: "The proportions are those of large estates: to 1,000 virtual machines some 1,400 disks, 35 hosts, 30 datastores,\n" +
			"60 LUNs, 1,000 paths and 120 drives. The same size, seed and time give the same bytes.",
		Flags: []cli.Flag{
			&cli.IntFlag{Name: "vms", Usage: "number of virtual machines", Value: 1000},
			&cli.Uint64Flag{Name: "seed", Usage: "of what is drawn at random", Value: 1},
			&cli.StringFlag{Name: "time", Usage: "moment the feeds speak of, as -2h or RFC 3339; now where absent"},
			&cli.FloatFlag{Name: "changed", Usage: "share of machines, disks, paths and volumes that differ from what is written without it, 0 to 1"},
			&cli.StringFlag{Name: "output", Aliases: []string{"o"}, Usage: "file to write, compressed where it ends in .gz or .zst; - for standard output", Value: "-"},
		},
		Action: func(_ context.Context, c *cli.Command) error {
			if c.Args().Present() {
				return wrongUsage("%q is too much: dowse lab estate takes flags only", c.Args().First())
			}
			if c.Int("vms") < 1 || c.Int("vms") > 10_000_000 {
				return wrongUsage("--vms is from 1 to 10,000,000, not %d", c.Int("vms"))
			}
			if s := c.Float("changed"); !(s >= 0 && s <= 1) {
				return wrongUsage("--changed is a share from 0 to 1, not %g", s)
			}
			o := large.Options{VMs: c.Int("vms"), Seed: c.Uint64("seed"), Changed: c.Float("changed"), Time: time.Now().UTC().Truncate(time.Second)}
			if text := c.String("time"); text != "" {
				at, err := service.ParseTime(text, time.Now())
				if err != nil {
					return err
				}
				o.Time = at.UTC().Truncate(time.Second)
			}
			path := c.String("output")
			n, err := a.writeFeed(path, func(w *feed.Writer) (int, error) { return large.Write(o, w.Write) })
			if err == nil && path != "-" {
				fmt.Fprintf(a.Err, "%s written to %s. Bring it in with  dowse import %s\n", phrase.Count(n, "object", "objects"), path, path)
			}
			return err
		}}
}

// writeFeed writes a feed to a file that appears only once it is whole, or to standard output.
func (a *App) writeFeed(path string, write func(*feed.Writer) (int, error)) (int, error) {
	if path == "-" {
		return written(a.Out, write)
	}
	f, err := os.CreateTemp(filepath.Dir(path), ".dowse-*")
	if err != nil {
		return 0, fmt.Errorf("%s cannot be written: %w", path, err)
	}
	defer os.Remove(f.Name())
	defer f.Close()
	n, err := packed(f, path, write)
	if err != nil {
		return n, err
	}
	if err := f.Chmod(0o644); err != nil {
		return n, err
	}
	return n, os.Rename(f.Name(), path)
}

// packed writes to f, compressed as the path asks for.
func packed(f io.Writer, path string, write func(*feed.Writer) (int, error)) (int, error) {
	var packer io.WriteCloser
	switch {
	case strings.HasSuffix(path, ".gz"):
		packer = gzip.NewWriter(f)
	case strings.HasSuffix(path, ".zst"):
		var err error
		if packer, err = zstd.NewWriter(f); err != nil {
			return 0, err
		}
	default:
		return written(f, write)
	}
	n, err := written(packer, write)
	if closing := packer.Close(); err == nil {
		err = closing
	}
	return n, err
}

func written(to io.Writer, write func(*feed.Writer) (int, error)) (int, error) {
	w := feed.NewWriter(to)
	n, err := write(w)
	if err == nil {
		err = w.Flush()
	}
	return n, err
}
