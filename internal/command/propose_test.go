package command

import (
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"

	"oskeld.dev/oskeld/internal/core/proposal"
)

// What lies in a directory is looked at up to a bound; what may not be read is passed over, and in a
// repository what git ignores.
func TestLookAt(t *testing.T) {
	dir := t.TempDir()
	write := func(name, text string) {
		path := filepath.Join(dir, name)
		if err := errors.Join(os.MkdirAll(filepath.Dir(path), 0o755), os.WriteFile(path, []byte(text), 0o644)); err != nil {
			t.Fatal(err)
		}
	}
	write("go.mod", "module x")
	write("node_modules/x/package.json", "{}")
	write("out/app", "x")
	write(".gitignore", "out/\n")
	write("closed/file", "x")
	for i := range 20 {
		write("many/"+strconv.Itoa(i), "")
	}
	if err := os.Chmod(filepath.Join(dir, "closed"), 0); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = os.Chmod(filepath.Join(dir, "closed"), 0o755) })
	tree, err := lookAt(t.Context(), dir, 100)
	if err != nil || tree.Cut || !slices.Contains(tree.Names, "many/7") || !slices.Contains(tree.Names, "out/app") || slices.ContainsFunc(tree.Names, func(n string) bool { return strings.Contains(n, "node_modules") }) {
		t.Errorf("%+v, %v", tree, err)
	}
	tree, err = lookAt(t.Context(), dir, 10)
	if p := proposal.Make(tree, proposal.Options{}); err != nil || len(tree.Names) != 10 || len(p.Notes) == 0 || !strings.Contains(p.Notes[0], "only its first 10 files were looked at") {
		t.Errorf("%+v, %v", p.Notes, err)
	}
	if out, err := exec.Command("git", "-C", dir, "init", "-q").CombinedOutput(); err != nil {
		t.Fatalf("%s", out)
	}
	tree, err = lookAt(t.Context(), dir, 100)
	if err != nil || slices.Contains(tree.Names, "out/app") || !slices.Contains(tree.Names, "go.mod") {
		t.Errorf("%+v, %v", tree.Names, err)
	}
}
