// Package archive packs files so that the same input gives the same bytes on every machine:
// entries sorted by path, one constant time, no owner, only the executable bit of the mode.
//
//	err := archive.Zip(w, []archive.Entry{{Path: "bin/app", Open: open}})
package archive

import (
	"archive/tar"
	"archive/zip"
	"compress/flate"
	"compress/gzip"
	"errors"
	"io"
	"slices"
	"strings"
	"time"

	"github.com/klauspost/compress/zstd"
)

// Entry is a file to pack. Size in bytes must be what Open gives.
type Entry struct {
	Path       string
	Size       int64
	Executable bool
	Open       func() (io.ReadCloser, error)
}

// Moment is the time that every entry bears: the first that a zip can hold, plus a day for zones.
var Moment = time.Date(1980, 1, 2, 0, 0, 0, 0, time.UTC)

func sorted(entries []Entry) []Entry {
	entries = slices.Clone(entries)
	slices.SortFunc(entries, func(a, b Entry) int { return strings.Compare(a.Path, b.Path) })
	return entries
}

func (e Entry) mode() int64 {
	if e.Executable {
		return 0o755
	}
	return 0o644
}

func (e Entry) copyTo(w io.Writer) error {
	r, err := e.Open()
	if err != nil {
		return err
	}
	defer r.Close()
	_, err = io.CopyN(w, r, e.Size)
	return err
}

// Zip writes the entries as a zip file (APPNOTE 6.3, deflate).
func Zip(w io.Writer, entries []Entry) error {
	z := zip.NewWriter(w)
	z.RegisterCompressor(zip.Deflate, func(w io.Writer) (io.WriteCloser, error) {
		return flate.NewWriter(w, flate.DefaultCompression)
	})
	for _, e := range sorted(entries) {
		h := &zip.FileHeader{Name: e.Path, Method: zip.Deflate, Modified: Moment}
		h.SetMode(0o644)
		if e.Executable {
			h.SetMode(0o755)
		}
		f, err := z.CreateHeader(h)
		if err != nil {
			return err
		}
		if err := e.copyTo(f); err != nil {
			return err
		}
	}
	return z.Close()
}

// TarGz writes the entries as a POSIX tar (ustar, pax where needed) in gzip without name and time.
func TarGz(w io.Writer, entries []Entry) error {
	g := gzip.NewWriter(w)
	return errors.Join(writeTar(g, entries), g.Close())
}

// TarZst writes the entries as a POSIX tar in zstd (RFC 8878), by one worker, so that the bytes do
// not depend on the machine.
func TarZst(w io.Writer, entries []Entry) error {
	z, err := zstd.NewWriter(w, zstd.WithEncoderConcurrency(1))
	if err != nil {
		return err
	}
	return errors.Join(writeTar(z, entries), z.Close())
}

func writeTar(w io.Writer, entries []Entry) error {
	t := tar.NewWriter(w)
	for _, e := range sorted(entries) {
		h := &tar.Header{Typeflag: tar.TypeReg, Name: e.Path, Size: e.Size, Mode: e.mode(), ModTime: Moment}
		if err := t.WriteHeader(h); err != nil {
			return err
		}
		if err := e.copyTo(t); err != nil {
			return err
		}
	}
	return t.Close()
}
