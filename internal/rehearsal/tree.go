package rehearsal

import (
	"context"
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"oskeld.dev/oskeld/internal/core/assignment"
)

// treeFiles lists what copies of the working tree are made of: tracked and unignored files, or all
// where there is no repository.
func (r *Rehearsal) treeFiles(ctx context.Context) ([]string, error) {
	if r.here != nil {
		list, err := r.here.Files(ctx)
		return slices.DeleteFunc(list, func(name string) bool { return name == Kept || strings.HasPrefix(name, Kept+"/") }), err
	}
	var list []string
	err := filepath.WalkDir(r.Root, func(path string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if d.IsDir() {
			if d.Name() == Kept || d.Name() == "node_modules" && path != r.Root {
				return fs.SkipDir
			}
			return nil
		}
		rel, err := filepath.Rel(r.Root, path)
		list = append(list, filepath.ToSlash(rel))
		return err
	})
	return list, err
}

// checkout gives a chain its workspace: the working tree, a fresh checkout, or a copy.
func (x *run) checkout(ctx context.Context, a assignment.Assignment, dir string) (string, error) {
	switch {
	case x.Clean:
		return dir, x.here.Checkout(ctx, x.head.Commit, dir)
	case x.inTree(a.Chain):
		return x.Root, nil
	}
	if x.here != nil && x.head.Commit != "" {
		if err := x.here.Clone(ctx, dir); err != nil { // so that git answers in it as in the tree
			return "", err
		}
	}
	for _, name := range x.files {
		if ctx.Err() != nil {
			return "", context.Cause(ctx)
		}
		if err := x.copyInto(dir, name); err != nil {
			return "", err
		}
	}
	return dir, nil
}

// copyInto copies one file of the tree as it was before anything was stamped.
func (x *run) copyInto(dir, name string) error {
	from, to := filepath.Join(x.Root, filepath.FromSlash(name)), filepath.Join(dir, filepath.FromSlash(name))
	info, err := os.Lstat(from)
	if errors.Is(err, fs.ErrNotExist) {
		return nil // tracked, and removed in the tree
	}
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(to), 0o755); err != nil {
		return err
	}
	switch {
	case info.Mode()&fs.ModeSymlink != 0:
		target, err := os.Readlink(from)
		if err != nil {
			return err
		}
		return os.Symlink(target, to)
	case info.IsDir(): // a submodule
		return os.MkdirAll(to, 0o755)
	case !info.Mode().IsRegular():
		return nil
	}
	before, saved, err := x.stamped.original(from)
	if !saved {
		return copyFile(from, to, info.Mode().Perm())
	}
	if err != nil {
		return err
	}
	defer before.Close()
	file, err := os.OpenFile(to, os.O_CREATE|os.O_WRONLY|os.O_TRUNC, info.Mode().Perm())
	if err != nil {
		return err
	}
	_, err = io.Copy(file, before)
	return errors.Join(err, file.Close())
}
