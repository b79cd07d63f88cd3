//go:build unix

package cli

import "golang.org/x/sys/unix"

// descriptorLimit returns how many files and connections a process may have.
func descriptorLimit() (uint64, error) {
	var limit unix.Rlimit
	err := unix.Getrlimit(unix.RLIMIT_NOFILE, &limit)
	return uint64(limit.Cur), err
}

// freeSpace returns the free space where dir is, in bytes.
func freeSpace(dir string) (uint64, error) {
	var stat unix.Statfs_t
	err := unix.Statfs(dir, &stat)
	return uint64(stat.Bavail) * uint64(stat.Bsize), err
}
