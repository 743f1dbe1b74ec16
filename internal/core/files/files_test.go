package files

import (
	"slices"
	"testing"
	"testing/fstest"
)

func TestSelect(t *testing.T) {
	fsys := fstest.MapFS{"out/a.js": {}, "out/a.js.map": {}, "out/deep/b.css": {}, ".git/config": {}, "sub/.git/x": {}, "README": {}}
	for _, c := range []struct {
		patterns, want []string
	}{
		{nil, []string{"README", "out/a.js", "out/a.js.map", "out/deep/b.css"}},
		{[]string{"**", "!**/*.map"}, []string{"README", "out/a.js", "out/deep/b.css"}},
		{[]string{"out/*"}, []string{"out/a.js", "out/a.js.map"}},
		{[]string{"**/*.{css,js}"}, []string{"out/a.js", "out/deep/b.css"}},
		{[]string{"nothing/**"}, nil},
	} {
		p, err := ParsePatterns(c.patterns)
		if err != nil {
			t.Fatal(err)
		}
		got, err := p.Select(fsys)
		if err != nil || !slices.Equal(got, c.want) {
			t.Errorf("%v: got %v, want %v (%v)", c.patterns, got, c.want, err)
		}
	}
}

func TestNearest(t *testing.T) {
	fsys := fstest.MapFS{"build/hivebook.zip": {}, "build/notes.txt": {}, "main.go": {}}
	p, _ := ParsePatterns([]string{"dist/hivebok.zip"})
	if got := p.Nearest(fsys, 1); !slices.Equal(got, []string{"build/hivebook.zip"}) {
		t.Errorf("got %v", got)
	}
}

func TestBadPatterns(t *testing.T) {
	for _, bad := range []string{"", "/etc/*", "../x", "a/../../b", "a[", `a\b`} {
		if CheckPattern(bad) == nil {
			t.Errorf("%q was taken", bad)
		}
	}
}

func TestClosest(t *testing.T) {
	if got := Closest("complie", []string{"restore", "compile"}); got != "compile" {
		t.Errorf("got %q", got)
	}
	if got := Closest("zzzzzz", []string{"restore", "compile"}); got != "" {
		t.Errorf("got %q", got)
	}
}
