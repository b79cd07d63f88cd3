package transport

import "errors"

// rawSockets are not used here, because Windows reports completed operations, not readiness.
// Each link has a buffer of its own instead.
const rawSockets = false

func readSocket(uintptr, []byte) (int, error) { return 0, errors.ErrUnsupported }

func writeSocket(uintptr, []byte) (int, error) { return 0, errors.ErrUnsupported }

func peekSocket(uintptr) (int, error) { return 0, errors.ErrUnsupported }
