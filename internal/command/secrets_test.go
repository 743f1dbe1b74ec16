package command

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// Secrets come from the environment or a file; a line that is none of the pipeline's is refused and
// never shown.
func TestSecretsHere(t *testing.T) {
	t.Setenv("FROM_ENV", "one")
	t.Setenv("NOT_ASKED", "two")
	file := filepath.Join(t.TempDir(), "secrets")
	write := func(text string) {
		if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	write("# ours\n\nFROM_FILE=a=b c\r\n")
	got, err := secretsHere([]string{"FROM_ENV", "FROM_FILE"}, file)
	if err != nil || got["FROM_ENV"] != "one" || got["FROM_FILE"] != "a=b c" || len(got) != 2 {
		t.Errorf("%v, %v", got, err)
	}
	for _, bad := range []string{"hush-hush-value\n", "OTHER=hush-hush-value\n"} {
		write(bad)
		if _, err := secretsHere([]string{"FROM_FILE"}, file); err == nil || !strings.Contains(err.Error(), "line 1 of") || strings.Contains(err.Error(), "hush-hush") {
			t.Errorf("%q: %v", bad, err)
		}
	}
	if _, err := secretsHere(nil, file+".none"); err == nil {
		t.Error("a file that is not there was read")
	}
}
