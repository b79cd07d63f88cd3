// Package agenda keeps what is to be done in a simulated time. It imports the standard library
// only.
package agenda

import "container/heap"

// Agenda keeps acts by their time, in any unit; those of one time in the order in which they were
// added. The zero value is empty.
type Agenda struct {
	acts  acts
	order uint64
}

// Add adds something to do at a time.
func (a *Agenda) Add(at int64, do func()) {
	a.order++
	heap.Push(&a.acts, act{at, a.order, do})
}

// Due returns the time of the first act; false if there is none.
func (a *Agenda) Due() (at int64, ok bool) {
	if len(a.acts) == 0 {
		return 0, false
	}
	return a.acts[0].at, true
}

// Next removes the first act, and returns it. There must be one.
func (a *Agenda) Next() func() { return heap.Pop(&a.acts).(act).do }

type act struct {
	at    int64
	order uint64
	do    func()
}

type acts []act

func (a acts) Len() int { return len(a) }
func (a acts) Less(i, j int) bool {
	return a[i].at < a[j].at || (a[i].at == a[j].at && a[i].order < a[j].order)
}
func (a acts) Swap(i, j int) { a[i], a[j] = a[j], a[i] }
func (a *acts) Push(x any)   { *a = append(*a, x.(act)) }
func (a *acts) Pop() any {
	old := *a
	last := old[len(old)-1]
	old[len(old)-1] = act{}
	*a = old[:len(old)-1]
	return last
}
