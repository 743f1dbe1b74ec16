//go:build !linux

package blob

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"syscall"
)

// syncAll waits until every file below a directory is on the disk: these systems have no call for a
// whole file system, and a service is run on them to try it, not to serve many.
func syncAll(dir string) error {
	return filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
		if err != nil || !d.Type().IsRegular() {
			return err
		}
		f, err := os.Open(path)
		if err != nil {
			return err
		}
		return errors.Join(f.Sync(), f.Close())
	})
}

func isFull(err error) bool { return errors.Is(err, syscall.ENOSPC) }
