//go:build unix

package local

import (
	"os"
	"syscall"
)

func pause(p *os.Process) error     { return p.Signal(syscall.SIGSTOP) }
func goOn(p *os.Process) error      { return p.Signal(syscall.SIGCONT) }
func terminate(p *os.Process) error { return p.Signal(syscall.SIGTERM) }
