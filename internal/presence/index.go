package presence

import (
	"hash/maphash"
	"iter"
)

// index finds things by their ids. It is a hash table that grows and shrinks by one bucket at a time (W. Litwin,
// Linear Hashing, VLDB 1980), so that no input waits until a large table has been copied, as it would for a table that
// doubles, and nothing is kept for the largest size that there ever was. The things of a bucket are linked to each
// other, which takes less memory than a map.
type index[K ~string, T any, P indexed[K, T]] struct {
	seed    maphash.Seed
	buckets []*segment[T] // the heads of the buckets
	count   int           // how many things there are
	size    int           // how many buckets: as many as things, down to half as many; at least a segment
	turn    int           // the largest power of two that is not above size
}

// indexed is a thing that an index holds. Of each id there is one thing.
type indexed[K ~string, T any] interface {
	*T
	name() K
	chain() *link[T]
}

// link is the part of a thing that belongs to its index.
type link[T any] struct {
	next *T
	hash uint64
}

const segmentSize = 64

type segment[T any] [segmentSize]*T

func newIndex[K ~string, T any, P indexed[K, T]]() *index[K, T, P] {
	return &index[K, T, P]{seed: maphash.MakeSeed(), buckets: []*segment[T]{{}}, size: segmentSize, turn: segmentSize}
}

// bucket returns the head of the bucket of a hash: that of its lowest bits, with one bit less where a bucket has not been
// split yet.
func (x *index[K, T, P]) bucket(hash uint64) **T {
	at := int(hash & uint64(2*x.turn-1))
	if at >= x.size {
		at &= x.turn - 1
	}
	return x.head(at)
}

func (x *index[K, T, P]) head(at int) **T { return &x.buckets[at/segmentSize][at%segmentSize] }

// get returns the thing with an id; nil if there is none.
func (x *index[K, T, P]) get(id K) *T {
	hash := maphash.String(x.seed, string(id))
	for t := *x.bucket(hash); t != nil; t = P(t).chain().next {
		if c := P(t).chain(); c.hash == hash && P(t).name() == id {
			return t
		}
	}
	return nil
}

// put adds a thing whose id nothing has.
func (x *index[K, T, P]) put(t *T) {
	hash := maphash.String(x.seed, string(P(t).name()))
	head := x.bucket(hash)
	*P(t).chain() = link[T]{*head, hash}
	*head = t
	if x.count++; x.count > x.size {
		x.grow()
	}
}

// remove removes a thing, if it is in the index.
func (x *index[K, T, P]) remove(t *T) {
	c := P(t).chain()
	at := x.bucket(c.hash)
	for *at != t {
		if *at == nil {
			return
		}
		at = &P(*at).chain().next
	}
	*at, c.next = c.next, nil
	x.count--
	for range 2 { // so that it keeps up
		if x.count < x.size/2 && x.size > segmentSize {
			x.shrink()
		}
	}
}

// grow adds a bucket, and moves into it what belongs there.
func (x *index[K, T, P]) grow() {
	if x.size%segmentSize == 0 {
		x.buckets = append(x.buckets, &segment[T]{})
	}
	from := x.bucket(uint64(x.size)) // the one that is split
	if x.size++; x.size == 2*x.turn {
		x.turn = x.size
	}
	to := x.head(x.size - 1)
	for *from != nil {
		c := P(*from).chain()
		if x.bucket(c.hash) != to {
			from = &c.next
			continue
		}
		*to, *from, c.next = *from, c.next, *to
	}
}

// shrink removes the last bucket, and moves what it has into the one from which it was split.
func (x *index[K, T, P]) shrink() {
	moved := *x.head(x.size - 1)
	*x.head(x.size - 1) = nil
	if x.size == x.turn {
		x.turn /= 2
	}
	x.size--
	into := x.bucket(uint64(x.size))
	for *into != nil {
		into = &P(*into).chain().next
	}
	*into = moved
	if x.size%segmentSize == 0 {
		x.buckets[len(x.buckets)-1] = nil
		x.buckets = x.buckets[:len(x.buckets)-1]
	}
}

// all returns everything, in no particular order. The index must not change meanwhile.
func (x *index[K, T, P]) all() iter.Seq[*T] {
	return func(yield func(*T) bool) {
		for _, s := range x.buckets {
			for _, t := range s {
				for ; t != nil; t = P(t).chain().next {
					if !yield(t) {
						return
					}
				}
			}
		}
	}
}

// ids returns the ids of everything, in no particular order.
func (x *index[K, T, P]) ids() iter.Seq[K] {
	return func(yield func(K) bool) {
		for t := range x.all() {
			if !yield(P(t).name()) {
				return
			}
		}
	}
}
