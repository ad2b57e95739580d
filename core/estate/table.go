package estate

import "maps"

// table is a map that can be changed without disturbing those who still read it as it was: what is
// common lies in a base that is never written again, what differs in a small layer above it.
type table[K comparable, V any] struct {
	base  map[K]V
	layer map[K]layered[V]
}

type layered[V any] struct {
	value V
	gone  bool
}

func (t *table[K, V]) get(k K) (V, bool) {
	if e, ok := t.layer[k]; ok {
		return e.value, !e.gone
	}
	v, ok := t.base[k]
	return v, ok
}

// edit returns a table that may be changed by its one owner. With bulk, what is set goes to a base of
// its own, of about the size given; the table must be empty then.
func (t *table[K, V]) edit(bulk int) table[K, V] {
	switch {
	case bulk > 0 && len(t.base) == 0 && len(t.layer) == 0:
		return table[K, V]{base: make(map[K]V, bulk)}
	case len(t.layer) > len(t.base)/8+1024:
		base := make(map[K]V, len(t.base)+len(t.layer))
		maps.Copy(base, t.base)
		for k, e := range t.layer {
			if e.gone {
				delete(base, k)
			} else {
				base[k] = e.value
			}
		}
		return table[K, V]{base: base, layer: map[K]layered[V]{}}
	case t.layer == nil:
		return table[K, V]{base: t.base, layer: map[K]layered[V]{}}
	}
	return table[K, V]{base: t.base, layer: maps.Clone(t.layer)}
}

func (t *table[K, V]) set(k K, v V) {
	if t.layer == nil {
		t.base[k] = v
		return
	}
	t.layer[k] = layered[V]{value: v}
}

func (t *table[K, V]) drop(k K) {
	if t.layer == nil {
		delete(t.base, k)
		return
	}
	if _, below := t.base[k]; below {
		t.layer[k] = layered[V]{gone: true}
	} else {
		delete(t.layer, k)
	}
}

// all calls f with every entry, in no order.
func (t *table[K, V]) all(f func(K, V)) {
	for k, v := range t.base {
		if _, over := t.layer[k]; !over {
			f(k, v)
		}
	}
	for k, e := range t.layer {
		if !e.gone {
			f(k, e.value)
		}
	}
}

// list is an array by position that can be changed in the same way: pages that did not change are
// shared with the lists it was made from.
type list[T any] struct {
	pages []*page[T]
	n     int
	own   map[int]bool // pages this owner made; nil once it is only read
}

const pageSize = 128

type page[T any] [pageSize]T

func (l *list[T]) at(i int32) *T { return &l.pages[int(i)/pageSize][int(i)%pageSize] }

func (l *list[T]) edit() list[T] {
	return list[T]{pages: append(make([]*page[T], 0, len(l.pages)+1), l.pages...), n: l.n, own: map[int]bool{}}
}

// change returns entry i for writing.
func (l *list[T]) change(i int32) *T {
	p := int(i) / pageSize
	if !l.own[p] {
		c := *l.pages[p]
		l.pages[p], l.own[p] = &c, true
	}
	return &l.pages[p][int(i)%pageSize]
}

// grow adds an entry and returns its position.
func (l *list[T]) grow(v T) int32 {
	if l.n%pageSize == 0 {
		l.own[len(l.pages)] = true
		l.pages = append(l.pages, new(page[T]))
	}
	l.n++
	*l.change(int32(l.n - 1)) = v
	return int32(l.n - 1)
}
