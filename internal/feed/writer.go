package feed

import (
	"bufio"
	"encoding/json"
	"io"
)

// Writer writes records, a line each.
type Writer struct {
	out *bufio.Writer
	enc *json.Encoder

	line []byte
}

// NewWriter writes to w. Flush must be called at the end.
func NewWriter(w io.Writer) *Writer {
	b := bufio.NewWriterSize(w, 1<<20)
	enc := json.NewEncoder(b)
	enc.SetEscapeHTML(false)
	return &Writer{out: b, enc: enc}
}

// Write writes one record.
func (w *Writer) Write(r Record) error {
	switch {
	case r.Header != nil:
		return w.enc.Encode(struct {
			V *Header `json:"feed"`
		}{r.Header})
	case r.Object != nil:
		return w.enc.Encode(struct {
			V *Object `json:"object"`
		}{r.Object})
	case r.Reading != nil:
		var err error
		if w.line, err = appendReading(w.line[:0], r.Reading); err != nil {
			return err
		}
		_, err = w.out.Write(w.line)
		return err
	case r.Histogram != nil:
		return w.enc.Encode(struct {
			V *Histogram `json:"histogram"`
		}{r.Histogram})
	case r.Event != nil:
		return w.enc.Encode(struct {
			V *Event `json:"event"`
		}{r.Event})
	case r.Gone != nil:
		return w.enc.Encode(struct {
			V *Gone `json:"gone"`
		}{r.Gone})
	}
	return nil
}

// Flush writes out what is buffered.
func (w *Writer) Flush() error { return w.out.Flush() }
