//go:build unix

package transport

import "syscall"

// rawSockets says that sockets can be read and written without waiting.
const rawSockets = true

func readSocket(fd uintptr, data []byte) (int, error) { return retry(syscall.Read, fd, data) }

func writeSocket(fd uintptr, data []byte) (int, error) { return retry(syscall.Write, fd, data) }

// peekSocket reports whether there is data, and takes none.
func peekSocket(fd uintptr) (int, error) {
	return retry(func(fd int, data []byte) (int, error) {
		n, _, err := syscall.Recvfrom(fd, data, syscall.MSG_PEEK|syscall.MSG_DONTWAIT)
		return n, err
	}, fd, make([]byte, 1))
}

func retry(call func(int, []byte) (int, error), fd uintptr, data []byte) (int, error) {
	for {
		n, err := call(int(fd), data)
		if err != syscall.EINTR {
			return n, err
		}
	}
}
