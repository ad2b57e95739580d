package feed

import (
	"bufio"
	"bytes"
	"compress/gzip"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/klauspost/compress/zstd"

	"dowsingrod/core/estate"
	"dowsingrod/core/reading"
)

// MaxLine is the longest line read, in bytes. A longer one is a bad line; it is passed over without
// being held.
const MaxLine = 16 << 20

// maxAhead is how far in the future a time may lie: clocks differ, but not by more than this.
const maxAhead = 24 * time.Hour

var earliest = time.Date(2000, 1, 1, 0, 0, 0, 0, time.UTC)

// LineError says what is wrong with one line. The lines after it can still be read.
type LineError struct {
	Line   int
	Reason string
}

func (e *LineError) Error() string { return fmt.Sprintf("line %d: %s", e.Line, e.Reason) }

// StreamError says that the stream itself broke off; nothing can be read after it.
type StreamError struct {
	Line int // last line begun
	Err  error
}

func (e *StreamError) Error() string {
	return fmt.Sprintf("after line %d the feed cannot be read any further: %v", e.Line, e.Err)
}

func (e *StreamError) Unwrap() error { return e.Err }

// Reader reads records from a feed, one line at a time, in bounded memory.
type Reader struct {
	in      *bufio.Reader
	closers []func()
	line    int
	buf     []byte
	now     time.Time
	state   headerState

	// Recognise, where set, is asked of every line that holds an object, in the notation of Writer, whether it is known
	// already. A line that is known is passed over.
	Recognise func(text []byte, line int) bool
}

type headerState int

const (
	noHeader headerState = iota
	goodHeader
	badHeader
)

// NewReader reads plain, gzip or zstd, told apart by their first bytes. now is the moment that times
// are held against.
func NewReader(r io.Reader, now time.Time) (*Reader, error) {
	in := bufio.NewReaderSize(r, 1<<18)
	out := &Reader{in: in, now: now}
	magic, _ := in.Peek(4)
	switch {
	case bytes.HasPrefix(magic, []byte{0x1f, 0x8b}):
		z, err := gzip.NewReader(in)
		if err != nil {
			return nil, &StreamError{0, fmt.Errorf("it begins like gzip but is not: %w", err)}
		}
		out.in = bufio.NewReaderSize(z, 1<<18)
		out.closers = append(out.closers, func() { _ = z.Close() })
	case bytes.HasPrefix(magic, []byte{0x28, 0xb5, 0x2f, 0xfd}):
		z, err := zstd.NewReader(in, zstd.WithDecoderMaxMemory(256<<20), zstd.WithDecoderConcurrency(1))
		if err != nil {
			return nil, &StreamError{0, fmt.Errorf("it begins like zstd but is not: %w", err)}
		}
		out.in = bufio.NewReaderSize(z, 1<<18)
		out.closers = append(out.closers, z.Close)
	}
	return out, nil
}

var objectLine = []byte(`{"object":`)

// Close frees what decompression holds. It does not close the underlying reader.
func (r *Reader) Close() {
	for _, c := range r.closers {
		c()
	}
}

// Line returns the number of the line last read, from 1.
func (r *Reader) Line() int { return r.line }

// Next returns the next record. Its errors are io.EOF, *LineError (the caller may go on) and
// *StreamError (it may not). A feed without any header, an empty file among them, is a *StreamError.
func (r *Reader) Next() (Record, error) {
	for {
		text, err := r.read()
		if err != nil {
			return Record{}, err
		}
		if text = bytes.TrimSpace(text); len(text) == 0 {
			continue
		}
		if r.Recognise != nil && r.state == goodHeader && bytes.HasPrefix(text, objectLine) && r.Recognise(text, r.line) {
			continue
		}
		rec, skip, err := r.parse(text)
		if err != nil {
			return Record{Line: r.line}, &LineError{r.line, err.Error()}
		}
		if !skip {
			rec.Line = r.line
			return rec, nil
		}
	}
}

// read returns the next line without its end. It is valid until the next call.
func (r *Reader) read() ([]byte, error) {
	r.buf = r.buf[:0]
	r.line++
	for {
		part, err := r.in.ReadSlice('\n')
		if len(r.buf)+len(part) > MaxLine {
			return nil, r.passOver(err)
		}
		r.buf = append(r.buf, part...)
		switch {
		case err == nil:
			return r.buf, nil
		case errors.Is(err, bufio.ErrBufferFull):
		case errors.Is(err, io.EOF):
			if len(r.buf) > 0 {
				return r.buf, nil
			}
			r.line--
			if r.state == noHeader {
				if r.line == 0 {
					return nil, &StreamError{0, errors.New("it is empty: the first line must be a feed header")}
				}
				return nil, &StreamError{r.line, errors.New("it holds no feed header")}
			}
			return nil, io.EOF
		default:
			return nil, &StreamError{r.line, broken(err)}
		}
	}
}

func broken(err error) error {
	if errors.Is(err, io.ErrUnexpectedEOF) {
		return errors.New("the compressed stream is truncated")
	}
	return err
}

// passOver reads on to the end of a line that is too long, holding none of it.
func (r *Reader) passOver(err error) error {
	for errors.Is(err, bufio.ErrBufferFull) {
		_, err = r.in.ReadSlice('\n')
	}
	if err != nil && !errors.Is(err, io.EOF) {
		return &StreamError{r.line, broken(err)}
	}
	return &LineError{r.line, fmt.Sprintf("the line is longer than %d MiB: split its readings over several lines", MaxLine>>20)}
}

// name takes the one key of a line: its record's name and the JSON that follows.
func name(text []byte) (string, []byte, error) {
	if text[0] != '{' {
		return "", nil, errors.New("a JSON object is expected: {\"object\":{…}}")
	}
	rest := bytes.TrimLeft(text[1:], " \t")
	if len(rest) == 0 || rest[0] != '"' {
		return "", nil, errors.New("a record name in quotes is expected after {")
	}
	end := bytes.IndexByte(rest[1:], '"')
	if end < 0 {
		return "", nil, errors.New("the line ends in the middle of its record name: is the file truncated?")
	}
	key := string(rest[1 : end+1])
	rest = bytes.TrimLeft(rest[end+2:], " \t")
	if len(rest) == 0 || rest[0] != ':' {
		return "", nil, errors.New("a colon is expected after the record name")
	}
	rest = rest[1:]
	if len(rest) == 0 || rest[len(rest)-1] != '}' {
		return "", nil, errors.New("the line does not end with }: is the file truncated?")
	}
	return key, rest[:len(rest)-1], nil
}

func (r *Reader) parse(text []byte) (rec Record, skip bool, err error) {
	if !utf8.Valid(text) {
		return rec, false, errors.New("the line is not UTF-8")
	}
	if bytes.Contains(text, []byte(`\u0000`)) {
		return rec, false, errors.New("the line holds a NUL character")
	}
	key, value, err := name(text)
	if err != nil {
		return rec, false, err
	}
	if key != "feed" && r.state != goodHeader {
		if strings.HasPrefix(key, "x_") {
			return rec, true, nil
		}
		if r.state == badHeader {
			return rec, false, errors.New("the feed header that governs it was rejected")
		}
		return rec, false, errors.New("no feed header comes before it: the first line must be {\"feed\":{…}}")
	}
	switch key {
	case "feed":
		rec.Header = &Header{}
		r.state = badHeader
		if err = decode(value, rec.Header); err == nil {
			err = r.checkHeader(rec.Header)
		}
		if err == nil {
			r.state = goodHeader
		}
	case "object":
		rec.Object = &Object{}
		if err = decode(value, rec.Object); err == nil {
			err = checkObject(rec.Object)
		}
	case "reading":
		rec.Reading = &Reading{}
		if err = decode(value, rec.Reading); err == nil {
			err = r.checkReading(rec.Reading)
		}
	case "histogram":
		rec.Histogram = &Histogram{}
		if err = decode(value, rec.Histogram); err == nil {
			err = r.checkHistogram(rec.Histogram)
		}
	case "event":
		rec.Event = &Event{}
		if err = decode(value, rec.Event); err == nil {
			err = r.checkEvent(rec.Event)
		}
	case "gone":
		rec.Gone = &Gone{}
		if err = decode(value, rec.Gone); err == nil {
			_, err = knownRef(rec.Gone.Ref)
		}
	default:
		if strings.HasPrefix(key, "x_") {
			return rec, true, nil
		}
		return rec, false, fmt.Errorf("unknown record %q: feed, object, reading, histogram, event and gone are known, others must start with x_", key)
	}
	return rec, false, err
}

func decode(value []byte, into any) error {
	d := json.NewDecoder(bytes.NewReader(value))
	d.DisallowUnknownFields()
	if err := d.Decode(into); err != nil {
		return plain(err, value)
	}
	if d.More() {
		return errors.New("a line holds exactly one record")
	}
	return nil
}

// plain turns a decoder's error into words about the line.
func plain(err error, value []byte) error {
	var syntax *json.SyntaxError
	var kind *json.UnmarshalTypeError
	switch {
	case errors.As(err, &syntax):
		at := max(0, min(int(syntax.Offset), len(value))-1)
		near := value[max(0, at-12):min(len(value), at+12)]
		if bytes.Contains(bytes.ToLower(near), []byte("nan")) || bytes.Contains(bytes.ToLower(near), []byte("inf")) {
			return fmt.Errorf("not JSON near %q: JSON has no NaN or infinity, write null where there is no reading", near)
		}
		return fmt.Errorf("not JSON near %q: %v", near, err)
	case errors.Is(err, io.ErrUnexpectedEOF), errors.Is(err, io.EOF):
		return errors.New("the record ends in the middle: is the file truncated?")
	case errors.As(err, &kind):
		return fmt.Errorf("%s must be a %s, not a %s", kind.Field, kind.Type, kind.Value)
	}
	return errors.New(strings.TrimPrefix(err.Error(), "json: "))
}

func (r *Reader) checkTime(field string, t time.Time) error {
	switch {
	case t.IsZero():
		return fmt.Errorf("%s is missing: give a time as in 2026-03-02T09:00:00Z", field)
	case t.Before(earliest):
		return fmt.Errorf("%s %s lies before the year 2000", field, t.Format(time.RFC3339))
	case t.After(r.now.Add(maxAhead)):
		return fmt.Errorf("%s %s lies more than a day in the future: is the source's clock right?", field, t.Format(time.RFC3339))
	}
	return nil
}

func (r *Reader) checkHeader(h *Header) error {
	switch {
	case h.Version != Version:
		return fmt.Errorf("version %d of the format is not known: this service reads version %d", h.Version, Version)
	case h.Source == "":
		return errors.New("source is missing: name who the feed comes from")
	case len(h.Source) > 200 || strings.ContainsAny(h.Source, "@\n\t"):
		return errors.New("source must be at most 200 characters, without @ and line ends")
	}
	return r.checkTime("time", h.Time)
}

func knownRef(s string) (estate.Ref, error) {
	ref, err := estate.ParseRef(s)
	if err == nil && !ref.Kind.Known() {
		err = fmt.Errorf("unknown kind %q in %q: extensions must start with x_", ref.Kind, s)
	}
	return ref, err
}

func checkObject(o *Object) error {
	switch {
	case !o.Kind.Known():
		return fmt.Errorf("unknown kind %q: extensions must start with x_", o.Kind)
	case o.ID == "":
		return errors.New("id is missing")
	case len(o.ID) > 500 || len(o.Name) > 1000:
		return errors.New("id may have 500 characters and name 1,000")
	case strings.Contains(o.ID, "\x00") || strings.Contains(o.Name, "\x00"):
		return errors.New("a name holds a NUL character")
	}
	for kind, refs := range o.Links {
		if !estate.LinkKind(kind).Sendable() {
			return fmt.Errorf("unknown link %q: extensions must start with x_", kind)
		}
		for _, s := range refs {
			ref, err := knownRef(s)
			if err != nil {
				return fmt.Errorf("link %s: %w", kind, err)
			}
			if ref == o.Ref() {
				return fmt.Errorf("link %s leads to the object itself", kind)
			}
		}
	}
	return nil
}

func checkStep(s float64) error {
	switch {
	case !(s > 0):
		return fmt.Errorf("step_s must be above 0, not %v", s)
	case s > 86400:
		return fmt.Errorf("step_s must be at most 86400 (a day), not %v", s)
	case math.Abs(s*1000-math.Round(s*1000)) > 1e-6:
		return fmt.Errorf("step_s must be whole milliseconds, not %v", s)
	}
	return nil
}

func (r *Reader) checkRun(from time.Time, step float64, n int) error {
	if err := r.checkTime("from", from); err != nil {
		return err
	}
	if err := checkStep(step); err != nil {
		return err
	}
	if float64(n)*step > 400*86400 {
		return fmt.Errorf("%d values of %v s are more than a year", n, step)
	}
	return r.checkTime("the end of the readings", from.Add(time.Duration(float64(n)*step*float64(time.Second))))
}

func (r *Reader) checkReading(rd *Reading) error {
	ref, err := knownRef(rd.Of)
	if err != nil {
		return err
	}
	longest := 0
	for metric, values := range rd.Values {
		if !strings.HasPrefix(metric, "x_") {
			m, ok := reading.Lookup(metric)
			if !ok {
				return fmt.Errorf("unknown metric %q: extensions must start with x_", metric)
			}
			if !m.On(ref.Kind) && !strings.HasPrefix(string(ref.Kind), "x_") {
				return fmt.Errorf("%s is not a metric of a %s", metric, ref.Kind.Label())
			}
			if err := checkValues(m, values); err != nil {
				return err
			}
		}
		longest = max(longest, len(values))
	}
	if longest == 0 {
		return errors.New("values is empty")
	}
	return r.checkRun(rd.From, rd.Step, longest)
}

func checkValues(m reading.Metric, values Values) error {
	for i, v := range values {
		switch {
		case v < 0:
			return fmt.Errorf("%s[%d] is %v: a reading is never negative", m.Name, i, v)
		case v > 1 && m.Unit == reading.SharePart:
			if v > 1.0001 {
				return fmt.Errorf("%s[%d] is %v: a share lies between 0 and 1", m.Name, i, v)
			}
			values[i] = 1
		}
	}
	return nil
}

func (r *Reader) checkHistogram(h *Histogram) error {
	if _, err := knownRef(h.Of); err != nil {
		return err
	}
	if _, ok := reading.Lookup(h.Metric); !ok && !strings.HasPrefix(h.Metric, "x_") {
		return fmt.Errorf("unknown metric %q: extensions must start with x_", h.Metric)
	}
	if len(h.Bounds) == 0 || !slices.IsSorted(h.Bounds) || len(slices.Compact(slices.Clone(h.Bounds))) != len(h.Bounds) {
		return errors.New("bounds must be a rising list of numbers")
	}
	for i, row := range h.Counts {
		if len(row) != len(h.Bounds)+1 {
			return fmt.Errorf("counts[%d] has %d entries: %d bounds make %d buckets, the last is 'above'", i, len(row), len(h.Bounds), len(h.Bounds)+1)
		}
		for _, v := range row {
			if v < 0 {
				return fmt.Errorf("counts[%d] holds %v: a count is never negative", i, v)
			}
		}
	}
	if len(h.Counts) == 0 {
		return errors.New("counts is empty")
	}
	return r.checkRun(h.From, h.Step, len(h.Counts))
}

func (r *Reader) checkEvent(e *Event) error {
	if _, err := knownRef(e.Of); err != nil {
		return err
	}
	if e.What == "" {
		return errors.New("what is missing: name the event in a word")
	}
	return r.checkTime("time", e.Time)
}
