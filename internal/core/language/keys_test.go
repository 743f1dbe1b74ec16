package language

import (
	"bytes"
	"fmt"
	"os"
	"strings"
	"testing"
)

// docs/pipeline-keys.md lists every key from the same tables that the reader works by.
// UPDATE=1 go test ./internal/core/language -run TestKeysPage writes it anew.
func TestKeysPage(t *testing.T) {
	const path = "../../../docs/pipeline-keys.md"
	var b bytes.Buffer
	b.WriteString("# Keys of oskeld.toml\n\nMade from the reader's own tables: `UPDATE=1 go test ./internal/core/language -run TestKeysPage`. What they mean together is told in [pipeline-file.md](pipeline-file.md).\n")
	keysOf(&b, "The file", pipelineShape)
	keysOf(&b, "[version]", versionShape)
	keysOf(&b, "[stage.NAME]", stageShape)
	keysOf(&b, "read, of a stage", readShape)
	keysOf(&b, "[[stage.NAME.step]]", stepShape)
	keysOf(&b, "[[stage.NAME.artifact]]", artifactShape)
	if os.Getenv("UPDATE") != "" {
		if err := os.WriteFile(path, b.Bytes(), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	kept, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	if !bytes.Equal(kept, b.Bytes()) {
		t.Error("docs/pipeline-keys.md is not what the reader knows: UPDATE=1 go test ./internal/core/language -run TestKeysPage")
	}
}

func keysOf[T any](b *bytes.Buffer, title string, shape []field[T]) {
	fmt.Fprintf(b, "\n## %s\n| key | takes | meaning |\n|---|---|---|\n", title)
	for _, f := range shape {
		takes := f.form.String()
		if len(f.picks) > 0 {
			takes = "`" + strings.Join(f.picks, "`, `") + "`"
		}
		about := f.about
		if f.must {
			about += " (must be there)"
		}
		fmt.Fprintf(b, "| `%s` | %s | %s |\n", f.key, takes, about)
	}
}
