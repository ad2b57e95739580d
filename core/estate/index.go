package estate

import (
	"cmp"
	"math/bits"
	"slices"
	"strings"
)

// index finds text in what objects are called. It keeps a line of lower-case text for each object, one after another on a
// shelf, and for blocks of lines the trigrams that occur there. Lines that changed since the shelf was made lie beside it.
type index struct {
	shelf *shelf
	stale table[int32, struct{}] // whose line on the shelf no longer holds
	aside table[int32, string]
}

// Marks before the fields of a line that follow name and id.
const (
	markHex    = '\x01' // an identifier of hexadecimal digits
	markText   = '\x04' // any other
	markNumber = '\x02' // a LUN or volume number
	markExtra  = '\x03' // a word it is known by
	lineStart  = '\x05'
	fieldEnd   = '\x00'
	lineEnd    = '\n'
)

// line writes what an object is found by: its name, its id, then marked fields.
func line(o *Node) string {
	var b strings.Builder
	writeLine(&b, o, bearings(o, nil))
	return b.String()
}

func writeLine(b *strings.Builder, o *Node, own []bearing) {
	plain := func(s string) {
		s = strings.ToLower(s)
		if strings.IndexFunc(s, func(r rune) bool { return r < ' ' }) >= 0 {
			s = strings.Map(func(r rune) rune { return max(r, ' ') }, s)
		}
		b.WriteString(s)
		b.WriteByte(fieldEnd)
	}
	b.WriteByte(lineStart)
	plain(o.Name)
	plain(o.Key.Ref.ID)
	for _, x := range own {
		id := x.id
		if r := &roles[x.role]; !r.claim && !shows(r.kind) {
			continue
		}
		if id.hex() {
			b.WriteByte(markHex)
		} else {
			b.WriteByte(markText)
		}
		plain(id.Value)
	}
	for _, f := range []string{"lun", "number"} {
		if s := o.Facts.Text(f); s != "" {
			b.WriteByte(markNumber)
			plain(s)
		}
	}
	for _, f := range []string{"address", "application", "alias"} {
		for _, s := range o.Facts.Texts(f) {
			b.WriteByte(markExtra)
			plain(s)
		}
	}
	b.WriteByte(lineEnd)
}

func (x *index) edit() index {
	return index{shelf: x.shelf, stale: x.stale.edit(0), aside: x.aside.edit(0)}
}

func (x *index) set(i int32, o *Node, bulk bool) {
	if bulk {
		return // all lines are written at the end
	}
	x.stale.set(i, struct{}{})
	x.aside.set(i, line(o))
}

func (x *index) drop(i int32) {
	x.stale.set(i, struct{}{})
	x.aside.drop(i)
}

// finish makes a new shelf where there is none, or where too much lies beside it.
func (x *index) finish(e *Estate) {
	if x.shelf != nil && len(x.aside.layer)+len(x.aside.base) <= e.count/16+4096 {
		return
	}
	*x = newIndex(newShelf(e, nil))
}

func newIndex(s *shelf) index {
	return index{s, table[int32, struct{}]{layer: map[int32]layered[struct{}]{}}, table[int32, string]{layer: map[int32]layered[string]{}}}
}

const (
	blockLines = 64
	grams      = 1 << 13
)

// anyByte stands for whatever follows the first letter of a name.
const anyByte = 0xff

type shelf struct {
	text   string
	starts []uint32 // of each line, and the end of the last
	at     []int32
	words  int      // of 64 blocks
	blocks []uint64 // for each trigram, the blocks it occurs in
}

func gram(a, b, c byte) int {
	return int((uint32(a)*0x9e3d + uint32(b)*0x6f35 + uint32(c)*0x2b17) >> 3 & (grams - 1))
}

// inOrder returns all objects in the order in which people want to see them: by kind, then by title. What is looked for is
// found best first so.
func (e *Estate) inOrder() []int32 {
	kinds := make([]Kind, 0, len(e.kinds))
	for k := range e.kinds {
		kinds = append(kinds, k)
	}
	slices.SortFunc(kinds, func(a, b Kind) int { return cmp.Or(cmp.Compare(orderOf(a), orderOf(b)), cmp.Compare(a, b)) })
	all := make([]int32, 0, e.count)
	for _, k := range kinds {
		all = append(all, e.OfKind(k)...)
	}
	return all
}

// newShelf writes the lines of all objects. own holds their identifiers by position, where they are known already.
func newShelf(e *Estate, own [][]bearing) *shelf {
	s := &shelf{starts: make([]uint32, 0, e.count+1), at: make([]int32, 0, e.count)}
	var b strings.Builder
	b.Grow(e.count * 80)
	for _, i := range e.inOrder() {
		s.starts, s.at = append(s.starts, uint32(b.Len())), append(s.at, i)
		if own != nil {
			writeLine(&b, e.At(i), own[i])
		} else {
			b.WriteString(line(e.At(i)))
		}
	}
	s.text = strings.Clone(b.String())
	s.starts = append(s.starts, uint32(len(s.text)))
	s.words = (len(s.at)/blockLines)/64 + 1
	s.blocks = make([]uint64, grams*s.words)
	for n := range s.at {
		block := n / blockLines
		bit, word := uint64(1)<<(block%64), block/64
		t := s.text[s.starts[n]:s.starts[n+1]]
		for k := 0; k+3 <= len(t); k++ {
			s.blocks[gram(t[k], t[k+1], t[k+2])*s.words+word] |= bit
		}
		s.blocks[gram(lineStart, t[1], anyByte)*s.words+word] |= bit
	}
	return s
}

// each calls f with every line that holds any of the patterns, or, where short is not empty, begins with it or has it for an
// id, in the order of the shelf, until f returns false.
func (s *shelf) each(patterns []string, short string, f func(at int32, line string) bool) {
	var opening []string // what a block with a line that begins with short holds
	if short != "" {
		opening = []string{string(lineStart) + short, string(fieldEnd) + short + string(fieldEnd)}
	}
	hit, open := s.holding(patterns), s.holding(opening)
	for w := range hit {
		for word := hit[w] | open[w]; word != 0; word &= word - 1 {
			block := bits.TrailingZeros64(word)
			first := (w*64 + block) * blockLines
			if first >= len(s.at) {
				return
			}
			last := min(first+blockLines, len(s.at))
			if open[w]>>block&1 == 1 && !s.begins(short, first, last, f) || hit[w]>>block&1 == 1 && !s.block(first, last, patterns, f) {
				return
			}
		}
	}
}

// holding returns the blocks that may hold any of the patterns, as bits.
func (s *shelf) holding(patterns []string) []uint64 {
	hit := make([]uint64, s.words)
	for _, p := range patterns {
		all := make([]uint64, s.words)
		for k := range all {
			all[k] = ^uint64(0)
		}
		narrow := func(g int) {
			row := s.blocks[g*s.words:]
			for w := range all {
				all[w] &= row[w]
			}
		}
		for k := 0; k+3 <= len(p); k++ {
			narrow(gram(p[k], p[k+1], p[k+2]))
		}
		if len(p) == 2 && p[0] == lineStart {
			narrow(gram(lineStart, p[1], anyByte))
		}
		for w := range hit {
			hit[w] |= all[w]
		}
	}
	return hit
}

// begins looks at the beginning and the id of the lines from first to last, last excluded, as block does.
func (s *shelf) begins(short string, first, last int, f func(at int32, line string) bool) bool {
	for n := first; n < last; n++ {
		line := s.text[s.starts[n]:s.starts[n+1]]
		if (strings.HasPrefix(line[1:], short) || isID(line, short)) && !f(s.at[n], line) {
			return false
		}
	}
	return true
}

// isID reports whether the second field of a line is just text.
func isID(line, text string) bool {
	id := strings.IndexByte(line, fieldEnd) + 1
	return strings.HasPrefix(line[id:], text) && line[id+len(text)] == fieldEnd
}

// block looks through the lines from first to last, last excluded, until f returns false; then it does too.
func (s *shelf) block(first, last int, patterns []string, f func(at int32, line string) bool) bool {
	next := make([]int, len(patterns)) // where each pattern occurs next
	base := int(s.starts[first])
	text := s.text[base:s.starts[last]]
	for k := range next {
		next[k] = strings.Index(text, patterns[k])
	}
	for {
		best := -1
		for _, n := range next {
			if n >= 0 && (best < 0 || n < best) {
				best = n
			}
		}
		if best < 0 {
			return true
		}
		n, exact := slices.BinarySearch(s.starts[first:last], uint32(base+best))
		if n += first; !exact {
			n--
		}
		end := int(s.starts[n+1]) - base
		if !f(s.at[n], text[int(s.starts[n])-base:end]) {
			return false
		}
		for k := range next {
			if next[k] >= 0 && next[k] < end {
				if at := strings.Index(text[end:], patterns[k]); at >= 0 {
					next[k] = end + at
				} else {
					next[k] = -1
				}
			}
		}
	}
}

// each calls f as shelf.each does, first with the lines beside the shelf, all of them, then with those on it that still hold.
func (x *index) each(patterns []string, short string, f func(at int32, line string) bool) {
	x.aside.all(func(at int32, text string) {
		if short != "" && (strings.HasPrefix(text[1:], short) || isID(text, short)) || slices.ContainsFunc(patterns, func(p string) bool { return strings.Contains(text, p) }) {
			f(at, text)
		}
	})
	changed := len(x.stale.layer)+len(x.stale.base) > 0
	x.shelf.each(patterns, short, func(at int32, text string) bool {
		if changed {
			if _, stale := x.stale.get(at); stale {
				return true
			}
		}
		return f(at, text)
	})
}
