package demo

import (
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"oskeld.dev/oskeld/internal/core/language"
	"oskeld.dev/oskeld/internal/service"
)

// Every commit of the story has its files, and every pipeline file in them is right.
func TestSources(t *testing.T) {
	seen := map[string]bool{}
	for _, c := range Commits {
		files, err := fs.ReadDir(sources, "sources/"+c.Source+"/"+c.Dir)
		if err != nil || len(files) == 0 {
			t.Errorf("%s/%s: %v", c.Source, c.Dir, err)
		}
		seen[c.Source+"/"+c.Dir] = true
		text, err := fs.ReadFile(sources, "sources/"+c.Source+"/"+c.Dir+"/oskeld.toml")
		if err != nil {
			continue
		}
		if p, ds := language.Read("oskeld.toml", text); len(ds) > 0 || string(p.Name) != c.Source {
			t.Errorf("%s/%s: %s", c.Source, c.Dir, ds.Text())
		}
	}
	dirs, err := fs.Glob(sources, "sources/*/*")
	if err != nil || len(dirs) != len(seen) {
		t.Errorf("%d directories, %d commits (%v)", len(dirs), len(seen), err)
	}
	for _, text := range Stores {
		if _, _, err := service.ReadStoreFile([]byte(text)); err != nil {
			t.Error(err)
		}
	}
}

// The repositories come out the same wherever they are made: authors, times and so digests.
func TestRepositoriesAreTheSameEverywhere(t *testing.T) {
	head := func() string {
		dir := t.TempDir()
		r, err := NewRepository(t.Context(), dir, "nectar")
		if err != nil {
			t.Fatal(err)
		}
		for _, c := range Commits {
			if c.Source != "nectar" {
				continue
			}
			if err := r.Add(t.Context(), c); err != nil {
				t.Fatal(err)
			}
			if c.Tag != "" {
				if err := r.Tag(t.Context(), c); err != nil {
					t.Fatal(err)
				}
			}
		}
		if _, err := os.Stat(filepath.Join(r.Dir, "go.mod")); err != nil {
			t.Error(err)
		}
		out, err := exec.Command("git", "-C", r.Dir, "log", "--format=%H %an %s", "-1").Output()
		if err != nil {
			t.Fatal(err)
		}
		return string(out)
	}
	one, two := head(), head()
	if one != two || !strings.Contains(one, "Ida Roan Take the frost from the night before") {
		t.Errorf("%q and %q", one, two)
	}
}

func TestSummaryIsChecked(t *testing.T) {
	if err := (Summary{}).check(); err == nil || !strings.Contains(err.Error(), `0 came out as "passed"`) {
		t.Errorf("an empty demo counts as right: %v", err)
	}
}
