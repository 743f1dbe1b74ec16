package rehearsal

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"github.com/gofrs/flock"

	"oskeld.dev/oskeld/internal/core/artifact"
	"oskeld.dev/oskeld/internal/core/condition"
	"oskeld.dev/oskeld/internal/core/fault"
	"oskeld.dev/oskeld/internal/runner"
)

// kept is what rehearsals leave for later ones that run only a part, in .oskeld/rehearsed.json; the
// bytes lie in .oskeld/blobs by their digest.
type kept struct {
	Runs map[string]*keptRun `json:"runs"` // by title
}

type keptRun struct {
	Carried []artifact.File    `json:"carried,omitempty"`
	Exports []condition.Export `json:"exports,omitempty"`
}

func loadKept(root string) kept {
	k := kept{}
	text, err := os.ReadFile(filepath.Join(root, Kept, "rehearsed.json"))
	if err != nil || json.Unmarshal(text, &k) != nil || k.Runs == nil {
		return kept{Runs: map[string]*keptRun{}} // it can always be made again
	}
	return k
}

func (k kept) save(root string) error {
	text, err := json.Marshal(k)
	if err != nil {
		return err
	}
	return writeWhole(filepath.Join(root, Kept, "rehearsed.json"), text, 0o644)
}

// writeWhole writes a file so that it is there whole or not at all.
func writeWhole(name string, text []byte, mode os.FileMode) error {
	temp := name + ".part"
	file, err := os.OpenFile(temp, os.O_CREATE|os.O_WRONLY|os.O_TRUNC, mode)
	if err != nil {
		return err
	}
	_, err = file.Write(text)
	if err = errors.Join(err, file.Sync(), file.Close()); err != nil {
		return errors.Join(err, os.Remove(temp))
	}
	return os.Rename(temp, name)
}

// lockKept makes .oskeld, which git ignores, and keeps a second rehearsal of the same source out.
func lockKept(root string) (*flock.Flock, error) {
	dir := filepath.Join(root, Kept)
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return nil, fault.Refused("%s cannot be made: %v", dir, err).Hint("a rehearsal keeps what it makes there")
	}
	if err := os.WriteFile(filepath.Join(dir, ".gitignore"), []byte("*\n"), 0o644); err != nil {
		return nil, fault.Refused("%s cannot be written: %v", dir, err)
	}
	held := flock.New(filepath.Join(dir, "lock"), flock.SetPermissions(0o644))
	got, err := held.TryLock()
	if err != nil {
		return nil, err
	}
	if !got {
		text, _ := os.ReadFile(filepath.Join(dir, "process"))
		return nil, fault.Conflict("another rehearsal runs in %s (process %s)", root, cmp.Or(strings.TrimSpace(string(text)), "unknown")).Hint("wait for it, or end it")
	}
	return held, os.WriteFile(filepath.Join(dir, "process"), []byte(strconv.Itoa(os.Getpid())+"\n"), 0o644)
}

func (r *Rehearsal) blob(d artifact.Digest) string {
	return filepath.Join(r.Root, Kept, "blobs", string(d))
}

// keep takes the bytes of what a stage carries or delivers, as a service would.
func (x *run) keep(ctx context.Context, files []runner.SendFile) error {
	if err := os.MkdirAll(filepath.Join(x.Root, Kept, "blobs"), 0o755); err != nil {
		return err
	}
	for _, f := range files {
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
		_, err, _ := x.keeping.Do(string(f.Digest), func() (any, error) {
			if _, err := os.Stat(x.blob(f.Digest)); err == nil {
				return nil, nil
			}
			return nil, copyFile(f.Path, x.blob(f.Digest), 0o644)
		})
		if err != nil {
			if p, ok := errors.AsType[*fs.PathError](err); ok {
				err = p.Err // the name of the blob tells nobody anything
			}
			return fmt.Errorf("%s cannot be kept under %s: %w", f.File.Path, Kept, err)
		}
	}
	return nil
}

// open opens the bytes of a carried file.
func (x *run) open(_ context.Context, d artifact.Digest) (io.ReadCloser, error) {
	return os.Open(x.blob(d))
}

func (r *Rehearsal) layOne(f artifact.File, to string) error {
	if err := os.MkdirAll(filepath.Dir(to), 0o755); err != nil {
		return err
	}
	mode := os.FileMode(0o644)
	if f.Executable {
		mode = 0o755
	}
	return copyFile(r.blob(f.Digest), to, mode)
}

// copyFile copies a file under a temporary name, by reflink where the file system can.
func copyFile(from, to string, mode os.FileMode) error {
	source, err := os.Open(from)
	if err != nil {
		return err
	}
	defer source.Close()
	temp := to + ".part"
	target, err := os.OpenFile(temp, os.O_CREATE|os.O_WRONLY|os.O_TRUNC, mode)
	if err != nil {
		return err
	}
	_, err = io.Copy(target, source)
	if err = errors.Join(err, target.Close()); err != nil {
		return errors.Join(err, os.Remove(temp))
	}
	return os.Rename(temp, to)
}
