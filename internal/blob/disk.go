// Package blob keeps bytes by their SHA-256 digest on a disk.
//
//	disk, err := blob.Open(dir)
//	kept, err := disk.Append(upload, offset, r, digest) // a part of a resumable upload; with a digest, its last
//	f, size, err := disk.Read(digest)
//
// What has been acknowledged is on the disk: written to a temporary file, synced, renamed, and
// its directory synced. The same bytes lie there once.
package blob

import (
	"crypto/sha256"
	"encoding"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"hash"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"sync"
	"time"

	"oskeld.dev/oskeld/internal/core/artifact"
	"oskeld.dev/oskeld/internal/core/fault"
)

// Disk is a directory of blobs. Safe for several goroutines and processes.
type Disk struct {
	dir  string
	busy sync.Map // upload path -> struct{}: one writer at a time
}

// Open makes the directory where it is not there.
func Open(dir string) (*Disk, error) {
	for _, sub := range []string{"blobs", "uploads"} {
		if err := os.MkdirAll(filepath.Join(dir, sub), 0o700); err != nil {
			return nil, err
		}
	}
	return &Disk{dir: dir}, nil
}

func (d *Disk) path(digest artifact.Digest) string {
	return filepath.Join(d.dir, "blobs", string(digest[:2]), string(digest))
}

// Read opens a blob; the caller closes it. Errors are of kind missing.
func (d *Disk) Read(digest artifact.Digest) (*os.File, int64, error) {
	f, err := os.Open(d.path(digest))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, 0, fault.Missing("the bytes of %s are not here", digest)
	}
	if err != nil {
		return nil, 0, err
	}
	info, err := f.Stat()
	if err != nil {
		f.Close()
		return nil, 0, err
	}
	return f, info.Size(), nil
}

// Has tells whether a blob is there and its size in bytes.
func (d *Disk) Has(digest artifact.Digest) (int64, bool) {
	info, err := os.Stat(d.path(digest))
	if err != nil {
		return 0, false
	}
	return info.Size(), true
}

// Remove removes a blob; one that is not there is no error.
func (d *Disk) Remove(digest artifact.Digest) error {
	err := os.Remove(d.path(digest))
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return err
}

// Upload names bytes on their way: whose they are, and what the owner calls them, which is their
// digest when it is known beforehand.
type Upload struct{ Owner, Name string }

// path is a file that grows, with the state of its hash beside it.
func (u Upload) path(dir string) string {
	return filepath.Join(dir, "uploads", string(artifact.DigestOf([]byte(u.Owner+"\x00"+u.Name))))
}

// Offset is how many bytes of an upload are kept so far.
func (d *Disk) Offset(u Upload) int64 {
	_, offset := d.state(u.path(d.dir))
	return offset
}

// state reads what a sidecar remembers: the bytes that are kept, and their hash so far.
func (d *Disk) state(path string) (hash.Hash, int64) {
	h := sha256.New()
	saved, err := os.ReadFile(path + ".state")
	if err != nil || len(saved) < 8 {
		return h, 0
	}
	if h.(encoding.BinaryUnmarshaler).UnmarshalBinary(saved[8:]) != nil {
		return sha256.New(), 0
	}
	return h, int64(binary.BigEndian.Uint64(saved))
}

// Put keeps a stream as a blob and gives its digest and size in bytes. What breaks off leaves nothing.
func (d *Disk) Put(r io.Reader) (digest artifact.Digest, size int64, err error) {
	f, err := os.CreateTemp(filepath.Join(d.dir, "uploads"), "put-")
	if err != nil {
		return "", 0, full(err)
	}
	defer d.forget(f.Name())
	h := sha256.New()
	size, err = io.CopyBuffer(io.MultiWriter(f, h), struct{ io.Reader }{r}, make([]byte, 256<<10))
	if err = errors.Join(err, f.Sync(), f.Close()); err != nil {
		return "", 0, full(err)
	}
	digest = artifact.Digest(hex.EncodeToString(h.Sum(nil)))
	return digest, size, d.settle(f.Name(), digest)
}

// PutAll keeps the files that next gives, until it gives io.EOF. They are blobs once all of them are on the
// disk, which is waited for once; when anything goes wrong none is. Each body must give an error in place of
// its end when its bytes do not have the digest.
func (d *Disk) PutAll(next func() (artifact.Digest, int64, io.Reader, error)) (digests []artifact.Digest, sizes []int64, err error) {
	dir, err := os.MkdirTemp(filepath.Join(d.dir, "uploads"), "all-")
	if err != nil {
		return nil, nil, full(err)
	}
	defer os.RemoveAll(dir)
	buffer := make([]byte, 64<<10)
	for {
		digest, size, body, err := next()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return nil, nil, err
		}
		f, err := os.Create(filepath.Join(dir, string(digest)))
		if err != nil {
			return nil, nil, full(err)
		}
		_, err = io.CopyBuffer(struct{ io.Writer }{f}, struct{ io.Reader }{body}, buffer)
		if err = errors.Join(err, f.Close()); err != nil {
			return nil, nil, full(err)
		}
		digests, sizes = append(digests, digest), append(sizes, size)
	}
	if err := syncAll(dir); err != nil {
		return nil, nil, full(err)
	}
	for _, digest := range digests {
		if _, there := d.Has(digest); there {
			continue
		}
		target := d.path(digest)
		if err := os.MkdirAll(filepath.Dir(target), 0o700); err != nil {
			return nil, nil, full(err)
		}
		if err := os.Rename(filepath.Join(dir, string(digest)), target); err != nil && !errors.Is(err, fs.ErrNotExist) { // the same file twice
			return nil, nil, full(err)
		}
	}
	return digests, sizes, full(syncAll(filepath.Join(d.dir, "blobs")))
}

// Append adds a part at an offset. With a digest, the upload must then be whole: it is checked and
// becomes a blob; a wrong digest throws it away. A part that breaks off is kept as far as it came. Errors: conflict for a wrong offset or a second writer, invalid for a wrong
// digest, unavailable for a full disk.
func (d *Disk) Append(u Upload, offset int64, r io.Reader, digest artifact.Digest) (kept int64, err error) {
	path := u.path(d.dir)
	if _, taken := d.busy.LoadOrStore(path, struct{}{}); taken {
		return 0, fault.Conflict("another upload of %s is running", u.Name).Hint("ask for its offset and go on from there")
	}
	defer d.busy.Delete(path)
	h, have := d.state(path)
	if offset != have {
		return have, fault.Conflict("the upload of %s stands at byte %d, not %d", u.Name, have, offset).Hint("go on from byte %d", have)
	}
	f, err := os.OpenFile(path, os.O_CREATE|os.O_WRONLY, 0o600)
	if err != nil {
		return have, full(err)
	}
	defer f.Close()
	if err := errors.Join(f.Truncate(have), seek(f, have)); err != nil {
		return have, full(err)
	}
	n, copyErr := io.CopyBuffer(io.MultiWriter(f, h), struct{ io.Reader }{r}, make([]byte, 256<<10))
	if err := f.Sync(); err != nil {
		return have, full(err)
	}
	if copyErr != nil && full(copyErr) != copyErr { // the disk failed, so the hash may be ahead of it
		return have, full(copyErr)
	}
	kept = have + n
	if copyErr != nil || digest == "" {
		if err := d.saveState(path, h, kept); err != nil {
			return have, full(err)
		}
		return kept, copyErr
	}
	if got := hex.EncodeToString(h.Sum(nil)); got != string(digest) {
		d.forget(path)
		return 0, fault.Invalid("the bytes sent have the digest sha256:%s, not %s", got, digest).On("digest").
			Hint("the file changed while it was sent, or the transfer harmed it: send it again")
	}
	return kept, d.settle(path, digest)
}

func seek(f *os.File, offset int64) error {
	_, err := f.Seek(offset, io.SeekStart)
	return err
}

func (d *Disk) saveState(path string, h hash.Hash, n int64) error {
	state, err := h.(encoding.BinaryMarshaler).MarshalBinary()
	if err != nil {
		return err
	}
	temp := path + ".state.new"
	if err := os.WriteFile(temp, append(binary.BigEndian.AppendUint64(nil, uint64(n)), state...), 0o600); err != nil {
		return err
	}
	return os.Rename(temp, path+".state")
}

func (d *Disk) forget(path string) {
	os.Remove(path)
	os.Remove(path + ".state")
}

// settle makes a synced file the blob.
func (d *Disk) settle(path string, digest artifact.Digest) error {
	target := d.path(digest)
	if err := os.MkdirAll(filepath.Dir(target), 0o700); err != nil {
		return full(err)
	}
	if _, there := d.Has(digest); !there {
		if err := os.Rename(path, target); err != nil {
			return full(err)
		}
		if err := syncDir(filepath.Dir(target)); err != nil {
			return full(err)
		}
	}
	d.forget(path)
	return nil
}

func syncDir(dir string) error {
	f, err := os.Open(dir)
	if err != nil {
		return err
	}
	defer f.Close()
	return f.Sync()
}

// full turns "no space left" into a fault that says so.
func full(err error) error {
	if isFull(err) {
		return fault.Unavailable("the service's disk is full: nothing was kept of this part").
			Hint("free space under its data directory, then send again; what was acknowledged is safe").Because(err)
	}
	return err
}

// Clean removes uploads that nobody touched since before.
func (d *Disk) Clean(before time.Time) error {
	entries, err := os.ReadDir(filepath.Join(d.dir, "uploads"))
	if err != nil {
		return err
	}
	for _, e := range entries {
		if info, err := e.Info(); err == nil && info.ModTime().Before(before) {
			os.RemoveAll(filepath.Join(d.dir, "uploads", e.Name()))
		}
	}
	return nil
}
