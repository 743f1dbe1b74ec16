package git

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"time"

	"github.com/gofrs/flock"

	"oskeld.dev/oskeld/internal/core/fault"
)

// Copy is a bare copy of a remote in a directory, a cache that can be made again. Several
// processes may use one at the same time.
type Copy struct {
	dir    string
	remote Remote
}

// CopyAt names a copy; nothing is done before the first Fetch.
func CopyAt(dir string, r Remote) Copy { return Copy{dir, r} }

func (c Copy) git(ctx context.Context, args ...string) ([]byte, error) {
	return c.remote.run(ctx, append([]string{"--git-dir", c.dir}, args...)...)
}

// lock keeps other processes out while the copy changes.
func (c Copy) lock() (unlock func(), err error) {
	if err := os.MkdirAll(filepath.Dir(c.dir), 0o700); err != nil {
		return nil, err
	}
	held := flock.New(c.dir+".lock", flock.SetPermissions(0o600))
	if err := held.Lock(); err != nil {
		return nil, err
	}
	return func() { _ = held.Unlock() }, nil
}

// Fetch brings the copy up to date: all branches and tags, those that are gone removed.
func (c Copy) Fetch(ctx context.Context) error {
	unlock, err := c.lock()
	if err != nil {
		return err
	}
	defer unlock()
	c.removeLocks()
	if err := c.init(ctx); err != nil {
		return err
	}
	// Synced, for what a lost power leaves of a commit would be in the way of every later fetch.
	if _, err := c.git(ctx, "-c", "core.fsync=committed", "-c", "core.fsyncMethod=batch", "fetch", "-q", "--prune", "--force", "--no-auto-gc", "--no-write-fetch-head", "--", c.remote.URL,
		"+refs/heads/*:refs/heads/*", "+refs/tags/*:refs/tags/*"); err != nil {
		return unreachable(c.remote.URL, err)
	}
	return nil
}

// init makes the copy where there is none, or only what a git that was killed while it made it left.
func (c Copy) init(ctx context.Context) error {
	if _, err := c.git(ctx, "rev-parse", "--git-dir"); err == nil || !strings.Contains(err.Error(), "not a git repository") {
		return err
	}
	made := c.dir + ".new"
	if err := errors.Join(os.RemoveAll(made), os.RemoveAll(c.dir)); err != nil {
		return err
	}
	if _, err := c.remote.run(ctx, "init", "-q", "--bare", "--", made); err != nil {
		return err
	}
	return os.Rename(made, c.dir)
}

// removeLocks removes the lock files of a git that was killed in the middle of a fetch. Nobody else
// fetches while the copy is locked.
func (c Copy) removeLocks() {
	for _, pattern := range []string{"*.lock", "objects/info/*.lock"} {
		stale, _ := filepath.Glob(filepath.Join(c.dir, pattern))
		for _, file := range stale {
			os.Remove(file)
		}
	}
	_ = filepath.WalkDir(filepath.Join(c.dir, "refs"), func(path string, d fs.DirEntry, err error) error {
		if err == nil && !d.IsDir() && strings.HasSuffix(path, ".lock") {
			os.Remove(path)
		}
		return nil
	})
}

// Has tells whether a commit is in the copy.
func (c Copy) Has(ctx context.Context, commit string) bool {
	_, err := c.git(ctx, "cat-file", "-e", commit+"^{commit}")
	return err == nil
}

// At is a resolved ref.
type At struct {
	Commit string
	Branch string // when the ref is a branch
	Tag    string // when the ref is a tag
}

var hashRule = regexp.MustCompile(`^[0-9a-f]{7,64}$`)

// Resolve finds the commit of a branch, else a tag, else a commit's digest of seven digits or more.
func (c Copy) Resolve(ctx context.Context, ref string) (At, error) {
	if ref == "" || strings.HasPrefix(ref, "-") || strings.ContainsAny(ref, "\x00\n ~^:?*[\\") || strings.Contains(ref, "..") || strings.Contains(ref, "@{") || len(ref) > 300 {
		return At{}, fault.Invalid("%q is not a branch, tag or commit", ref).On("ref")
	}
	full := func(name string) (string, bool) {
		out, err := c.git(ctx, "rev-parse", "--verify", "-q", "--end-of-options", name+"^{commit}")
		return strings.TrimSpace(string(out)), err == nil
	}
	if hash, ok := full("refs/heads/" + strings.TrimPrefix(ref, "refs/heads/")); ok {
		return At{Commit: hash, Branch: strings.TrimPrefix(ref, "refs/heads/")}, nil
	}
	if hash, ok := full("refs/tags/" + strings.TrimPrefix(ref, "refs/tags/")); ok {
		return At{Commit: hash, Tag: strings.TrimPrefix(ref, "refs/tags/")}, nil
	}
	if hashRule.MatchString(ref) {
		if hash, ok := full(ref); ok {
			return At{Commit: hash, Branch: c.branchOf(ctx, hash)}, nil
		}
	}
	return At{}, noCommit(ref)
}

// branchOf is a branch that has the commit, main ones first; "" for none.
func (c Copy) branchOf(ctx context.Context, commit string) string {
	out, _ := c.git(ctx, "for-each-ref", "--contains", commit, "--format=%(refname:lstrip=2)", "--count=200", "refs/heads")
	branches := strings.Fields(string(out))
	for _, first := range []string{"main", "master", "trunk"} {
		for _, b := range branches {
			if b == first {
				return b
			}
		}
	}
	if len(branches) > 0 {
		return branches[0]
	}
	return ""
}

// File reads a file at a commit, at most most bytes. Errors are of kind missing or invalid.
func (c Copy) File(ctx context.Context, commit, path string, most int64) ([]byte, error) {
	name := commit + ":" + path
	size, err := c.git(ctx, "cat-file", "-s", name)
	if err != nil {
		return nil, notThere(path, commit)
	}
	if n, _ := strconv.ParseInt(strings.TrimSpace(string(size)), 10, 64); n > most {
		return nil, fault.Invalid("%s has %d bytes at %.7s; at most %d are read", path, n, commit, most)
	}
	out, err := c.git(ctx, "cat-file", "blob", name)
	if err != nil {
		return nil, notThere(path, commit)
	}
	return out, nil
}

// Names lists the files at a commit, at most most; cut tells that there are more.
func (c Copy) Names(ctx context.Context, commit string, most int) (names []string, cut bool, err error) {
	out, err := c.git(ctx, "ls-tree", "-r", "-z", "--name-only", commit)
	if err != nil {
		return nil, false, err
	}
	names = strings.Split(strings.TrimRight(string(out), "\x00"), "\x00")
	if names[0] == "" {
		return nil, false, nil
	}
	return names[:min(most, len(names))], len(names) > most, nil
}

// NearestTags are the fitting tags on the nearest commit that has one, reachable from a commit, and
// the number of commits since; none and the number of all commits where there is none.
func (c Copy) NearestTags(ctx context.Context, commit, pattern string) (tags []string, commits int, err error) {
	out, err := c.git(ctx, "describe", "--tags", "--abbrev=0", "--match", pattern, commit)
	if err != nil {
		out, err := c.git(ctx, "rev-list", "--count", commit)
		n, _ := strconv.Atoi(strings.TrimSpace(string(out)))
		return nil, n, err
	}
	nearest := "refs/tags/" + strings.TrimSpace(string(out))
	if out, err = c.git(ctx, "tag", "--points-at", nearest+"^{commit}", "--list", pattern); err != nil {
		return nil, 0, err
	}
	tags = strings.Fields(string(out))
	if out, err = c.git(ctx, "rev-list", "--count", commit, "^"+nearest+"^{commit}"); err != nil {
		return nil, 0, err
	}
	commits, err = strconv.Atoi(strings.TrimSpace(string(out)))
	return tags, commits, err
}

// Shallow tells whether the copy's history is cut, so that tags may be missing.
func (c Copy) Shallow(ctx context.Context) bool {
	out, err := c.git(ctx, "rev-parse", "--is-shallow-repository")
	return err == nil && strings.TrimSpace(string(out)) == "true"
}

// Change is one commit.
type Change struct {
	Commit  string    `json:"commit"`
	Author  string    `json:"author"`
	At      time.Time `json:"at"`
	Subject string    `json:"subject"`
}

// Changes lists the commits that to has and from has not, newest first, at most most. An empty
// from gives the newest ones.
func (c Copy) Changes(ctx context.Context, from, to string, most int) ([]Change, error) {
	spec := []string{to}
	if from != "" && c.Has(ctx, from) {
		spec = append(spec, "^"+from)
	}
	args := append([]string{"log", "-n", strconv.Itoa(most), "--format=%H%x00%an%x00%aI%x00%s"}, spec...)
	out, err := c.git(ctx, append(args, "--")...)
	if err != nil {
		return nil, err
	}
	var list []Change
	for line := range strings.Lines(string(out)) {
		f := strings.SplitN(strings.TrimRight(line, "\n"), "\x00", 4)
		if len(f) == 4 {
			at, _ := time.Parse(time.RFC3339, f[2])
			list = append(list, Change{f[0], f[1], at.UTC(), strings.ToValidUTF8(f[3], "\uFFFD")})
		}
	}
	return list, nil
}

// Notes lists the commits since the version before, newest first, a line each, at most 200: since
// the nearest fitting tag, or, for a build that a tag started, since the one before.
func (c Copy) Notes(ctx context.Context, commit, pattern string, tagged bool) (string, error) {
	from := commit
	if tagged {
		from += "^" // of a root commit there is none
	}
	since := ""
	if tags, _, err := c.NearestTags(ctx, from, pattern); err == nil && len(tags) > 0 {
		since = "refs/tags/" + tags[0]
	}
	list, err := c.Changes(ctx, since, commit, 200)
	if err != nil {
		return "", err
	}
	lines := make([]string, len(list))
	for i, change := range list {
		lines[i] = "- " + change.Subject + " (" + change.Commit[:7] + ")"
	}
	return strings.Join(lines, "\n"), nil
}

// ChangedPaths lists the paths that differ between two commits, at most 10,000.
func (c Copy) ChangedPaths(ctx context.Context, from, to string) ([]string, error) {
	if from == "" || !c.Has(ctx, from) {
		return nil, nil
	}
	out, err := c.git(ctx, "diff", "--name-only", "-z", "--no-renames", from, to, "--")
	if err != nil {
		return nil, err
	}
	paths := strings.Split(strings.TrimRight(string(out), "\x00"), "\x00")
	if paths[0] == "" {
		return nil, nil
	}
	return paths[:min(len(paths), 10_000)], nil
}

// FilesDigest is a digest over the paths, modes and contents of a commit's files that match.
func (c Copy) FilesDigest(ctx context.Context, commit string, match func(path string) bool) (string, error) {
	out, err := c.git(ctx, "ls-tree", "-r", "-z", "--full-tree", "--end-of-options", commit)
	if err != nil {
		return "", err
	}
	sum := sha256.New()
	for entry := range bytes.SplitSeq(out, []byte{0}) {
		if _, path, ok := bytes.Cut(entry, []byte{'\t'}); ok && match(string(path)) {
			sum.Write(append(entry, 0))
		}
	}
	return hex.EncodeToString(sum.Sum(nil)), nil
}

// Fork is the commit at which two lines of history part; "" when they have none in common.
func (c Copy) Fork(ctx context.Context, one, other string) string {
	if one == "" || other == "" {
		return ""
	}
	out, _ := c.git(ctx, "merge-base", one, other)
	return strings.TrimSpace(string(out))
}

// Checkout lays a commit into a new directory, as a clone of its own that borrows the copy's
// objects: what a script does to it cannot harm the copy or another checkout.
func (c Copy) Checkout(ctx context.Context, commit, dir string) error {
	if !c.Has(ctx, commit) {
		return noCommit(commit)
	}
	if _, err := c.remote.run(ctx, "clone", "-q", "--shared", "--no-checkout", "--", c.dir, dir); err != nil {
		return err
	}
	if _, err := c.remote.run(ctx, "-C", dir, "remote", "set-url", "origin", c.remote.URL); err != nil {
		return err
	}
	_, err := c.remote.run(ctx, "-C", dir, "-c", "advice.detachedHead=false", "checkout", "-q", "--detach", commit)
	return err
}
