package route

import (
	"slices"

	"dowsingrod/core/estate"
)

// Part is an object and what is built into it.
type Part struct {
	At    int32
	Parts []Part
}

// hardwareOrder is the order in which parts are listed.
var hardwareOrder = []estate.Kind{estate.Controller, estate.Cache, estate.TargetPort, estate.HBAPort, estate.SwitchPort, estate.Enclosure, estate.Drive, estate.Fan, estate.PowerSupply, estate.Pool, estate.RAIDGroup}

// Hardware returns what an object is built of, by its parts: of an array its controllers with their ports, its enclosures
// with drives, fans and power supplies, its pools with RAID groups. Volumes, devices and paths are not parts in that sense.
func (m *Map) Hardware(i int32) Part { return m.parts(i, map[int32]bool{i: true}) }

func (m *Map) parts(i int32, seen map[int32]bool) Part {
	p := Part{At: i}
	var of []int32
	add := func(at int32) {
		if !seen[at] && slices.Contains(hardwareOrder, m.e.Kind(at)) {
			seen[at] = true
			of = append(of, at)
		}
	}
	m.e.EachIn(i, func(link estate.LinkKind, from int32) {
		if link == estate.PartOf {
			add(from)
		}
	})
	if m.e.Kind(i) == estate.Pool {
		m.e.EachOut(i, func(link estate.LinkKind, to int32) {
			if link == estate.MadeOf && m.e.Kind(to) == estate.RAIDGroup {
				add(to)
			}
		})
	}
	slices.SortFunc(of, func(a, b int32) int {
		if x, y := slices.Index(hardwareOrder, m.e.Kind(a)), slices.Index(hardwareOrder, m.e.Kind(b)); x != y {
			return x - y
		}
		return natural(m.e.At(a).Title(), m.e.At(b).Title())
	})
	for _, at := range of {
		p.Parts = append(p.Parts, m.parts(at, seen))
	}
	return p
}

// natural compares names so that numbers in them count as numbers: "drive 2" before "drive 10".
func natural(a, b string) int {
	for a != "" && b != "" {
		x, y := leadingDigits(a), leadingDigits(b)
		if x > 0 && y > 0 {
			if c := compareNumbers(a[:x], b[:y]); c != 0 {
				return c
			}
			a, b = a[x:], b[y:]
			continue
		}
		if a[0] != b[0] {
			return int(a[0]) - int(b[0])
		}
		a, b = a[1:], b[1:]
	}
	return len(a) - len(b)
}

func leadingDigits(s string) (n int) {
	for n < len(s) && s[n] >= '0' && s[n] <= '9' {
		n++
	}
	return n
}

func compareNumbers(a, b string) int {
	for len(a) > 1 && a[0] == '0' {
		a = a[1:]
	}
	for len(b) > 1 && b[0] == '0' {
		b = b[1:]
	}
	if len(a) != len(b) {
		return len(a) - len(b)
	}
	for i := range len(a) {
		if a[i] != b[i] {
			return int(a[i]) - int(b[i])
		}
	}
	return 0
}
