package archive

import (
	"archive/tar"
	"archive/zip"
	"compress/gzip"
	"errors"
	"io"
	"strings"

	"github.com/klauspost/compress/zstd"
	"oskeld.dev/oskeld/internal/core/artifact"
	"oskeld.dev/oskeld/internal/core/fault"
)

// Limits of what is unpacked, against archives made to fill a disk.
const (
	MostUnpacked = 8 << 30 // bytes
	MostEntries  = 200_000
)

// IsArchive tells whether Unpack knows the kind of a file, by its name.
func IsArchive(name string) bool {
	for _, end := range []string{".zip", ".jar", ".whl", ".tar", ".tar.gz", ".tgz", ".tar.zst"} {
		if strings.HasSuffix(strings.ToLower(name), end) {
			return true
		}
	}
	return false
}

// Unpack gives every regular file of an archive to put, which must read it to its end. Directories
// are left out; links, and paths that are absolute or leave the archive, are errors of kind invalid.
func Unpack(name string, file io.ReaderAt, size int64, put func(path string, executable bool, r io.Reader) error) error {
	u := &unpacker{name: name, put: put, left: MostUnpacked}
	lower := strings.ToLower(name)
	body := io.NewSectionReader(file, 0, size)
	var err error
	switch {
	case strings.HasSuffix(lower, ".tar"):
		err = u.tar(body)
	case strings.HasSuffix(lower, "gz"):
		var g *gzip.Reader
		if g, err = gzip.NewReader(body); err == nil {
			err = u.tar(g)
		}
	case strings.HasSuffix(lower, ".zst"):
		var z *zstd.Decoder
		if z, err = zstd.NewReader(body, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(256<<20)); err == nil {
			err = u.tar(z)
			z.Close()
		}
	default:
		err = u.zip(file, size)
	}
	if _, ok := errors.AsType[*fault.Error](err); ok || err == nil || u.failed {
		return err
	}
	return fault.Invalid("%s cannot be unpacked: %v", name, err)
}

type unpacker struct {
	name    string
	put     func(string, bool, io.Reader) error
	left    int64
	entries int
	failed  bool // by put, which says why itself
}

func (u *unpacker) one(path string, executable bool, r io.Reader) error {
	if u.entries++; u.entries > MostEntries {
		return fault.Invalid("%s holds more than %d files", u.name, MostEntries)
	}
	if err := artifact.CheckPath(path); err != nil {
		return err
	}
	counted := &io.LimitedReader{R: r, N: u.left + 1}
	if err := u.put(path, executable, counted); err != nil {
		u.failed = true
		return err
	}
	if u.left = counted.N - 1; u.left < 0 {
		return fault.Invalid("%s holds more than %d bytes", u.name, int64(MostUnpacked))
	}
	return nil
}

func (u *unpacker) tar(r io.Reader) error {
	for t := tar.NewReader(r); ; {
		h, err := t.Next()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return err
		}
		switch h.Typeflag {
		case tar.TypeDir, tar.TypeXGlobalHeader:
		case tar.TypeReg:
			if err := u.one(strings.TrimPrefix(h.Name, "./"), h.Mode&0o111 != 0, t); err != nil {
				return err
			}
		default:
			return fault.Invalid("%s holds %s, which is not a plain file", u.name, h.Name)
		}
	}
}

func (u *unpacker) zip(file io.ReaderAt, size int64) error {
	z, err := zip.NewReader(file, size)
	if err != nil {
		return err
	}
	for _, f := range z.File {
		if strings.HasSuffix(f.Name, "/") {
			continue
		}
		if !f.Mode().IsRegular() {
			return fault.Invalid("%s holds %s, which is not a plain file", u.name, f.Name)
		}
		r, err := f.Open()
		if err != nil {
			return err
		}
		err = u.one(f.Name, f.Mode()&0o111 != 0, r)
		if err = errors.Join(err, r.Close()); err != nil {
			return err
		}
	}
	return nil
}
