package presence

import (
	"math/bits"
	"time"
)

// A hierarchical timing wheel: setting, clearing and firing a timer take constant time. Level 0
// has a slot for each tick. A slot of level n covers a whole turn of level n-1, and is dealt out
// to it when its time comes.
const (
	tick       = 16 * time.Millisecond
	wheelBits  = 8
	wheelSlots = 1 << wheelBits
	levels     = 5 // 16 ms × 256⁵: longer than any machine runs
)

// timer is the one timer of its owner, linked into the slot of its time.
type timer struct {
	next, prev *timer
	at         int64 // the tick it is due at
	owner      fired
}

type wheel struct {
	now   int64 // every tick before this one has been fired
	slots [levels][wheelSlots]timer
	used  [levels][wheelSlots / 64]uint64
}

func newWheel() *wheel {
	w := &wheel{}
	for l := range w.slots {
		for i := range w.slots[l] {
			head := &w.slots[l][i]
			head.next, head.prev = head, head
		}
	}
	return w
}

// set arms t to fire at the awake time or up to one tick later, never earlier.
func (w *wheel) set(t *timer, awake time.Duration) {
	w.clear(t)
	t.at = max(int64((awake+tick-1)/tick), w.now)
	w.link(t)
}

func (w *wheel) link(t *timer) {
	level, slot := w.place(t.at)
	head := &w.slots[level][slot]
	t.prev, t.next = head.prev, head
	head.prev.next, head.prev = t, t
	w.used[level][slot/64] |= 1 << (slot % 64)
}

// place returns the lowest level whose current turn includes the tick.
func (w *wheel) place(at int64) (level, slot int) {
	for level = 0; level < levels-1; level++ {
		if at>>(wheelBits*(level+1)) == w.now>>(wheelBits*(level+1)) {
			break
		}
	}
	return level, int(at>>(wheelBits*level)) & (wheelSlots - 1)
}

// clear disarms t. The bit of its slot may stay set; an empty slot is skipped.
func (w *wheel) clear(t *timer) {
	if t.next == nil {
		return
	}
	t.prev.next, t.next.prev = t.next, t.prev
	t.next, t.prev = nil, nil
}

// due returns the tick at which there may be something to do: a timer fires, or a slot is dealt
// out. It is never later than the first timer.
func (w *wheel) due() (int64, bool) {
	if w.undealt() != nil {
		return w.now, true
	}
	for level := range levels {
		shift := wheelBits * level
		from := int(w.now>>shift) & (wheelSlots - 1)
		if slot, ok := w.firstUsed(level, from); ok {
			turn := w.now >> (shift + wheelBits) << (shift + wheelBits)
			return max(turn+int64(slot)<<shift, w.now), true
		}
	}
	return 0, false
}

// firstUsed returns the first slot at or after from that has a timer. Earlier slots belong to a
// turn that has not begun, and their timers are on a higher level.
func (w *wheel) firstUsed(level, from int) (int, bool) {
	for from < wheelSlots {
		word := w.used[level][from/64] >> (from % 64)
		if word == 0 {
			from = (from/64 + 1) * 64
			continue
		}
		from += bits.TrailingZeros64(word)
		if head := &w.slots[level][from]; head.next != head {
			return from, true
		}
		w.used[level][from/64] &^= 1 << (from % 64)
	}
	return 0, false
}

// step does one small thing that is due at the awake time: it moves a timer to a lower level, or
// removes a timer and returns it. It returns false if nothing is due.
func (w *wheel) step(awake time.Duration) (*timer, bool) {
	limit := int64(awake / tick)
	at, ok := w.due()
	if !ok || at > limit {
		w.now = max(w.now, limit)
		return nil, false
	}
	w.now = at
	if t := w.undealt(); t != nil {
		w.clear(t)
		w.link(t)
		return nil, true
	}
	t := w.slots[0][int(at)&(wheelSlots-1)].next
	w.clear(t)
	return t, true
}

// undealt returns a timer in a slot of a higher level that is due to be dealt out to lower
// levels.
func (w *wheel) undealt() *timer {
	for level := 1; level < levels; level++ {
		head := &w.slots[level][int(w.now>>(wheelBits*level))&(wheelSlots-1)]
		if head.next != head {
			return head.next
		}
	}
	return nil
}
