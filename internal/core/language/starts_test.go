package language

import (
	"strings"
	"testing"
)

func TestBegins(t *testing.T) {
	p, diagnostics := Read("oskeld.toml", []byte(`pipeline = "hivebook"
[[start]]
push = ["main", "release/**"]
unless = ["docs/**", "**/*.md"]
[[start]]
tag = ["v*", "!v0.*"]
[[start]]
clock = "30 5 * * 1-5"
[stage.a]
script = "true"
`))
	if p == nil {
		t.Fatal(diagnostics.Text())
	}
	many := strings.Fields("docs/a docs/b docs/c docs/d docs/e")
	for _, c := range []struct {
		move Move
		why  string // "" where it begins a build
	}{
		{Move{Branch: "main"}, ""},
		{Move{Branch: "main", Changed: []string{"docs/a", "hive.go"}}, ""},
		{Move{Branch: "main", Changed: []string{"README.md"}}, "it touches only README.md, which `unless` leaves out"},
		{Move{Branch: "main", Changed: many}, "it touches only docs/a, docs/b, docs/c and 2 more, which `unless` leaves out"},
		{Move{Branch: "release/1/4"}, ""},
		{Move{Branch: "mainly"}, "no start rule is about branch mainly"},
		{Move{Branch: "v1.0.0"}, "no start rule is about branch v1.0.0"},
		{Move{Tag: "v1.0.0"}, ""},
		{Move{Tag: "v0.9.0"}, "no start rule is about tag v0.9.0"},
		{Move{Tag: "main"}, "no start rule is about tag main"},
	} {
		if begins, why := p.Begins(c.move); begins != (c.why == "") || why != c.why {
			t.Errorf("%+v: %v %q, want %q", c.move, begins, why, c.why)
		}
	}
}
