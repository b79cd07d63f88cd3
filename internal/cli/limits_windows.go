package cli

import (
	"errors"

	"golang.org/x/sys/windows"
)

// descriptorLimit is not a limit that Windows has.
func descriptorLimit() (uint64, error) { return 0, errors.ErrUnsupported }

// freeSpace is how many bytes may still be written where dir is.
func freeSpace(dir string) (free uint64, err error) {
	path, err := windows.UTF16PtrFromString(dir)
	if err == nil {
		err = windows.GetDiskFreeSpaceEx(path, &free, nil, nil)
	}
	return free, err
}
