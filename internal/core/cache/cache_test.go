package cache

import (
	"slices"
	"testing"

	"oskeld.dev/oskeld/internal/core/artifact"
)

func TestKeyAndChanges(t *testing.T) {
	a, b := artifact.DigestOf([]byte("a")), artifact.DigestOf([]byte("b"))
	basis := func() Basis {
		return Basis{Dirs: []string{"~/go/pkg/mod"}, By: map[string]artifact.Digest{"go.mod": a, "go.sum": b}, System: "linux/amd64", Tools: map[string]string{"go": "1.26.8"}}
	}
	before := basis()
	if before.Key() != basis().Key() || len(basis().Changed(before)) != 0 {
		t.Error("equal bases differ")
	}
	for want, change := range map[string]func(*Basis){
		"go.sum changed": func(x *Basis) { x.By["go.sum"] = a },
		"go.work is new": func(x *Basis) { x.By["go.work"] = a },
		"go.mod is gone": func(x *Basis) { delete(x.By, "go.mod") },
		"go changed":     func(x *Basis) { x.Tools["go"] = "1.27.0" },
		"the system is windows/amd64 and was linux/amd64": func(x *Basis) { x.System = "windows/amd64" },
	} {
		x := basis()
		change(&x)
		if got := x.Changed(before); !slices.Equal(got, []string{want}) || x.Key() == before.Key() {
			t.Errorf("%v, want %s", got, want)
		}
	}
	other := basis()
	other.Dirs = []string{"~/go"}
	if other.Key() == before.Key() {
		t.Error("other directories have the same key")
	}
}
