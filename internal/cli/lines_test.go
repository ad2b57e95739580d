package cli

import (
	"bufio"
	"bytes"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dowsingrod/internal/service"
)

func TestCopyLines(t *testing.T) {
	long := strings.Repeat("x", 5000)
	text := "one\ntwo\n" + long + "\nfour\nfive without an end"
	for want, ranges := range map[string][]service.LineRange{
		"one\n":               {{First: 1, Last: 1}},
		"two\n" + long + "\n": {{First: 2, Last: 3}},
		"one\nfour\n":         {{First: 1, Last: 1}, {First: 4, Last: 4}},
		"five without an end": {{First: 5, Last: 5}},
		"":                    {{First: 9, Last: 12}},
	} {
		var out bytes.Buffer
		w := bufio.NewWriter(&out)
		require.NoError(t, copyLines(w, bufio.NewReaderSize(strings.NewReader(text), 16), ranges), "a line may be longer than what is held")
		require.NoError(t, w.Flush())
		assert.Equal(t, want, out.String())
	}
}

func TestRejectedLinesLieBesideTheirFile(t *testing.T) {
	dir := t.TempDir()
	text := "good\nbad\ngood\n"
	var gz, zs bytes.Buffer
	g := gzip.NewWriter(&gz)
	_, _ = g.Write([]byte(text))
	require.NoError(t, g.Close())
	z, err := zstd.NewWriter(&zs)
	require.NoError(t, err)
	_, _ = z.Write([]byte(text))
	require.NoError(t, z.Close())
	for name, content := range map[string][]byte{"a.ndjson": []byte(text), "b.ndjson.gz": gz.Bytes(), "c.ndjson.zst": zs.Bytes()} {
		path := filepath.Join(dir, name)
		require.NoError(t, os.WriteFile(path, content, 0o600))
		beside, err := writeRejected(path, []service.LineRange{{First: 2, Last: 2}})
		require.NoError(t, err)
		assert.Equal(t, filepath.Join(dir, name[:1]+".rejected.ndjson"), beside)
		kept, err := os.ReadFile(beside)
		require.NoError(t, err)
		assert.Equal(t, "bad\n", string(kept))
	}
	_, err = writeRejected(filepath.Join(dir, "none.ndjson"), nil)
	assert.Error(t, err)
}

func TestProgressSaysHowFar(t *testing.T) {
	var out bytes.Buffer
	p := &progress{in: strings.NewReader(strings.Repeat("x", 4096)), out: &out, name: "estate.ndjson", size: 8192}
	buf := make([]byte, 4096)
	_, err := p.Read(buf)
	require.NoError(t, err)
	assert.Contains(t, out.String(), "estate.ndjson: 4.00 KiB of 8.00 KiB sent")
	_, err = p.Read(buf)
	require.Error(t, err)
	assert.True(t, strings.HasSuffix(out.String(), "\r\x1b[K"), "and leaves no trace")
	a := &App{Err: &out}
	in := strings.NewReader("x")
	assert.Equal(t, in, a.watch(in, "x", 1<<30), "no progress into a file")
}
