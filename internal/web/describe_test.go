package web

import (
	"bytes"
	"os"
	"testing"
)

// docs/openapi.json is the API as it is, and the console's types are made from it.
// UPDATE=1 go test ./internal/web -run TestDescription writes it anew.
func TestDescription(t *testing.T) {
	const path = "../../docs/openapi.json"
	now, err := Describe()
	if err != nil {
		t.Fatal(err)
	}
	now = append(now, '\n')
	if os.Getenv("UPDATE") != "" {
		if err := os.WriteFile(path, now, 0o644); err != nil {
			t.Fatal(err)
		}
	}
	kept, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	if !bytes.Equal(kept, now) {
		t.Error("docs/openapi.json is not the API as it is: UPDATE=1 go test ./internal/web -run TestDescription")
	}
}
