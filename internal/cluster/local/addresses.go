package local

import (
	"errors"
	"fmt"
	"net"
	"os"
	"sync/atomic"
)

// Ports that systems do not give out by themselves: Linux begins at 32768, others at 49152 (RFC 6335, section 6).
const (
	lowest  = 10240
	block   = 256 // of one process
	highest = 32767
)

var given atomic.Uint32

// FreeAddresses returns addresses of loopback at which nobody listens, for processes that must know each other's
// addresses before they start. A port that a system gave out could be given to somebody else before it is used; each
// process gives out ports of its own instead, one after another.
func FreeAddresses(n int) (list []string, err error) {
	const blocks = (highest + 1 - lowest) / block
	first := lowest + os.Getpid()%blocks*block
	for tries := 0; len(list) < n; tries++ {
		if tries == block {
			return nil, errors.Join(fmt.Errorf("no address of loopback is free between ports %d and %d", first, first+block-1), err)
		}
		address := fmt.Sprintf("127.0.0.1:%d", first+int(given.Add(1)%block))
		var l net.Listener
		if l, err = net.Listen("tcp", address); err != nil {
			continue
		}
		if err = l.Close(); err != nil {
			return nil, err
		}
		list = append(list, address)
	}
	return list, nil
}
