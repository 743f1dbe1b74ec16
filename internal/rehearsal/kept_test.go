package rehearsal

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"golang.org/x/sync/errgroup"

	"oskeld.dev/oskeld/internal/core/artifact"
	"oskeld.dev/oskeld/internal/runner"
)

// Stages side by side often deliver the same bytes, as an about page that all variants share.
func TestKeepTheSameAtOnce(t *testing.T) {
	for range 100 {
		dir := t.TempDir()
		from := filepath.Join(dir, "about.json")
		if err := os.WriteFile(from, []byte(strings.Repeat("hive ", 1000)), 0o644); err != nil {
			t.Fatal(err)
		}
		x := &run{Rehearsal: &Rehearsal{Root: dir}}
		file := runner.SendFile{Path: from, File: artifact.File{Path: "about.json", Digest: artifact.Digest(strings.Repeat("ab", 32))}}
		var stages errgroup.Group
		for range 8 {
			stages.Go(func() error { return x.keep(t.Context(), []runner.SendFile{file}) })
		}
		if err := stages.Wait(); err != nil {
			t.Fatal(err)
		}
	}
}
