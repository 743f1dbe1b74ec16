package agent

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"io"
	"math"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/shirou/gopsutil/v4/disk"
	"golang.org/x/sync/singleflight"
	"oskeld.dev/oskeld/internal/core/fault"
)

// kept holds bytes that the agent got or made, so that they do not travel again: carried files and caches by
// their digest, and bundles of small carried files. What was not used for longest goes first once they are
// more than most bytes. Steps may run as the agent's own user, so bytes are checked each time that they are
// used: of a bundle, each file as it is read.
type kept struct {
	dir  string
	most int64
	free func() int64 // bytes that the disk takes yet

	getting  singleflight.Group
	sweeping sync.Mutex
}

// How names of what is kept begin that are no digests: bundles, and what is being written.
const (
	bundled   = "bundle-"
	temporary = "part-"
)

// newKept keeps at most most bytes in a directory.
func newKept(dir string, most int64) *kept {
	return &kept{dir: dir, most: most, free: func() int64 {
		usage, err := disk.Usage(dir)
		if err != nil {
			return math.MaxInt64 >> 1 // a system that does not say
		}
		return int64(usage.Free)
	}}
}

func (k *kept) at(name string) string { return filepath.Join(k.dir, name) }

// open gives what is kept under a name; false for nothing, or what has changed on the disk, which is removed.
func (k *kept) open(name string) (*os.File, bool) {
	f, err := os.Open(k.at(name))
	if err != nil {
		return nil, false
	}
	if !strings.HasPrefix(name, bundled) {
		sum := sha256.New()
		_, err = io.Copy(sum, f)
		if err == nil {
			_, err = f.Seek(0, io.SeekStart)
		}
		if err != nil || hex.EncodeToString(sum.Sum(nil)) != name {
			f.Close()
			os.Remove(f.Name())
			return nil, false
		}
	}
	now := time.Now()
	_ = os.Chtimes(f.Name(), now, now) // it was used
	return f, true
}

// get gives what is kept under a name, or else what fetch writes, which is kept then. Those that ask for the
// same at once wait for the first. Where the disk is full, all else that is kept makes room.
func (k *kept) get(ctx context.Context, name string, fetch func(io.Writer) error) (*os.File, error) {
	for emptied := false; ; {
		if f, ok := k.open(name); ok {
			return f, nil
		}
		var mine *os.File
		first := false
		_, err, _ := k.getting.Do(name, func() (_ any, err error) {
			first = true
			var ok bool
			if mine, ok = k.open(name); !ok { // another may have got it since
				mine, err = k.add(name, fetch)
			}
			return nil, err
		})
		if first && errors.Is(err, syscall.ENOSPC) && !emptied {
			emptied = true
			k.sweep(0)
			continue
		}
		if first {
			return mine, err
		}
		if ctx.Err() != nil {
			return nil, context.Cause(ctx)
		}
	}
}

// add keeps what fetch writes, and gives it open. An error of kind refused says that it is not what it should be.
func (k *kept) add(name string, fetch func(io.Writer) error) (*os.File, error) {
	if err := os.MkdirAll(k.dir, 0o700); err != nil {
		return nil, err
	}
	f, err := os.CreateTemp(k.dir, temporary)
	if err != nil {
		return nil, err
	}
	sum := sha256.New()
	err = fetch(io.MultiWriter(f, sum))
	if got := hex.EncodeToString(sum.Sum(nil)); err == nil && got != name && !strings.HasPrefix(name, bundled) {
		err = fault.Refused("bytes came with the digest sha256:%s, not %s", got, name).Hint("they are damaged where they lie, or on their way")
	}
	if err = errors.Join(err, f.Close()); err == nil {
		err = os.Rename(f.Name(), k.at(name))
	}
	if err != nil {
		os.Remove(f.Name())
		return nil, err
	}
	f, err = os.Open(k.at(name))
	k.sweep(k.most)
	return f, err
}

// addFile keeps a copy of a file that was made here. What cannot be kept is only not there later.
func (k *kept) addFile(name, path string) {
	if _, err := os.Stat(k.at(name)); err == nil || k.most == 0 {
		return
	}
	f, err := k.add(name, func(w io.Writer) error {
		from, err := os.Open(path)
		if err != nil {
			return err
		}
		defer from.Close()
		_, err = io.Copy(w, from)
		return err
	})
	if err == nil {
		f.Close()
	}
}

// forget removes what turned out to be damaged.
func (k *kept) forget(name string) { os.Remove(k.at(name)) }

// makeRoom leaves steps at least as much of the disk as is kept.
func (k *kept) makeRoom() {
	if k.free() < k.most {
		k.sweep(k.most)
	}
}

// sweep removes what was used longest ago until no more than most bytes are kept, nor more than the disk takes
// yet, and what was left half written a day ago.
func (k *kept) sweep(most int64) {
	k.sweeping.Lock()
	defer k.sweeping.Unlock()
	entries, _ := os.ReadDir(k.dir)
	var all []os.FileInfo
	size := int64(0)
	for _, e := range entries {
		info, err := e.Info()
		switch {
		case err != nil: // another has removed it
		case strings.HasPrefix(e.Name(), temporary):
			if time.Since(info.ModTime()) > 24*time.Hour {
				os.Remove(k.at(e.Name()))
			}
		default:
			all = append(all, info)
			size += info.Size()
		}
	}
	slices.SortFunc(all, func(a, b os.FileInfo) int { return a.ModTime().Compare(b.ModTime()) })
	most = min(most, (size+k.free())/2)
	for _, info := range all {
		if size <= most {
			return
		}
		if os.Remove(k.at(info.Name())) == nil {
			size -= info.Size()
		}
	}
}
