package cli

import (
	"errors"

	"golang.org/x/sys/windows"
)

// descriptorLimit returns no limit: Windows has none.
func descriptorLimit() (uint64, error) { return 0, errors.ErrUnsupported }

// freeSpace returns the free space where dir is, in bytes.
func freeSpace(dir string) (free uint64, err error) {
	path, err := windows.UTF16PtrFromString(dir)
	if err == nil {
		err = windows.GetDiskFreeSpaceEx(path, &free, nil, nil)
	}
	return free, err
}
