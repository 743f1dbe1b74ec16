package git

import (
	"context"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"syscall"
	"time"

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
	f, err := os.OpenFile(c.dir+".lock", os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, err
	}
	if err := syscall.Flock(int(f.Fd()), syscall.LOCK_EX); err != nil {
		f.Close()
		return nil, err
	}
	return func() { f.Close() }, nil
}

// Fetch brings the copy up to date: all branches and tags, those that are gone removed.
func (c Copy) Fetch(ctx context.Context) error {
	unlock, err := c.lock()
	if err != nil {
		return err
	}
	defer unlock()
	if _, err := os.Stat(filepath.Join(c.dir, "HEAD")); err != nil {
		if _, err := c.remote.run(ctx, "init", "-q", "--bare", "--", c.dir); err != nil {
			return err
		}
	}
	if _, err := c.git(ctx, "fetch", "-q", "--prune", "--force", "--no-auto-gc", "--no-write-fetch-head", "--", c.remote.URL,
		"+refs/heads/*:refs/heads/*", "+refs/tags/*:refs/tags/*"); err != nil {
		return unreachable(c.remote.URL, err)
	}
	return nil
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

// NearestTag is the nearest fitting tag reachable from a commit and the number of commits since;
// "" and the number of all commits where there is none.
func (c Copy) NearestTag(ctx context.Context, commit, pattern string) (string, int, error) {
	out, err := c.git(ctx, "describe", "--tags", "--long", "--match", pattern, commit)
	if err != nil {
		out, err := c.git(ctx, "rev-list", "--count", commit)
		n, _ := strconv.Atoi(strings.TrimSpace(string(out)))
		return "", n, err
	}
	text := strings.TrimSpace(string(out))
	if i := strings.LastIndex(text, "-g"); i > 0 {
		if j := strings.LastIndexByte(text[:i], '-'); j > 0 {
			n, _ := strconv.Atoi(text[j+1 : i])
			return text[:j], n, nil
		}
	}
	return "", 0, &Error{"describe gave " + text}
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
