//go:build unix

package transport

import "syscall"

// rawSockets tells whether sockets can be read and written without waiting.
const rawSockets = true

func readSocket(fd uintptr, data []byte) (int, error) { return retry(syscall.Read, fd, data) }

func writeSocket(fd uintptr, data []byte) (int, error) { return retry(syscall.Write, fd, data) }

func retry(call func(int, []byte) (int, error), fd uintptr, data []byte) (int, error) {
	for {
		n, err := call(int(fd), data)
		if err != syscall.EINTR {
			return n, err
		}
	}
}
