package blob

import (
	"errors"
	"os"
	"syscall"

	"golang.org/x/sys/unix"
)

// syncAll waits until all that was written to a directory's file system is on the disk.
func syncAll(dir string) error {
	f, err := os.Open(dir)
	if err != nil {
		return err
	}
	defer f.Close()
	return unix.Syncfs(int(f.Fd()))
}

// isFull tells whether an error says that no space, or no quota, is left.
func isFull(err error) bool {
	return errors.Is(err, syscall.ENOSPC) || errors.Is(err, syscall.EDQUOT) || errors.Is(err, syscall.EFBIG)
}
