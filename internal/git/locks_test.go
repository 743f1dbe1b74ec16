package git

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// A git that was killed in the middle of a fetch leaves lock files, over which the next would stumble.
func TestFetchAfterAKilledOne(t *testing.T) {
	dir := t.TempDir()
	from, run := source(t)
	c := CopyAt(filepath.Join(dir, "copy"), Remote{URL: from})
	if err := c.Fetch(t.Context()); err != nil {
		t.Fatal(err)
	}
	for _, name := range []string{"packed-refs.lock", "shallow.lock", "HEAD.lock", "config.lock", "refs/heads/main.lock"} {
		if err := os.WriteFile(filepath.Join(dir, "copy", name), nil, 0o644); err != nil {
			t.Fatal(err)
		}
	}
	run("commit", "-q", "--allow-empty", "-m", "Say more")
	if err := c.Fetch(t.Context()); err != nil {
		t.Fatal(err)
	}
	if left, _ := filepath.Glob(filepath.Join(dir, "copy", "*.lock")); len(left) > 0 {
		t.Errorf("left: %v", left)
	}
}

// A git that was killed while it made the copy leaves a directory that is no repository.
func TestFetchAfterAKilledInit(t *testing.T) {
	dir := t.TempDir()
	from, run := source(t)
	c := CopyAt(filepath.Join(dir, "copy"), Remote{URL: from})
	if err := os.MkdirAll(filepath.Join(dir, "copy", "refs", "heads"), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(dir, "copy", "HEAD"), []byte("ref: refs/heads/main\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	if err := os.Mkdir(filepath.Join(dir, "copy.new"), 0o755); err != nil { // of one killed later
		t.Fatal(err)
	}
	if err := c.Fetch(t.Context()); err != nil {
		t.Fatal(err)
	}
	if commit := strings.TrimSpace(run("rev-parse", "HEAD")); !c.Has(t.Context(), commit) {
		t.Errorf("the copy lacks %s", commit)
	}
}
