// Package internal holds the test of who may import whom.
package internal

import (
	"os/exec"
	"slices"
	"strings"
	"testing"
)

const module = "oskeld.dev/oskeld/internal/"

// The architecture's rule: a package imports only from the rooms named here, and core imports
// nothing that waits for the world.
func TestImports(t *testing.T) {
	may := map[string][]string{
		"core": {"core"}, "git": {"core"}, "blob": {"core"}, "database": {"core"}, "postgres": {"core"}, "runner": {"core", "git"},
		"rehearsal": {"core", "runner", "git"}, "client": {"core"}, "agent": {"core", "runner", "client"}, "service": {"core", "git", "blob", "database"}, "web": {"core", "service"},
		"command": nil, // knows all
	}
	out, err := exec.Command("go", "list", "-f", `{{.ImportPath}}:{{join .Imports " "}}`, "./...").Output()
	if err != nil {
		t.Fatal(err)
	}
	forbidden := []string{"net/http", "os/exec", "database/sql", "os", "net"}
	for line := range strings.Lines(string(out)) {
		path, imports, _ := strings.Cut(strings.TrimSpace(line), ":")
		inside := strings.TrimPrefix(path, module)
		room, _, _ := strings.Cut(inside, "/")
		allowed, known := may[room]
		if path == strings.TrimSuffix(module, "/") {
			continue
		}
		if !known {
			t.Errorf("%s has no place in the architecture", path)
		}
		for _, i := range strings.Fields(imports) {
			if other, ok := strings.CutPrefix(i, module); ok && room != "command" {
				if other, _, _ := strings.Cut(other, "/"); other != room && !slices.Contains(allowed, other) {
					t.Errorf("%s must not import %s", path, i)
				}
			}
			if room == "core" && slices.Contains(forbidden, i) {
				t.Errorf("%s must not import %s", path, i)
			}
		}
	}
}
