package access

import (
	"maps"
	"slices"
)

// An edit is a right to write in place: to what was made under the same edit,
// and so is known to nobody else yet. A model that is handed out has none.
type edit struct {
	// paths are the objects of the tree that were looked up. Where many are, they are kept, as
	// a path names the same object for as long as the platform exists; else nil.
	paths map[string]ObjectID
}

// pageSize is a trade: a larger page copies more on each write, a smaller one
// makes the table of pages longer.
const pageSize = 256

// vector is a persistent sequence. A copy of it is a snapshot: writes to the
// original under another edit share all pages but those they touch.
type vector[T any] struct {
	pages []*page[T]
	n     int
	edit  *edit // that pages itself was made under
}

type page[T any] struct {
	edit  *edit
	items [pageSize]T
}

func (v *vector[T]) size() int { return v.n }

func (v *vector[T]) at(i int) T { return v.pages[i/pageSize].items[i%pageSize] }

// own makes the table of pages this edit's.
func (v *vector[T]) own(e *edit) {
	if v.edit != e {
		v.pages, v.edit = append(make([]*page[T], 0, len(v.pages)+1), v.pages...), e
	}
}

func (v *vector[T]) set(e *edit, i int, x T) {
	v.own(e)
	p := v.pages[i/pageSize]
	if p.edit != e {
		p = &page[T]{e, p.items}
		v.pages[i/pageSize] = p
	}
	p.items[i%pageSize] = x
}

func (v *vector[T]) push(e *edit, x T) {
	v.own(e)
	if v.n == len(v.pages)*pageSize {
		v.pages = append(v.pages, &page[T]{edit: e})
	}
	v.n++
	v.set(e, v.n-1, x)
}

// shards is the number of maps an index is split into; a write copies one.
const shards = 256

// index is a persistent map from names to numbers.
type index[V any] struct {
	edit *edit
	maps [shards]shard[V]
}

type shard[V any] struct {
	edit *edit
	m    map[string]V
}

func (x *index[V]) get(key string) (V, bool) {
	v, ok := x.maps[shardOf(key)].m[key]
	return v, ok
}

func (x *index[V]) with(e *edit, key string, v V) *index[V] {
	next := x.own(e, key)
	next.maps[shardOf(key)].m[key] = v
	return next
}

func (x *index[V]) without(e *edit, key string) *index[V] {
	next := x.own(e, key)
	delete(next.maps[shardOf(key)].m, key)
	return next
}

func (x *index[V]) own(e *edit, key string) *index[V] {
	if x.edit != e {
		next := *x
		next.edit = e
		x = &next
	}
	s := &x.maps[shardOf(key)]
	if s.edit != e {
		m := maps.Clone(s.m)
		if m == nil {
			m = map[string]V{}
		}
		*s = shard[V]{e, m}
	}
	return x
}

// shardOf is FNV-1a, folded to the number of shards.
func shardOf(key string) int {
	h := uint32(2166136261)
	for i := 0; i < len(key); i++ {
		h = (h ^ uint32(key[i])) * 16777619
	}
	return int((h ^ h>>16) % shards)
}

// inserted is a copy of the list with x at i.
func inserted[T any](list []T, i int, x T) []T { return slices.Insert(slices.Clip(list), i, x) }

// lacking is a copy of the list without the elements that match.
func lacking[T any](list []T, match func(T) bool) []T {
	return slices.DeleteFunc(slices.Clone(list), match)
}
