package delivery

import (
	"cmp"
	"container/heap"
	"strings"
	"sync"
	"time"
)

// tellCount publishes the newest count: now, or as soon as the policy of the room permits. The
// time does not depend on the followers.
func (h *Hub) tellCount(t *topic, now time.Time) {
	if !t.due.IsZero() { // a count is due anyway, and will be the newest
		h.postpone(t, now)
		return
	}
	if due := t.told.Add(t.policy.CountEvery); due.After(now) {
		t.due = due
		h.postpone(t, now)
		return
	}
	t.publish(now)
}

// catchUpCount is called when a receiver begins to follow the count. The result is the same as
// if the count had been followed all the time.
func (h *Hub) catchUpCount(t *topic) {
	now := time.Now()
	t.settleCount(now)
	h.postpone(t, now)
}

// postpone publishes a count when it is due, if anybody follows it.
func (h *Hub) postpone(t *topic, now time.Time) {
	if t.waiting || t.due.IsZero() || (t.exists && !t.counted()) {
		return // publishing the count will also forget a room that has ended
	}
	t.waiting = true
	h.postponed.add(postponed{t, t.due}, now)
}

// publishPostponed publishes the count of a topic that has become due.
func (h *Hub) publishPostponed(p postponed) {
	t := p.topic
	t.mu.Lock()
	defer t.mu.Unlock()
	t.waiting = false
	t.publish(p.due)
	h.letGo(t)
}

// publish publishes the present count and wakes its followers. If the room has ended it wakes
// all followers, since nothing more will come.
func (t *topic) publish(at time.Time) {
	t.publishCount(at)
	for _, s := range t.subs {
		if s.detail == AtCount || t.big || !t.exists {
			s.receiver.inbox.mark(s)
		}
	}
}

// postponed is a count to publish later.
type postponed struct {
	topic *topic
	due   time.Time
}

// postponements publishes counts when they are due, at most one per topic.
type postponements struct {
	publish func(postponed) // called without a lock

	mu    sync.Mutex
	list  byDue
	timer *time.Timer // for the first of them
}

func (p *postponements) add(what postponed, now time.Time) {
	p.mu.Lock()
	defer p.mu.Unlock()
	heap.Push(&p.list, what)
	switch {
	case p.list[0].topic != what.topic:
	case p.timer == nil:
		p.timer = time.AfterFunc(what.due.Sub(now), p.publishDue)
	default:
		p.timer.Reset(what.due.Sub(now))
	}
}

func (p *postponements) publishDue() {
	for _, due := range p.due(time.Now()) {
		p.publish(due)
	}
}

// due removes and returns what is due, in order, and sets the timer for the next.
func (p *postponements) due(now time.Time) (due []postponed) {
	p.mu.Lock()
	defer p.mu.Unlock()
	for len(p.list) > 0 && !p.list[0].due.After(now) {
		due = append(due, heap.Pop(&p.list).(postponed))
	}
	if len(p.list) > 0 {
		p.timer.Reset(p.list[0].due.Sub(now))
	}
	return due
}

// byDue is a heap of counts by due time, then by room.
type byDue []postponed

func (p byDue) Len() int      { return len(p) }
func (p byDue) Swap(i, j int) { p[i], p[j] = p[j], p[i] }
func (p *byDue) Push(x any)   { *p = append(*p, x.(postponed)) }

func (p byDue) Less(i, j int) bool {
	a, b := p[i], p[j]
	return cmp.Or(a.due.Compare(b.due), strings.Compare(string(a.topic.Room), string(b.topic.Room)), cmp.Compare(a.topic.View, b.topic.View)) < 0
}

func (p *byDue) Pop() any {
	last := len(*p) - 1
	x := (*p)[last]
	(*p)[last] = postponed{}
	*p = (*p)[:last]
	return x
}
