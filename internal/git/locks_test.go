package git

import (
	"os"
	"path/filepath"
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
