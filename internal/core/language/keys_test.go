package language

import (
	"bytes"
	"fmt"
	"os"
	"strings"
	"testing"
)

// docs/pipeline-keys.md and docs/diagnostics.md are made from the tables that the reader works by.
// UPDATE=1 go test ./internal/core/language -run Page writes them anew.
func TestKeysPage(t *testing.T) {
	var b bytes.Buffer
	b.WriteString("# Keys of oskeld.toml\n\nMade from the reader's own tables: `UPDATE=1 go test ./internal/core/language -run Page`. What they mean together is told in [pipeline-file.md](pipeline-file.md); `oskeld schema` prints the same as a JSON Schema.\n")
	seen := map[string]bool{}
	for _, shape := range []*Shape{PipelineShape, RoutineShape} {
		keysOf(&b, shape, seen)
	}
	samePage(t, "../../../docs/pipeline-keys.md", b.Bytes())
}

func TestDiagnosticsPage(t *testing.T) {
	var b bytes.Buffer
	b.WriteString("# Diagnostics\n\nWhat `oskeld check` may say, by code: S… are errors, W… warnings. `oskeld explain CODE` prints the same.\n")
	for _, e := range Explanations {
		b.WriteString("\n" + e.Markdown())
	}
	samePage(t, "../../../docs/diagnostics.md", b.Bytes())
}

func samePage(t *testing.T, path string, made []byte) {
	t.Helper()
	if os.Getenv("UPDATE") != "" {
		if err := os.WriteFile(path, made, 0o644); err != nil {
			t.Fatal(err)
		}
	}
	kept, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	if !bytes.Equal(kept, made) {
		t.Errorf("%s is not what the reader knows: UPDATE=1 go test ./internal/core/language -run Page", path)
	}
}

func keysOf(b *bytes.Buffer, shape *Shape, seen map[string]bool) {
	if seen[shape.Title] {
		return
	}
	seen[shape.Title] = true
	fmt.Fprintf(b, "\n## %s\n| key | takes | meaning |\n|---|---|---|\n", shape.Title)
	for _, k := range shape.Keys {
		takes := k.Form.String()
		switch {
		case k.Form == CommandForm:
			takes = "`" + strings.Join(k.Picks, "`, `") + "`, or a list of texts"
		case len(k.Picks) > 0:
			takes = "`" + strings.Join(k.Picks, "`, `") + "`"
		case k.Most > 0:
			takes = fmt.Sprintf("1 to %d", k.Most)
		}
		about := k.About
		if k.Must {
			about += " (must be there)"
		}
		if k.Exclusive {
			about += " (one of its kind)"
		}
		fmt.Fprintf(b, "| `%s` | %s | %s |\n", k.Name, takes, strings.ReplaceAll(about, "|", `\|`))
	}
	for _, k := range shape.Keys {
		if k.Inner != nil {
			keysOf(b, k.Inner, seen)
		}
	}
}

// Each code that the reader can give is explained, and its example shows it; the right one does not.
func TestExplanations(t *testing.T) {
	for _, e := range Explanations {
		has := func(text string) bool {
			_, ds := Read(FileName, []byte(text))
			for _, d := range ds {
				if d.Code == e.Code {
					return true
				}
			}
			return false
		}
		if e.Wrong == "" {
			continue
		}
		if !has(e.Wrong) {
			_, ds := Read(FileName, []byte(e.Wrong))
			t.Errorf("%s: the wrong example does not show it:\n%s\n%s", e.Code, e.Wrong, ds.Text())
		}
		if p, ds := Read(FileName, []byte(e.Right)); p == nil || has(e.Right) {
			t.Errorf("%s: the right example is not right:\n%s", e.Code, ds.Text())
		}
	}
	for _, name := range []string{"read.go", "values.go", "stages.go", "across.go", "starts.go"} {
		text, err := os.ReadFile(name)
		if err != nil {
			t.Fatal(err)
		}
		for _, part := range strings.Split(string(text), `"`) {
			if len(part) == 4 && (part[0] == 'S' || part[0] == 'W') && strings.Trim(part[1:], "0123456789") == "" {
				if _, ok := Explain(part); !ok {
					t.Errorf("%s gives %s, which nothing explains", name, part)
				}
			}
		}
	}
}
