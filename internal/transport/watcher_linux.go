package transport

import (
	"fmt"
	"os"
	"syscall"
)

// watcher waits for data on the sockets of all streams with one goroutine, because one for each
// would be a third of the memory of an idle link. It uses epoll(7).
type watcher struct {
	marks
	file  *os.File // the epoll instance, for which Go's own poller waits
	fd    int
	ready syscall.RawConn
}

func newWatcher() (*watcher, error) {
	fd, err := syscall.EpollCreate1(syscall.EPOLL_CLOEXEC)
	if err != nil {
		return nil, fmt.Errorf("epoll_create1: %w", err)
	}
	if err := syscall.SetNonblock(fd, true); err != nil { // otherwise Go would not wait for it
		return nil, fmt.Errorf("epoll: %w", err)
	}
	w := &watcher{file: os.NewFile(uintptr(fd), "epoll"), fd: fd}
	if w.ready, err = w.file.SyscallConn(); err != nil {
		return nil, fmt.Errorf("epoll: %w", err)
	}
	return w, nil
}

// watch reports the next data on the socket of a stream with a mark, or its end, once. First says that it has not been
// watched yet.
func (w *watcher) watch(with *watching, of mark, first bool, c syscall.RawConn) error {
	with.epoll, with.op = w.fd, syscall.EPOLL_CTL_MOD
	if first {
		with.op = syscall.EPOLL_CTL_ADD
	}
	with.event = syscall.EpollEvent{Events: syscall.EPOLLIN | syscall.EPOLLRDHUP | syscall.EPOLLONESHOT, Fd: int32(uint32(of)), Pad: int32(uint32(of >> 32))}
	if err := c.Control(with.once); err != nil {
		return err
	}
	return with.err
}

// watching is a call of epoll_ctl, which does not allocate.
type watching struct {
	once      func(fd uintptr)
	epoll, op int
	event     syscall.EpollEvent
	err       error
}

func newWatching() *watching {
	w := &watching{}
	w.once = func(fd uintptr) {
		w.err = syscall.EpollCtl(w.epoll, w.op, int(fd), &w.event)
		switch w.err { // another worker may begin at the same moment, after a time limit
		case syscall.ENOENT:
			w.err = syscall.EpollCtl(w.epoll, syscall.EPOLL_CTL_ADD, int(fd), &w.event)
		case syscall.EEXIST:
			w.err = syscall.EpollCtl(w.epoll, syscall.EPOLL_CTL_MOD, int(fd), &w.event)
		}
	}
	return w
}

// run tells streams when there is something to read, until the watcher is closed. Epoll reports nothing
// about a socket that this process closes: whoever closes it tells the stream.
func (w *watcher) run() {
	events := make([]syscall.EpollEvent, wakeSize)
	n := 0
	wait := func(uintptr) bool {
		n, _ = syscall.EpollWait(w.fd, events, 0) // its only possible error is EINTR
		return n != 0
	}
	for w.ready.Read(wait) == nil {
		for _, e := range events[:max(n, 0)] {
			if s := w.find(mark(uint32(e.Pad))<<32 | mark(uint32(e.Fd))); s != nil {
				s.ready(nil)
			}
		}
	}
}

func (w *watcher) close() { _ = w.file.Close() }
