package git

import (
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"oskeld.dev/oskeld/internal/core/fault"
)

// A working tree is found from any of its directories, and tells what is checked out.
func TestHere(t *testing.T) {
	dir, run := source(t)
	ctx := t.Context()
	if err := os.MkdirAll(filepath.Join(dir, "deep", "er"), 0o755); err != nil {
		t.Fatal(err)
	}
	for name, text := range map[string]string{".gitignore": "out/\n", "out/app": "x", "deep/new": "x", "deep/er/ümlaut": "x"} {
		if err := os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	here, err := Find(ctx, filepath.Join(dir, "deep", "er"))
	if err != nil || here.Root != dir || here.Origin() || here.Name() != filepath.Base(dir) {
		t.Fatalf("%+v, %v", here, err)
	}
	at, tags, err := here.Head(ctx)
	if err != nil || at.Branch != "main" || at.Commit != run("rev-parse", "HEAD") || len(tags) != 0 {
		t.Errorf("%+v %v, %v", at, tags, err)
	}
	names, err := here.Files(ctx)
	if err != nil || !slices.Equal(names, []string{".gitignore", "deep/er/ümlaut", "deep/new", "file.txt"}) {
		t.Errorf("%q, %v", names, err)
	}
	run("checkout", "-q", "v1.0.0")
	if at, tags, err := here.Head(ctx); err != nil || at.Branch != "" || !slices.Equal(tags, []string{"v1.0.0"}) {
		t.Errorf("%+v %v, %v", at, tags, err)
	}
	if tags, err := here.Tags(ctx); err != nil || !slices.Equal(tags, []string{"v1.0.0"}) {
		t.Errorf("%v, %v", tags, err)
	}
	copied := filepath.Join(t.TempDir(), "copy")
	if err := here.Clone(ctx, copied); err != nil {
		t.Fatal(err)
	}
	if entries, err := os.ReadDir(copied); err != nil || len(entries) != 1 || entries[0].Name() != ".git" {
		t.Errorf("a clone without files holds %v, %v", entries, err)
	}
	t.Setenv("GIT_DIR", "/nowhere") // as within a hook of another repository
	if again, err := Find(ctx, dir); err != nil || again.Root != dir {
		t.Errorf("%+v, %v", again, err)
	}
	if _, err := Find(ctx, t.TempDir()); !fault.Is(err, fault.KindMissing) || !strings.Contains(err.Error(), "does not lie in a git repository") {
		t.Error(err)
	}
}

func TestHereWithoutCommitAndWithOrigin(t *testing.T) {
	dir, run := source(t)
	ctx := t.Context()
	clone := filepath.Join(t.TempDir(), "clone")
	run("clone", "-q", "--depth", "1", "file://"+dir, clone)
	here, err := Find(ctx, clone)
	if err != nil || !here.Origin() || here.Name() != filepath.Base(dir) || !here.Shallow(ctx) {
		t.Errorf("%+v, %v", here, err)
	}
	if tags, err := here.OriginTags(ctx); err != nil || !slices.Equal(tags, []string{"v1.0.0"}) {
		t.Errorf("%v, %v", tags, err)
	}
	if err := os.RemoveAll(dir); err != nil {
		t.Fatal(err)
	}
	if _, err := here.OriginTags(ctx); err == nil {
		t.Error("an origin that is gone answers")
	}
	empty := t.TempDir()
	if _, err := (Remote{}).run(ctx, "init", "-q", "-b", "trunk", empty); err != nil {
		t.Fatal(err)
	}
	here, err = Find(ctx, empty)
	if err != nil {
		t.Fatal(err)
	}
	if at, _, err := here.Head(ctx); !fault.Is(err, fault.KindMissing) || at.Branch != "trunk" {
		t.Errorf("%+v, %v", at, err)
	}
}

// The commits since the version before: since the nearest tag, or for a tagged build since the one before.
func TestNotes(t *testing.T) {
	dir, run := source(t)
	ctx := t.Context()
	here, err := Find(ctx, dir)
	if err != nil {
		t.Fatal(err)
	}
	head := run("rev-parse", "HEAD")
	notes, err := here.Notes(ctx, head, "v*", false)
	if want := "- Say two (" + head[:7] + ")"; notes != want || err != nil {
		t.Errorf("%q, %v, want %q", notes, err, want)
	}
	run("tag", "v1.1.0")
	run("tag", "v1.1.0-rc.1")
	if notes, err := here.Notes(ctx, head, "v*", true); notes != "- Say two ("+head[:7]+")" || err != nil {
		t.Errorf("of a tagged build: %q, %v", notes, err)
	}
	if notes, err := here.Notes(ctx, head, "v*", false); notes != "" || err != nil {
		t.Errorf("at a tag: %q, %v", notes, err)
	}
	first := run("rev-parse", "v1.0.0")
	if notes, err := here.Notes(ctx, first, "v*", true); !strings.HasSuffix(notes, "("+first[:7]+")") || err != nil {
		t.Errorf("of the first commit: %q, %v", notes, err)
	}
	if tags, n, err := here.NearestTags(ctx, head, "v*"); len(tags) != 2 || n != 0 || err != nil {
		t.Errorf("%v %d, %v", tags, n, err)
	}
	names, cut, err := here.Names(ctx, head, 10)
	if !slices.Equal(names, []string{"file.txt"}) || cut || err != nil {
		t.Errorf("%v %v, %v", names, cut, err)
	}
	if names, cut, _ := here.Names(ctx, head, 0); len(names) != 0 || !cut {
		t.Errorf("%v %v", names, cut)
	}
}
