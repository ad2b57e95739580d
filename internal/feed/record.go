// Package feed reads and writes Dowsing Rod's own exchange format, version 1: newline-delimited JSON
// with an estate's inventory and its readings. docs/feed.md describes it.
package feed

import (
	"bytes"
	"encoding/json"
	"fmt"
	"maps"
	"math"
	"slices"
	"strconv"
	"time"

	"dowsingrod/core/estate"
)

// MediaType of a feed over HTTP.
const MediaType = "application/x-ndjson"

// Version of the format read and written.
const Version = 1

// Header opens a feed of one source as of one moment, and governs the lines after it.
type Header struct {
	Version int       `json:"version"`
	Source  string    `json:"source"`
	Time    time.Time `json:"time"`
	Full    bool      `json:"full"`
}

// Object is an object as its source describes it.
type Object struct {
	Kind  estate.Kind         `json:"kind"`
	ID    string              `json:"id"`
	Name  string              `json:"name,omitempty"`
	Facts estate.Facts        `json:"facts,omitempty"`
	Links map[string][]string `json:"links,omitempty"`
}

// Ref returns the object's reference.
func (o *Object) Ref() estate.Ref { return estate.Ref{Kind: o.Kind, ID: o.ID} }

// Node returns the object as an estate keeps what a source says.
func (o *Object) Node(source string) estate.Node {
	n := estate.Node{Key: estate.Key{Source: source, Ref: o.Ref()}, Name: o.Name, Facts: estate.SheetOf(o.Facts)}
	if len(o.Links) > 0 {
		links := make(estate.Facts, len(o.Links))
		for kind, refs := range o.Links {
			links[kind] = refs
		}
		n.Links = estate.SheetOf(links)
	}
	return n
}

// Reading holds one or more metrics of an object over a run of intervals.
type Reading struct {
	Of     string            `json:"of"`
	From   time.Time         `json:"from"`
	Step   float64           `json:"step_s"`
	Values map[string]Values `json:"values"`
}

// Histogram holds counts per interval and bucket; each row has one more entry than Bounds.
type Histogram struct {
	Of     string    `json:"of"`
	Metric string    `json:"metric"`
	Bounds []float64 `json:"bounds"`
	From   time.Time `json:"from"`
	Step   float64   `json:"step_s"`
	Counts []Values  `json:"counts"`
}

// Event is something that happened to an object.
type Event struct {
	Of     string    `json:"of"`
	Time   time.Time `json:"time"`
	What   string    `json:"what"`
	Detail string    `json:"detail,omitempty"`
}

// Gone says that an object is no more, as of the header's time.
type Gone struct {
	Ref string `json:"ref"`
}

// Record is one line: exactly one of its parts is set, or none for an extension ("x_…").
type Record struct {
	Line      int
	Header    *Header
	Object    *Object
	Reading   *Reading
	Histogram *Histogram
	Event     *Event
	Gone      *Gone
}

// Values is a row of readings; NaN stands for null, no reading.
type Values []float64

// UnmarshalJSON reads an array of numbers and nulls. The JSON is known to be well-formed.
func (v *Values) UnmarshalJSON(b []byte) error {
	b = bytes.TrimSpace(b)
	if len(b) < 2 || b[0] != '[' {
		return fmt.Errorf("a list of numbers is expected, not %.20s", b)
	}
	out := make(Values, 0, bytes.Count(b, []byte{','})+1)
	for i := 1; i < len(b)-1; {
		switch c := b[i]; {
		case c == ',' || c == ' ' || c == '\t' || c == '\r':
			i++
		case c == 'n':
			out = append(out, math.NaN())
			i += len("null")
		case c == '-' || c >= '0' && c <= '9':
			j := i + 1
			for j < len(b)-1 && b[j] != ',' && b[j] != ' ' && b[j] != '\t' {
				j++
			}
			f, err := strconv.ParseFloat(string(b[i:j]), 64)
			if err != nil {
				return fmt.Errorf("%s is out of range", b[i:j])
			}
			out = append(out, f)
			i = j
		default:
			return fmt.Errorf("a list of numbers and nulls is expected, not %.20s", b[i:])
		}
	}
	*v = out
	return nil
}

// MarshalJSON writes the row, NaN as null.
func (v Values) MarshalJSON() ([]byte, error) {
	return appendValues(make([]byte, 0, 8*len(v)+2), v), nil
}

func appendValues(out []byte, v Values) []byte {
	out = append(out, '[')
	for i, f := range v {
		if i > 0 {
			out = append(out, ',')
		}
		out = appendValue(out, f)
	}
	return append(out, ']')
}

// appendValue writes the shortest decimal that reads as the same number. What sources report has a few decimals at most, which
// needs no search for the shortest: a whole number of ten-thousandths that divides back to the value is it.
func appendValue(out []byte, f float64) []byte {
	const parts = 1e4
	scaled := math.Round(f * parts)
	switch {
	case math.IsNaN(f) || math.IsInf(f, 0):
		return append(out, "null"...)
	case !(math.Abs(scaled) < 1<<52) || scaled/parts != f || f == 0 && math.Signbit(f):
		return strconv.AppendFloat(out, f, 'f', -1, 64)
	}
	n := int64(scaled)
	if n < 0 {
		out, n = append(out, '-'), -n
	}
	out = strconv.AppendInt(out, n/parts, 10)
	rest := n % parts
	if rest == 0 {
		return out
	}
	out = append(out, '.', byte('0'+rest/1000), byte('0'+rest/100%10), byte('0'+rest/10%10), byte('0'+rest%10))
	for out[len(out)-1] == '0' {
		out = out[:len(out)-1]
	}
	return out
}

// appendReading writes a reading as its line.
func appendReading(out []byte, r *Reading) ([]byte, error) {
	of, err := json.Marshal(r.Of)
	if err != nil {
		return out, err
	}
	out = append(append(out, `{"reading":{"of":`...), of...)
	out = append(out, `,"from":"`...)
	out = r.From.AppendFormat(out, time.RFC3339Nano)
	out = strconv.AppendFloat(append(out, `","step_s":`...), r.Step, 'f', -1, 64)
	out = append(out, `,"values":{`...)
	for k, name := range slices.Sorted(maps.Keys(r.Values)) {
		if k > 0 {
			out = append(out, ',')
		}
		key, err := json.Marshal(name)
		if err != nil {
			return out, err
		}
		out = append(append(out, key...), ':')
		out = appendValues(out, r.Values[name])
	}
	return append(out, "}}}\n"...), nil
}
