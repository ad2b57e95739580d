package estate_test

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	. "dowsingrod/core/estate"
)

func TestASheetReadsWhatWasWritten(t *testing.T) {
	facts := Facts{"text": `a "quoted" \ name – é`, "number": 14.0, "part": 0.25, "big": 4398046511104.0, "list": []any{"a", 1.0, "b,c]"}, "flag": true, "nothing": nil, "nested": map[string]any{"text": "no"}}
	for name, s := range map[string]Sheet{"as written here": SheetOf(facts), "as a database writes it": spaced(t, facts)} {
		t.Run(name, func(t *testing.T) {
			for f := range facts {
				assert.Equal(t, facts.Text(f), s.Text(f), f)
				n, ok := facts.Number(f)
				m, is := s.Number(f)
				assert.Equal(t, ok, is, f)
				assert.InDelta(t, n, m, 0, f)
			}
			assert.Equal(t, []string{"a", "b,c]"}, s.Texts("list"))
			assert.Equal(t, []string{facts.Text("text")}, s.Texts("text"))
			assert.True(t, s.True("flag"))
			assert.False(t, s.True("number"))
			assert.Empty(t, s.Text("absent"))
			assert.Equal(t, facts, s.Facts())
		})
	}
	assert.Empty(t, SheetOf(nil))
	assert.Empty(t, Sheet("").Text("x"))
	assert.Equal(t, Facts{}, Sheet("not JSON").Facts())
}

func spaced(t *testing.T, f Facts) Sheet {
	b, err := json.MarshalIndent(f, "", " ")
	require.NoError(t, err)
	return Sheet(b)
}

// Whatever text a sheet holds, reading it ends, and reads what a full decoder reads.
func FuzzSheet(f *testing.F) {
	for _, s := range []string{`{"a":"b"}`, `{"a": [1, "x"], "b": {"c": "d"}}`, `{"a":"\u00e9\\\""}`, `{`, `{"a"`, `{"a":`, `{"a":"`, `[]`, `{"a":1e5,"a":"twice"}`, "{\"a\":\"\\"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, s string) {
		got, list := Sheet(s).Text("a"), Sheet(s).Texts("a")
		var all map[string]json.RawMessage
		if json.Unmarshal([]byte(s), &all) != nil || countKeys(s) != len(all) {
			return // no JSON object, or one that names a fact twice: anything will do, as long as it ends
		}
		var text string
		if json.Unmarshal(all["a"], &text) == nil && len(all["a"]) > 0 && all["a"][0] == '"' {
			require.Equal(t, text, got)
			require.Equal(t, []string{text}, list)
		}
	})
}

// countKeys counts the keys of a JSON object, each time it is named.
func countKeys(s string) (n int) {
	d := json.NewDecoder(stringReader(s))
	depth, key := 0, false
	for {
		tok, err := d.Token()
		if err != nil {
			return n
		}
		switch v := tok.(type) {
		case json.Delim:
			if v == '{' || v == '[' {
				depth++
				key = v == '{' && depth == 1
				continue
			}
			depth--
			key = depth == 1
		default:
			if depth == 1 {
				if key {
					n++
				}
				key = !key
			}
		}
	}
}
