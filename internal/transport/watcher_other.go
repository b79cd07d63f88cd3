//go:build !linux

package transport

import (
	"errors"
	"syscall"
)

// watcher is for Linux only. Elsewhere each stream has a goroutine that waits for its data.
type watcher struct{ marks }

func newWatcher() (*watcher, error) { return nil, errors.ErrUnsupported }

type watching struct{}

func newWatching() *watching { return nil }

func (*watcher) watch(*watching, mark, bool, syscall.RawConn) error { return errors.ErrUnsupported }

func (*watcher) run() {}

func (*watcher) close() {}
