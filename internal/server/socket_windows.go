package server

import "syscall"

// bufferSending says how much a socket buffers of what is sent.
func bufferSending(fd uintptr, size int) {
	_ = syscall.SetsockoptInt(syscall.Handle(fd), syscall.SOL_SOCKET, syscall.SO_SNDBUF, size)
}

// descriptors are not limited here.
func descriptors() int { return unlimited }
