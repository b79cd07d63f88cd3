package transport

import "sync"

// marks are the streams of a watcher.
type marks struct {
	mu      sync.Mutex
	streams []*Stream // by place; nil: free
	free    []uint32  // places
	serial  uint32
}

// mark identifies a stream among those that are watched: its place, and above it a serial number,
// so that what is reported late about a stream is not taken for the next one's at its place. Zero
// stands for none.
type mark uint64

// put gives a stream its mark.
func (m *marks) put(s *Stream) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if len(m.free) == 0 {
		m.free = append(m.free, uint32(len(m.streams)))
		m.streams = append(m.streams, nil)
	}
	place := m.free[len(m.free)-1]
	m.free = m.free[:len(m.free)-1]
	m.streams[place] = s
	m.serial = max(m.serial+1, 1) // after the largest number comes 1
	s.mark = mark(m.serial)<<32 | mark(place)
}

// find returns the stream with a mark; nil if it is gone.
func (m *marks) find(k mark) *Stream {
	m.mu.Lock()
	defer m.mu.Unlock()
	if s := m.streams[uint32(k)]; s != nil && s.mark == k {
		return s
	}
	return nil
}

func (m *marks) drop(s *Stream) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.streams[uint32(s.mark)] = nil
	m.free = append(m.free, uint32(s.mark))
}
