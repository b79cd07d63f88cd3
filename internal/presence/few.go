package presence

import "slices"

// few is a list that mostly has one element, which then needs no memory of its own.
type few[T any] struct {
	one     [1]*T // the element, if there is one; else nil
	several *[]*T // all elements, if there are more; else nil
}

// list returns the elements in the order in which they were added. It is good until the next change.
func (f *few[T]) list() []*T {
	switch {
	case f.several != nil:
		return *f.several
	case f.one[0] != nil:
		return f.one[:]
	}
	return nil
}

func (f *few[T]) count() int { return len(f.list()) }

func (f *few[T]) add(x *T) {
	switch {
	case f.several != nil:
		*f.several = append(*f.several, x)
	case f.one[0] != nil:
		f.several, f.one[0] = &[]*T{f.one[0], x}, nil
	default:
		f.one[0] = x
	}
}

func (f *few[T]) remove(x *T) {
	if f.several == nil {
		if f.one[0] == x {
			f.one[0] = nil
		}
		return
	}
	if *f.several = without(*f.several, x); len(*f.several) == 1 {
		f.one[0], f.several = (*f.several)[0], nil
	}
}

// copied returns the elements for a loop that changes the list.
func (f *few[T]) copied() []*T { return slices.Clone(f.list()) }
