//go:build unix

package server

import "syscall"

// bufferSending says how much a socket buffers of what is sent.
func bufferSending(fd uintptr, size int) {
	_ = syscall.SetsockoptInt(int(fd), syscall.SOL_SOCKET, syscall.SO_SNDBUF, size)
}

// descriptors is the limit of this process, less what is no connection.
func descriptors() int {
	var limit syscall.Rlimit
	if err := syscall.Getrlimit(syscall.RLIMIT_NOFILE, &limit); err != nil {
		return unlimited
	}
	all := int(min(limit.Cur, 1<<30))
	return all - min(reserve, all/4)
}
