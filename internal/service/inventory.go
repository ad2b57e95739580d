package service

import (
	"cmp"
	"context"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"

	"dowsingrod/core/estate"
	"dowsingrod/core/route"
)

// InventoryQuery asks for a page of the objects of a kind.
type InventoryQuery struct {
	Kind   estate.Kind
	Where  []string // conditions on columns, as "tier=1", "dead>0", "name~manifest", "use!=used"; all must hold
	Text   string   // part of the name, or of any identifier
	Sort   string   // a column, with - before it for descending; by name where empty
	Cursor string
	Limit  int
	At     time.Time
}

// Inventory is a page of the objects of a kind.
type Inventory struct {
	Kind    estate.Kind `json:"kind" doc:"The kind"`
	Label   string      `json:"label" doc:"Its words, for several"`
	Columns []Column    `json:"columns" doc:"In the order of the cells of each row"`
	Rows    []Row       `json:"rows" doc:"This page"`
	Total   int         `json:"total" doc:"Objects that answer"`
	All     int         `json:"all" doc:"Objects of the kind in all"`
	Next    string      `json:"next,omitempty" doc:"Cursor of the next page; absent on the last"`
}

// Row is an object in an inventory.
type Row struct {
	Ref   string `json:"ref" doc:"Address, kind:id@source"`
	Cells []any  `json:"cells" doc:"Text or number, one for each column; null where it is not known"`
}

// QueryError says what is wrong with the conditions of an inventory.
type QueryError struct{ Reason string }

func (e *QueryError) Error() string { return e.Reason }

// condition is one of Where.
type condition struct {
	column Column
	op     string
	text   string
	number float64
}

var operators = []string{"!=", ">=", "<=", "=", ">", "<", "~"}

// Units that numbers in conditions may carry.
var units = map[string]float64{"k": 1e3, "m": 1e6, "g": 1e9, "t": 1e12, "kib": 1 << 10, "mib": 1 << 20, "gib": 1 << 30, "tib": 1 << 40, "%": 0.01}

func parseCondition(text string, of []Column) (condition, error) {
	at, op := len(text), ""
	for _, o := range operators {
		if k := strings.Index(text, o); k >= 0 && k < at {
			at, op = k, o
		}
	}
	if op == "" {
		return condition{}, &QueryError{fmt.Sprintf("%q is not a condition: write column=value, or !=, >, <, >=, <=, and ~ for a part of it", text)}
	}
	c := condition{op: op, text: strings.ToLower(strings.TrimSpace(text[at+len(op):])), number: math.NaN()}
	name := strings.TrimSpace(text[:at])
	k := slices.IndexFunc(of, func(c Column) bool { return c.Name == name })
	if k < 0 {
		return condition{}, &QueryError{fmt.Sprintf("there is no column %q: %s are", name, columnNames(of))}
	}
	c.column = of[k]
	if c.column.Type != "text" {
		digits, unit := c.text, 1.0
		for suffix, factor := range units {
			if rest, ok := strings.CutSuffix(strings.ReplaceAll(c.text, " ", ""), suffix); ok && len(rest) < len(digits) {
				digits, unit = rest, factor
			}
		}
		v, err := strconv.ParseFloat(digits, 64)
		if err != nil && c.text != "" {
			return condition{}, &QueryError{fmt.Sprintf("%q is not a number to compare %s with: write it as 12, 4.5, 500GiB or 80%%", c.text, name)}
		}
		if c.number = v * unit; c.text == "" {
			c.number = math.NaN()
		}
	} else if op != "=" && op != "!=" && op != "~" {
		return condition{}, &QueryError{fmt.Sprintf("%s is text: compare it with =, != or ~", name)}
	}
	return c, nil
}

func columnNames(of []Column) string {
	names := make([]string, len(of))
	for i, c := range of {
		names[i] = c.Name
	}
	return strings.Join(names, ", ")
}

// holds reports whether a cell answers the condition. What is not known answers only "=" with nothing after it.
func (c condition) holds(cell any) bool {
	switch v := cell.(type) {
	case string:
		have := strings.ToLower(v)
		switch c.op {
		case "=":
			return have == c.text
		case "!=":
			return have != c.text
		case "~":
			return strings.Contains(have, c.text)
		}
	case float64:
		switch c.op {
		case "=":
			return v == c.number
		case "!=":
			return v != c.number
		case ">":
			return v > c.number
		case "<":
			return v < c.number
		case ">=":
			return v >= c.number
		case "<=":
			return v <= c.number
		}
	default:
		return c.text == "" && c.op == "=" || c.text != "" && c.op == "!="
	}
	return false
}

// Inventory returns a page of the objects of a kind that answer the conditions, in order.
func (s *Service) Inventory(ctx context.Context, q InventoryQuery) (Inventory, error) {
	m, err := s.at(ctx, q.At)
	if err != nil {
		return Inventory{}, err
	}
	e := m.Estate()
	cols := columnsOf(q.Kind)
	out := Inventory{Kind: q.Kind, Label: q.Kind.Plural(), Columns: cols, Rows: []Row{}, All: e.Number(q.Kind)}
	var conditions []condition
	for _, text := range q.Where {
		c, err := parseCondition(text, cols)
		if err != nil {
			return Inventory{}, err
		}
		conditions = append(conditions, c)
	}
	name, down := strings.CutPrefix(q.Sort, "-")
	by := 0
	if name != "" {
		if by = slices.IndexFunc(cols, func(c Column) bool { return c.Name == name }); by < 0 {
			return Inventory{}, &QueryError{fmt.Sprintf("there is no column %q to sort by: %s are", name, columnNames(cols))}
		}
	}
	offset, err := offsetOf(q)
	if err != nil {
		return Inventory{}, err
	}
	var at []int32
	if q.Text != "" {
		for _, match := range e.Find(q.Text, q.Kind, 0).Matches {
			at = append(at, match.At)
		}
		slices.SortFunc(at, func(a, b int32) int { return strings.Compare(e.At(a).Title(), e.At(b).Title()) })
	} else {
		at = slices.Clone(e.OfKind(q.Kind))
	}
	for _, c := range conditions {
		at = slices.DeleteFunc(at, func(i int32) bool { return !c.holds(c.column.of(m, i)) })
	}
	out.Total = len(at)
	if by > 0 {
		sortBy(m, at, cols[by], down)
	} else if down {
		slices.Reverse(at)
	}
	for _, i := range at[min(offset, len(at)):min(offset+q.Limit, len(at))] {
		r := Row{Ref: e.At(i).Key.String(), Cells: make([]any, len(cols))}
		for k, c := range cols {
			r.Cells[k] = c.of(m, i)
		}
		out.Rows = append(out.Rows, r)
	}
	if end := offset + q.Limit; end < len(at) {
		text, _ := json.Marshal(cursor{end, q.mark()})
		out.Next = base64.RawURLEncoding.EncodeToString(text)
	}
	return out, nil
}

// sortBy orders objects, already in order of name, by a column; what is not known comes last.
func sortBy(m *route.Map, at []int32, c Column, down bool) {
	type keyed struct {
		at   int32
		cell any
	}
	all := make([]keyed, len(at))
	for k, i := range at {
		all[k] = keyed{i, c.of(m, i)}
	}
	slices.SortStableFunc(all, func(a, b keyed) int {
		if (a.cell == nil) != (b.cell == nil) {
			if a.cell == nil {
				return 1
			}
			return -1
		}
		order := 0
		switch x := a.cell.(type) {
		case string:
			y, _ := b.cell.(string)
			order = strings.Compare(x, y)
		case float64:
			y, _ := b.cell.(float64)
			order = cmp.Compare(x, y)
		}
		if down {
			return -order
		}
		return order
	})
	for k := range all {
		at[k] = all[k].at
	}
}

// cursor is where the next page begins, and of which question.
type cursor struct {
	Offset int    `json:"o"`
	Of     string `json:"q"`
}

func (q InventoryQuery) mark() string {
	return fmt.Sprint(q.Kind, q.Where, q.Text, q.Sort, q.At.Unix())
}

func offsetOf(q InventoryQuery) (int, error) {
	if q.Cursor == "" {
		return 0, nil
	}
	text, err := base64.RawURLEncoding.DecodeString(q.Cursor)
	var c cursor
	if err != nil || json.Unmarshal(text, &c) != nil || c.Offset < 0 {
		return 0, &QueryError{"the cursor is not one that this service gave"}
	}
	if c.Of != q.mark() {
		return 0, &QueryError{"the cursor belongs to another question: ask for the first page again"}
	}
	return c.Offset, nil
}
