package git

import (
	"context"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"oskeld.dev/oskeld/internal/core/fault"
)

// Here is the working tree that a directory lies in, with its own repository as the copy.
type Here struct {
	Copy
	Root string // the top of the working tree
}

// Find finds the working tree of a directory; kind missing where there is none.
func Find(ctx context.Context, dir string) (Here, error) {
	plain := Remote{}
	out, err := plain.run(ctx, "-C", dir, "rev-parse", "--show-toplevel", "--absolute-git-dir")
	lines := strings.Split(strings.TrimSpace(string(out)), "\n")
	if err != nil || len(lines) != 2 {
		return Here{}, fault.Missing("%s does not lie in a git repository", dir).Hint("git init makes one")
	}
	h := Here{CopyAt(lines[1], Remote{URL: lines[0]}), lines[0]}
	if out, err := h.git(ctx, "config", "--get", "remote.origin.url"); err == nil {
		h.remote.URL = strings.TrimSpace(string(out))
	}
	return h, nil
}

// Head is the commit that is checked out, its branch ("" for a detached head), and the tags on it;
// kind missing, with the branch, in a repository without a commit.
func (h Here) Head(ctx context.Context) (at At, tags []string, err error) {
	if out, err := h.git(ctx, "symbolic-ref", "-q", "--short", "HEAD"); err == nil {
		at.Branch = strings.TrimSpace(string(out))
	}
	out, err := h.git(ctx, "rev-parse", "--verify", "-q", "HEAD^{commit}")
	if err != nil {
		return at, nil, fault.Missing("the repository has no commit yet").Hint("git commit makes the first")
	}
	at.Commit = strings.TrimSpace(string(out))
	out, err = h.git(ctx, "tag", "--points-at", "HEAD")
	return at, strings.Fields(string(out)), err
}

// Files lists the tracked and unignored files that are there, slash-separated from Root, sorted.
func (h Here) Files(ctx context.Context) ([]string, error) {
	out, err := h.remote.run(ctx, "-C", h.Root, "ls-files", "-z", "--cached", "--others", "--exclude-standard")
	if err != nil {
		return nil, err
	}
	list := strings.Split(strings.TrimRight(string(out), "\x00"), "\x00")
	if list[0] == "" {
		return nil, nil
	}
	slices.Sort(list)
	return slices.Compact(list), nil
}

// Tags lists all tags, the newest last.
func (h Here) Tags(ctx context.Context) ([]string, error) {
	out, err := h.git(ctx, "for-each-ref", "--sort=creatordate", "--format=%(refname:lstrip=2)", "--count=2000", "refs/tags")
	return strings.Fields(string(out)), err
}

// Origin tells whether the repository has another that it came from.
func (h Here) Origin() bool { return h.remote.URL != h.Root }

// Name is what the repository is called: where it came from, else its directory.
func (h Here) Name() string {
	if h.Origin() {
		return strings.TrimSuffix(path.Base(strings.ReplaceAll(h.remote.URL, ":", "/")), ".git")
	}
	return filepath.Base(h.Root)
}

// OriginTags lists the tags that the origin has.
func (h Here) OriginTags(ctx context.Context) ([]string, error) {
	out, err := h.remote.run(ctx, "-C", h.Root, "ls-remote", "--tags", "--refs", "-q", "origin")
	if err != nil {
		return nil, err
	}
	var tags []string
	for line := range strings.Lines(string(out)) {
		if _, ref, ok := strings.Cut(strings.TrimSpace(line), "\t"); ok {
			tags = append(tags, strings.TrimPrefix(ref, "refs/tags/"))
		}
	}
	return tags, nil
}

// Clone makes a repository of its own in a directory, which borrows this one's objects and stands at
// its head, without any files.
func (h Here) Clone(ctx context.Context, dir string) error {
	if _, err := h.remote.run(ctx, "clone", "-q", "--shared", "--no-checkout", "--", filepath.Clean(h.dir), dir); err != nil {
		return err
	}
	_, err := h.remote.run(ctx, "-C", dir, "reset", "-q")
	return err
}
