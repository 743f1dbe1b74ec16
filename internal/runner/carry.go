package runner

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"

	"oskeld.dev/oskeld/internal/core/artifact"
	"oskeld.dev/oskeld/internal/core/bundle"
)

// layCarried writes the files of earlier stages into the tree, small ones many at a time. Each is a copy
// of its own: what a step does to it harms nobody else's.
func (s *stageRun) layCarried(ctx context.Context) error {
	root, err := os.OpenRoot(s.tree)
	if err != nil {
		return err
	}
	defer root.Close()
	places := map[artifact.Digest][]artifact.File{} // several files may have the same bytes
	var small []artifact.File
	made := map[string]bool{}
	for _, f := range s.a.Carried {
		if err := artifact.CheckPath(f.Path); err != nil {
			return err
		}
		if dir := filepath.Dir(f.Path); !made[dir] {
			if err := root.MkdirAll(dir, 0o755); err != nil {
				return err
			}
			made[dir] = true
		}
		if f.Size > bundle.MostFile || s.hooks.GetSmall == nil {
			if err := s.getOne(ctx, root, f); err != nil {
				return fmt.Errorf("carried file %s: %w", f.Path, err)
			}
			continue
		}
		if places[f.Digest] == nil {
			small = append(small, f)
		}
		places[f.Digest] = append(places[f.Digest], f)
	}
	if len(small) == 0 {
		return nil
	}
	err = s.hooks.GetSmall(ctx, small, func(d artifact.Digest, from io.Reader) error {
		first, err := io.ReadAll(from)
		if err != nil {
			return err
		}
		for _, f := range places[d] {
			if err := lay(root, f, bytes.NewReader(first)); err != nil {
				return fmt.Errorf("%s: %w", f.Path, err)
			}
		}
		delete(places, d)
		return nil
	})
	if err != nil {
		return fmt.Errorf("carried files: %w", err)
	}
	for _, list := range places {
		return fmt.Errorf("carried file %s did not come", list[0].Path)
	}
	return nil
}

func (s *stageRun) getOne(ctx context.Context, root *os.Root, f artifact.File) error {
	from, err := s.hooks.Get(ctx, f.Digest)
	if err != nil {
		return err
	}
	return errors.Join(lay(root, f, from), from.Close())
}

// lay writes one file, never through a link that leaves the tree.
func lay(root *os.Root, f artifact.File, from io.Reader) error {
	mode := os.FileMode(0o644)
	if f.Executable {
		mode = 0o755
	}
	to, err := root.OpenFile(f.Path, os.O_CREATE|os.O_WRONLY|os.O_EXCL, mode)
	if errors.Is(err, fs.ErrExist) { // the source has a file of that name
		if err := root.Remove(f.Path); err != nil {
			return err
		}
		to, err = root.OpenFile(f.Path, os.O_CREATE|os.O_WRONLY|os.O_EXCL, mode)
	}
	if err != nil {
		return err
	}
	n, err := io.Copy(to, from)
	if err = errors.Join(err, to.Close()); err == nil && n != f.Size {
		err = fmt.Errorf("%d bytes came, %d were promised", n, f.Size)
	}
	return err
}
