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
	"unicode/utf8"

	"oskeld.dev/oskeld/internal/core/artifact"
	"oskeld.dev/oskeld/internal/core/bundle"
)

// carry describes the files that the stage hands on. A symbolic link is handed on as one.
func (s *stageRun) carry() (carried []artifact.File, send []SendFile, err error) {
	names, err := s.selectFiles("", s.Stage.Carry)
	if err != nil {
		return nil, nil, err
	}
	var files []string
	for _, name := range names {
		target, err := os.Readlink(filepath.Join(s.tree, name))
		switch {
		case err != nil: // no link
			files = append(files, name)
		case !utf8.ValidString(target):
			return nil, nil, fmt.Errorf("carried link %s points at a name that is not UTF-8", name)
		default:
			carried = append(carried, artifact.NewLink(filepath.ToSlash(name), filepath.ToSlash(target)))
		}
	}
	if send, err = s.hash(s.tree, files); err != nil {
		return nil, nil, err
	}
	for i := range send {
		send[i].Again = true
		carried = append(carried, send[i].File)
	}
	return carried, send, nil
}

// layCarried writes the files of earlier stages into the tree, small ones many at a time. Each is a copy
// of its own: what a step does to it harms nobody else's.
func (s *stageRun) layCarried(ctx context.Context) error {
	root, err := os.OpenRoot(s.tree)
	if err != nil {
		return err
	}
	defer root.Close()
	places := map[artifact.Digest][]artifact.File{} // several files may have the same bytes
	var small, links []artifact.File
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
		if f.Link != "" {
			links = append(links, f)
			continue
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
	if err := s.laySmall(ctx, root, small, places); err != nil {
		return err
	}
	for _, f := range links { // last, so that no file is laid through one
		if err := layLink(root, f); err != nil {
			return fmt.Errorf("carried link %s: %w", f.Path, err)
		}
	}
	return nil
}

// laySmall lays small files in all their places.
func (s *stageRun) laySmall(ctx context.Context, root *os.Root, small []artifact.File, places map[artifact.Digest][]artifact.File) error {
	if len(small) == 0 {
		return nil
	}
	err := s.hooks.GetSmall(ctx, small, func(d artifact.Digest, from io.Reader) error {
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

// layLink makes a link as it was, wherever it points: nothing is written through it.
func layLink(root *os.Root, f artifact.File) error {
	err := root.Symlink(f.Link, f.Path)
	if errors.Is(err, fs.ErrExist) { // the source has a file of that name
		if err := root.Remove(f.Path); err != nil {
			return err
		}
		err = root.Symlink(f.Link, f.Path)
	}
	return err
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
