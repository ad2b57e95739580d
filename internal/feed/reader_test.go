package feed_test

import (
	"bytes"
	"compress/gzip"
	"errors"
	"fmt"
	"io"
	"math"
	"runtime"
	"strings"
	"testing"
	"time"

	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	. "dowsingrod/internal/feed"
)

var now = time.Date(2026, 3, 2, 12, 0, 0, 0, time.UTC)

const head = `{"feed":{"version":1,"source":"hyp-northmole","time":"2026-03-02T09:00:00Z","full":true}}` + "\n"

const every = head +
	`{"object":{"kind":"vm","id":"vm-0101","name":"berth-plan-01","facts":{"tier":"1","vcpus":4},"links":{"runs_on":["host:h-07"],"uses":["vdisk:vm-0101-0"]}}}
{"reading":{"of":"vdisk:vm-0101-0","from":"2026-03-02T09:00:00Z","step_s":20,"values":{"read_iops":[812.4,799,null],"read_latency_us":[640,655,null]}}}
{"histogram":{"of":"volume:v-12","metric":"read_latency_us","bounds":[250,500,1000],"from":"2026-03-02T09:00:00Z","step_s":60,"counts":[[10,80,300,20]]}}
{"event":{"of":"switch_port:a1-07","time":"2026-03-02T09:14:07Z","what":"link_reset","detail":"…"}}
{"x_note":{"anything":["goes"]}}

{"gone":{"ref":"vm:vm-0044"}}
`

// read returns the records and the errors of lines; err is how the stream ended.
func read(t testing.TB, in io.Reader) (records []Record, bad []*LineError, err error) {
	r, err := NewReader(in, now)
	if err != nil {
		return nil, nil, err
	}
	defer r.Close()
	for {
		rec, err := r.Next()
		var line *LineError
		switch {
		case errors.Is(err, io.EOF):
			return records, bad, nil
		case errors.As(err, &line):
			bad = append(bad, line)
		case err != nil:
			return records, bad, err
		default:
			records = append(records, rec)
		}
	}
}

func TestReadsEveryRecord(t *testing.T) {
	records, bad, err := read(t, strings.NewReader(every))
	require.NoError(t, err)
	require.Empty(t, bad)
	require.Len(t, records, 6, "extensions and empty lines are passed over")
	assert.Equal(t, "hyp-northmole", records[0].Header.Source)
	assert.Equal(t, 4.0, records[1].Object.Facts["vcpus"])
	assert.Equal(t, 3, records[2].Line)
	v := records[2].Reading.Values["read_iops"]
	require.Len(t, v, 3)
	assert.Equal(t, 812.4, v[0])
	assert.True(t, math.IsNaN(v[2]), "null is no reading, not zero")
	assert.Equal(t, Values{10, 80, 300, 20}, records[3].Histogram.Counts[0])
	assert.Equal(t, 8, records[5].Line)
}

func TestReadsPlainGzipAndZstd(t *testing.T) {
	var gz, zs bytes.Buffer
	g := gzip.NewWriter(&gz)
	_, _ = g.Write([]byte(every))
	require.NoError(t, g.Close())
	z, err := zstd.NewWriter(&zs)
	require.NoError(t, err)
	_, _ = z.Write([]byte(every))
	require.NoError(t, z.Close())
	for name, in := range map[string][]byte{"gzip": gz.Bytes(), "zstd": zs.Bytes()} {
		records, bad, err := read(t, bytes.NewReader(in))
		require.NoError(t, err, name)
		assert.Empty(t, bad)
		assert.Len(t, records, 6)
		_, _, err = read(t, bytes.NewReader(in[:len(in)-12]))
		var broken *StreamError
		require.ErrorAs(t, err, &broken, name)
	}
}

func TestBadLinesSayWhatIsWrong(t *testing.T) {
	reading := func(values, rest string) string {
		return `{"reading":{"of":"vdisk:a","from":"2026-03-02T09:00:00Z","step_s":20,"values":{` + values + `}` + rest + `}}`
	}
	for says, line := range map[string]string{
		"is the file truncated":         `{"object":{"kind":"vm","id":"a"`,
		"unknown kind":                  `{"object":{"kind":"cow","id":"a"}}`,
		"id is missing":                 `{"object":{"kind":"vm"}}`,
		"unknown link":                  `{"object":{"kind":"vm","id":"a","links":{"likes":["vm:b"]}}}`,
		"the object itself":             `{"object":{"kind":"pool","id":"a","links":{"made_of":["pool:a"]}}}`,
		"not a reference":               `{"object":{"kind":"vm","id":"a","links":{"uses":["b"]}}}`,
		"unknown metric":                reading(`"cows":[1]`, ""),
		"not a metric of a":             reading(`"credit_zero_share":[1]`, ""),
		"never negative":                reading(`"read_iops":[1,-2]`, ""),
		"JSON has no NaN":               reading(`"read_iops":[NaN]`, ""),
		"numbers and nulls is expected": reading(`"read_iops":["1"]`, ""),
		"out of range":                  reading(`"read_iops":[1e999]`, ""),
		"values is empty":               reading(``, ""),
		"unknown field":                 reading(`"read_iops":[1]`, `,"more":1`),
		"step_s must be above 0":        strings.Replace(reading(`"read_iops":[1]`, ""), `"step_s":20`, `"step_s":0`, 1),
		"at most 86400":                 strings.Replace(reading(`"read_iops":[1]`, ""), `"step_s":20`, `"step_s":1e9`, 1),
		"in the future":                 strings.Replace(reading(`"read_iops":[1]`, ""), "2026-03-02T09", "2126-03-02T09", 1),
		"before the year 2000":          strings.Replace(reading(`"read_iops":[1]`, ""), "2026-03-02T09", "1970-03-02T09", 1),
		"from is missing":               `{"reading":{"of":"vdisk:a","step_s":20,"values":{"read_iops":[1]}}}`,
		"between 0 and 1":               `{"reading":{"of":"pool:a","from":"2026-03-02T09:00:00Z","step_s":20,"values":{"busy_share":[97]}}}`,
		"rising list":                   `{"histogram":{"of":"volume:a","metric":"read_latency_us","bounds":[5,1],"from":"2026-03-02T09:00:00Z","step_s":60,"counts":[[1,2,3]]}}`,
		"2 bounds make 3 buckets":       `{"histogram":{"of":"volume:a","metric":"read_latency_us","bounds":[1,5],"from":"2026-03-02T09:00:00Z","step_s":60,"counts":[[1,2]]}}`,
		"what is missing":               `{"event":{"of":"vm:a","time":"2026-03-02T09:00:00Z"}}`,
		"unknown record":                `{"cow":{}}`,
		"exactly one record":            `{"gone":{"ref":"vm:a"} {"ref":"vm:b"}}`,
		"JSON object is expected":       `hello`,
		"not JSON":                      `{"object":{kind}}`,
		"not UTF-8":                     "{\"object\":{\"kind\":\"vm\",\"id\":\"\xff\"}}",
		"NUL":                           `{"object":{"kind":"vm","id":"a\u0000"}}`,
		"must be a":                     `{"object":{"kind":7,"id":"a"}}`,
	} {
		t.Run(says, func(t *testing.T) {
			_, bad, err := read(t, strings.NewReader(head+line+"\n"+`{"gone":{"ref":"vm:x"}}`+"\n"))
			require.NoError(t, err)
			require.Len(t, bad, 1)
			assert.Equal(t, 2, bad[0].Line)
			assert.Contains(t, bad[0].Error(), says)
		})
	}
}

func TestHeadersGovernTheirLines(t *testing.T) {
	_, _, err := read(t, strings.NewReader(""))
	require.ErrorContains(t, err, "empty")
	_, bad, err := read(t, strings.NewReader(`{"gone":{"ref":"vm:a"}}`+"\n"))
	require.ErrorContains(t, err, "no feed header")
	require.Len(t, bad, 1)
	records, bad, err := read(t, strings.NewReader(strings.Replace(head, `"version":1`, `"version":2`, 1)+`{"gone":{"ref":"vm:a"}}`+"\n"+head+`{"gone":{"ref":"vm:b"}}`+"\n"))
	require.NoError(t, err)
	require.Len(t, bad, 2, "the lines of a rejected header are rejected with it")
	assert.Contains(t, bad[0].Reason, "version 2")
	assert.Len(t, records, 2)
}

// endless makes a line of n bytes without holding it.
type endless struct {
	n    int64
	text string
}

func (e *endless) Read(p []byte) (int, error) {
	if e.text != "" {
		n := copy(p, e.text)
		e.text = e.text[n:]
		return n, nil
	}
	if e.n == 0 {
		return 0, io.EOF
	}
	n := int(min(e.n, int64(len(p))))
	for i := range p[:n] {
		p[i] = 'x'
	}
	e.n -= int64(n)
	return n, nil
}

func TestALineLargerThanMemoryIsPassedOver(t *testing.T) {
	in := io.MultiReader(&endless{2 << 30, head}, strings.NewReader("\n"+`{"gone":{"ref":"vm:a"}}`+"\n"))
	var before, after runtime.MemStats
	runtime.ReadMemStats(&before)
	records, bad, err := read(t, in)
	runtime.ReadMemStats(&after)
	require.NoError(t, err)
	require.Len(t, bad, 1)
	assert.Contains(t, bad[0].Reason, "longer than 16 MiB")
	assert.Len(t, records, 2, "what comes after it is read")
	assert.Less(t, after.TotalAlloc-before.TotalAlloc, uint64(128<<20))
}

func TestALargeFeedStreamsInBoundedMemory(t *testing.T) {
	line := `{"reading":{"of":"vdisk:a","from":"2026-03-02T09:00:00Z","step_s":20,"values":{"read_iops":[` + strings.TrimSuffix(strings.Repeat("812.4,", 500), ",") + `]}}}` + "\n"
	r, w := io.Pipe()
	go func() {
		_, _ = io.WriteString(w, head)
		for range (100 << 20) / len(line) {
			_, _ = io.WriteString(w, line)
		}
		w.Close()
	}()
	reader, err := NewReader(r, now)
	require.NoError(t, err)
	var peak uint64
	for n := 0; ; n++ {
		if _, err := reader.Next(); err != nil {
			require.ErrorIs(t, err, io.EOF)
			break
		}
		if n%5000 == 0 {
			var m runtime.MemStats
			runtime.ReadMemStats(&m)
			peak = max(peak, m.HeapAlloc)
		}
	}
	assert.Less(t, peak, uint64(64<<20))
}

func TestWhatIsWrittenIsRead(t *testing.T) {
	records, _, err := read(t, strings.NewReader(every))
	require.NoError(t, err)
	var out bytes.Buffer
	w := NewWriter(&out)
	for _, r := range records {
		require.NoError(t, w.Write(r))
	}
	require.NoError(t, w.Flush())
	again, bad, err := read(t, &out)
	require.NoError(t, err)
	require.Empty(t, bad)
	for i := range again {
		again[i].Line, records[i].Line = 0, 0
	}
	assert.Equal(t, fmt.Sprintf("%+v", records[1].Object), fmt.Sprintf("%+v", again[1].Object))
	assert.Equal(t, records[4].Event, again[4].Event)
	assert.Len(t, again, len(records))
}

func FuzzReader(f *testing.F) {
	f.Add([]byte(every))
	f.Add([]byte(head))
	f.Add([]byte(`{"feed":`))
	f.Add([]byte{0x1f, 0x8b, 0, 0})
	f.Add([]byte{0x28, 0xb5, 0x2f, 0xfd, 0})
	f.Add([]byte(head + `{"reading":{"of":"vdisk:a","from":"2026-03-02T09:00:00Z","step_s":20,"values":{"read_iops":[1,,2]}}}`))
	f.Add([]byte(head + `{"object":{"kind":"vm","id":"a","facts":{"a":{"b":[[[[]]]]}}}}`))
	f.Fuzz(func(t *testing.T, in []byte) {
		records, _, err := read(t, bytes.NewReader(in))
		if err == nil && len(records) > 0 && records[0].Header == nil {
			t.Fatal("a record came before any header")
		}
		for _, r := range records {
			if r.Reading == nil {
				continue
			}
			for _, v := range r.Reading.Values {
				for _, x := range v {
					if x < 0 && !strings.HasPrefix(r.Reading.Of, "x_") {
						for m := range r.Reading.Values {
							if !strings.HasPrefix(m, "x_") {
								t.Fatalf("a negative reading passed: %v", x)
							}
						}
					}
				}
			}
		}
	})
}
