package rehearsal

import (
	"bufio"
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"sync"
	"time"

	"oskeld.dev/oskeld/internal/core/artifact"
)

// journal saves files of the working tree before they are stamped, so that they can be put back: at
// the end of the rehearsal, or, after a crash, by the next one. Each is on disk before the file that
// it saves is touched.
type journal struct {
	root  string
	mu    sync.Mutex
	file  *os.File
	saved []saved
}

// saved is a line of the journal. Stamped is the digest of what was written over the file.
type saved struct {
	Path    string          `json:"path"`
	Copy    string          `json:"copy,omitempty"` // "" for a file that was not there
	Mode    fs.FileMode     `json:"mode"`
	Time    time.Time       `json:"time"`
	Stamped artifact.Digest `json:"stamped"`
}

func journalDir(root string) string { return filepath.Join(root, Kept, "stamped") }

// openJournal puts back what a rehearsal that crashed had stamped, tells what it did, and begins anew.
func openJournal(root string) (*journal, []string, error) {
	j := &journal{root: root}
	text, err := os.ReadFile(filepath.Join(journalDir(root), "journal"))
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, nil, err
	}
	for line := range bytes.Lines(text) {
		var s saved
		if json.Unmarshal(line, &s) == nil { // a last line that was cut saved nothing yet
			j.saved = append(j.saved, s)
		}
	}
	crashed := len(j.saved) > 0
	notes, err := j.putBack()
	if crashed && err == nil && len(notes) == 0 {
		notes = append(notes, "stamped files of a rehearsal that was killed were put back")
	}
	return j, notes, err
}

// save saves a file of the working tree before text is written over it.
func (j *journal) save(path string, text []byte) error {
	j.mu.Lock()
	defer j.mu.Unlock()
	dir := journalDir(j.root)
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	s := saved{Path: path, Stamped: artifact.DigestOf(text)}
	info, err := os.Lstat(path)
	switch {
	case errors.Is(err, fs.ErrNotExist):
	case err != nil:
		return err
	default:
		s.Mode, s.Time = info.Mode().Perm(), info.ModTime()
		s.Copy = filepath.Join(dir, fmt.Sprintf("%d-%s", time.Now().UnixNano(), filepath.Base(path)))
		before, err := os.ReadFile(path)
		if err != nil {
			return err
		}
		if err := writeWhole(s.Copy, before, 0o600); err != nil {
			return fmt.Errorf("%s cannot be saved before it is stamped: %w", path, err)
		}
	}
	line, err := json.Marshal(s)
	if err != nil {
		return err
	}
	if j.file == nil {
		if j.file, err = os.OpenFile(filepath.Join(dir, "journal"), os.O_CREATE|os.O_WRONLY|os.O_APPEND, 0o600); err != nil {
			return err
		}
	}
	if _, err := j.file.Write(append(line, '\n')); err != nil {
		return err
	}
	j.saved = append(j.saved, s)
	return j.file.Sync()
}

// original opens a file as it was before it was stamped.
func (j *journal) original(path string) (io.ReadCloser, bool, error) {
	j.mu.Lock()
	defer j.mu.Unlock()
	for _, s := range j.saved { // the first is the oldest
		if s.Path == path {
			if s.Copy == "" {
				return nil, true, fs.ErrNotExist
			}
			file, err := os.Open(s.Copy)
			return file, true, err
		}
	}
	return nil, false, nil
}

// putBack puts every stamped file back, the last first. A file that somebody has changed since is
// left as it is, and told.
func (j *journal) putBack() (notes []string, err error) {
	j.mu.Lock()
	defer j.mu.Unlock()
	var errs []error
	left := map[string]bool{} // saved copies that stay where a note says
	for i := len(j.saved) - 1; i >= 0; i-- {
		s := j.saved[i]
		now, err := os.ReadFile(s.Path)
		switch {
		case err == nil && artifact.DigestOf(now) != s.Stamped && !j.sameAsSaved(s, now):
			left[s.Copy] = true
			notes = append(notes, fmt.Sprintf("%s was changed after it was stamped, so it stays as it is; before, it was %s", j.short(s.Path), j.short(s.Copy)))
		case s.Copy == "":
			if err == nil {
				errs = append(errs, os.Remove(s.Path))
			}
		default:
			errs = append(errs, s.restore())
		}
	}
	if err := errors.Join(errs...); err != nil {
		return notes, fmt.Errorf("stamped files could not be put back; they are saved in %s: %w", journalDir(j.root), err)
	}
	if j.file != nil {
		j.file.Close()
		j.file = nil
	}
	if len(j.saved) == 0 {
		return notes, nil
	}
	// The journal goes first: without it nothing is put back a second time.
	if err := os.Remove(filepath.Join(journalDir(j.root), "journal")); err != nil {
		return notes, err
	}
	for _, s := range j.saved {
		if s.Copy != "" && !left[s.Copy] {
			errs = append(errs, os.Remove(s.Copy))
		}
	}
	j.saved = nil
	_ = os.Remove(journalDir(j.root)) // stays while a saved copy is in it
	return notes, errors.Join(errs...)
}

func (j *journal) short(path string) string {
	if rel, err := filepath.Rel(j.root, path); err == nil {
		return rel
	}
	return path
}

// sameAsSaved tells whether a file is what it was: it was saved, and never stamped.
func (j *journal) sameAsSaved(s saved, now []byte) bool {
	if s.Copy == "" {
		return false
	}
	before, err := os.ReadFile(s.Copy)
	return err == nil && bytes.Equal(before, now)
}

func (s saved) restore() error {
	text, err := os.ReadFile(s.Copy)
	if err != nil {
		return err
	}
	now, err := os.ReadFile(s.Path)
	if err != nil || !bytes.Equal(now, text) {
		if err := os.MkdirAll(filepath.Dir(s.Path), 0o755); err != nil {
			return err
		}
		temp := s.Path + ".oskeld-part"
		if err := writeMode(temp, text, s.Mode); err != nil {
			return err
		}
		if err := os.Rename(temp, s.Path); err != nil {
			return err
		}
	}
	return os.Chtimes(s.Path, time.Time{}, s.Time) // so that build tools see no change
}

func writeMode(name string, text []byte, mode fs.FileMode) error {
	file, err := os.OpenFile(name, os.O_CREATE|os.O_WRONLY|os.O_TRUNC, mode)
	if err != nil {
		return err
	}
	w := bufio.NewWriter(file)
	_, err = w.Write(text)
	return errors.Join(err, w.Flush(), file.Chmod(mode), file.Sync(), file.Close())
}
