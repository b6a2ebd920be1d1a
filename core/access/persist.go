package access

import "maps"

// pageSize is a trade: a larger page copies more on each write, a smaller one
// makes the table of pages longer.
const pageSize = 256

// vector is a persistent sequence: set and push leave the receiver as it was
// and share all pages but one with the result.
type vector[T any] struct {
	pages []*[pageSize]T
	n     int
}

func (v vector[T]) len() int { return v.n }

func (v vector[T]) at(i int) T { return v.pages[i/pageSize][i%pageSize] }

func (v vector[T]) set(i int, x T) vector[T] {
	pages := append([]*[pageSize]T(nil), v.pages...)
	page := *pages[i/pageSize]
	page[i%pageSize] = x
	pages[i/pageSize] = &page
	return vector[T]{pages, v.n}
}

func (v vector[T]) push(x T) vector[T] {
	if v.n == len(v.pages)*pageSize {
		// The full slice expression keeps two successors of one vector from
		// sharing the slot that append would write.
		v.pages = append(v.pages[:len(v.pages):len(v.pages)], new([pageSize]T))
	}
	v.n++
	return v.set(v.n-1, x)
}

// shards is the number of maps an index is split into; a write copies one.
const shards = 256

// index is a persistent map from names to numbers.
type index[V any] struct {
	maps [shards]map[string]V
}

func (x *index[V]) get(key string) (V, bool) {
	v, ok := x.maps[shard(key)][key]
	return v, ok
}

func (x *index[V]) with(key string, v V) *index[V] {
	next, m := x.edit(key)
	m[key] = v
	return next
}

func (x *index[V]) without(key string) *index[V] {
	next, m := x.edit(key)
	delete(m, key)
	return next
}

func (x *index[V]) edit(key string) (*index[V], map[string]V) {
	next := *x
	m := maps.Clone(next.maps[shard(key)])
	if m == nil {
		m = map[string]V{}
	}
	next.maps[shard(key)] = m
	return &next, m
}

// shard is FNV-1a, folded to the number of shards.
func shard(key string) int {
	h := uint32(2166136261)
	for i := 0; i < len(key); i++ {
		h = (h ^ uint32(key[i])) * 16777619
	}
	return int((h ^ h>>16) % shards)
}
