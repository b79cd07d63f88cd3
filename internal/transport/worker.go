package transport

import "tovik.example/tovik/internal/deflate"

// worker is what a goroutine that serves streams needs again and again, so that reading, writing
// and watching do not allocate. Its functions are called by syscall.RawConn.
type worker struct {
	buffer []byte // for reading
	joined []byte // frames to write at once
	frames []deflate.Text

	readOnce, writeOnce func(fd uintptr) bool
	data                []byte // to write
	n                   int    // the result of the last call
	err                 error

	watching *watching
}

func newWorker() *worker {
	w := &worker{watching: newWatching()}
	w.readOnce = func(fd uintptr) bool {
		w.n, w.err = readSocket(fd, w.buffer)
		return true
	}
	w.writeOnce = func(fd uintptr) bool {
		w.n, w.err = writeSocket(fd, w.data)
		return true
	}
	return w
}

// readBuffer returns the buffer for reading. Not every worker needs one.
func (w *worker) readBuffer() []byte {
	if w.buffer == nil {
		w.buffer = make([]byte, readSize)
	}
	return w.buffer
}
