package transport

import (
	"sync"
	"time"
)

// Sizes of reads and writes.
const (
	readSize    = 4 << 10
	joinSize    = 32 << 10
	keepSize    = 64 << 10 // a worker drops a buffer that has grown beyond it
	patientIdle = time.Second
	spareSize   = 512 // read buffer of a connection without a raw socket
	wakeSize    = 256 // streams that are told at once that there is something to read
)

// Pool has the workers that read and write for its streams. Close it after its streams have
// ended.
type Pool struct {
	slow    time.Duration // a stream is closed after so long without progress in writing
	patient chan *Stream  // unbuffered, to goroutines that wait for more to do
	spare   sync.Pool     // workers of such goroutines that are done

	watching sync.Once // with the first raw socket
	watcher  *watcher  // nil: each stream has a goroutine that waits for its data

	mu     sync.Mutex
	ready  sync.Cond
	queue  []task // from first on; at most two for each stream
	first  int
	closed bool
	ended  sync.WaitGroup
}

// task is the next step of a stream.
type task struct {
	stream *Stream
	read   bool
}

// NewPool returns a pool with running workers. A stream whose client reads nothing for the time
// slow while data waits for it is closed.
func NewPool(workers int, slow time.Duration) *Pool {
	p := &Pool{slow: slow, patient: make(chan *Stream)}
	p.ready.L = &p.mu
	for range workers {
		p.ended.Go(p.work)
	}
	return p
}

// watches begins to watch sockets, and reports whether the system can do that.
func (p *Pool) watches() bool {
	p.watching.Do(func() {
		if watcher, err := newWatcher(); err == nil {
			p.watcher = watcher
			p.ended.Go(watcher.run)
		}
	})
	return p.watcher != nil
}

// Close ends the workers.
func (p *Pool) Close() {
	p.mu.Lock()
	p.closed = true
	p.ready.Broadcast()
	p.mu.Unlock()
	if p.watcher != nil {
		p.watcher.close()
	}
	p.ended.Wait()
}

// await processes in another goroutine what may take long. A goroutine that is done waits for
// more for a moment, because its stack has already grown.
func (p *Pool) await(s *Stream) {
	select {
	case p.patient <- s:
	default:
		p.ended.Go(func() { p.workPatiently(s) })
	}
}

func (p *Pool) workPatiently(s *Stream) {
	w, _ := p.spare.Get().(*worker)
	if w == nil {
		w = newWorker()
	}
	defer p.spare.Put(w)
	idle := time.NewTimer(patientIdle)
	defer idle.Stop()
	for {
		s.process(w)
		idle.Reset(patientIdle)
		select {
		case s = <-p.patient:
		case <-idle.C:
			return
		}
	}
}

func (p *Pool) add(t task) {
	p.mu.Lock()
	p.queue = append(p.queue, t)
	p.mu.Unlock()
	p.ready.Signal()
}

// next waits for a task; false when the pool is closed.
func (p *Pool) next() (task, bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	for p.first == len(p.queue) {
		if p.closed {
			return task{}, false
		}
		p.ready.Wait()
	}
	t := p.queue[p.first]
	p.queue[p.first] = task{}
	p.first++
	if p.first == len(p.queue) {
		p.queue, p.first = p.queue[:0], 0
	} else if p.first > 1024 && p.first > len(p.queue)/2 {
		n := copy(p.queue, p.queue[p.first:])
		clear(p.queue[n:])
		p.queue, p.first = p.queue[:n], 0
	}
	return t, true
}

func (p *Pool) work() {
	w := newWorker()
	for {
		t, ok := p.next()
		switch {
		case !ok:
			return
		case t.read:
			t.stream.process(w)
		default:
			t.stream.flush(w)
		}
	}
}
