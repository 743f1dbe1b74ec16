package runner

import (
	"archive/tar"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"
)

// treeWriter writes entries of archives with rights, links and times; nothing leaves their roots. Rights
// of directories are set last, since some may not be written to.
type treeWriter struct {
	left    int64 // bytes that may come yet
	entries int   // and files, directories and links
	later   []laterMode
}

// mostEntries is how many files, directories and links an archive may hold: each costs room on the disk, also
// where it is empty.
const mostEntries = 1_000_000

func newTree(most int64) *treeWriter { return &treeWriter{left: most, entries: mostEntries} }

type laterMode struct {
	root *os.Root
	name string
	mode fs.FileMode
}

// put writes one entry under a name; directories above it that the archive does not name are made.
func (w *treeWriter) put(root *os.Root, name string, h *tar.Header, body io.Reader) error {
	if w.entries--; w.entries < 0 {
		return errors.New("it holds more files than are allowed")
	}
	name = strings.TrimSuffix(name, "/")
	if name == "" {
		name = "."
	}
	if dir := filepath.Dir(name); dir != "." && h.Typeflag != tar.TypeDir {
		if err := root.MkdirAll(dir, 0o755); err != nil {
			return err
		}
	}
	mode := fs.FileMode(h.Mode) & fs.ModePerm
	switch h.Typeflag {
	case tar.TypeDir:
		if err := root.MkdirAll(name, 0o700|mode); err != nil {
			return err
		}
		w.later = append(w.later, laterMode{root, name, mode})
		return nil
	case tar.TypeSymlink:
		return root.Symlink(h.Linkname, name)
	case tar.TypeReg:
		if w.left -= h.Size; w.left < 0 {
			return errors.New("it holds more bytes than are allowed")
		}
		return writeEntry(body, root, name, mode, h.ModTime)
	case tar.TypeXGlobalHeader:
		return nil
	}
	return fmt.Errorf("%q is no file, directory or link", h.Name)
}

// end sets what is set last.
func (w *treeWriter) end() error {
	for i := len(w.later) - 1; i >= 0; i-- {
		if err := w.later[i].root.Chmod(w.later[i].name, w.later[i].mode); err != nil {
			return err
		}
	}
	return nil
}

func writeEntry(body io.Reader, root *os.Root, name string, mode fs.FileMode, at time.Time) error {
	f, err := root.OpenFile(name, os.O_CREATE|os.O_WRONLY|os.O_EXCL, mode|0o200)
	if err != nil {
		return err
	}
	_, err = io.Copy(f, body)
	if err = errors.Join(err, f.Chmod(mode), f.Close()); err != nil {
		return err
	}
	return root.Chtimes(name, at, at)
}
