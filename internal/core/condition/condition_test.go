package condition

import (
	"errors"
	"slices"
	"strings"
	"testing"
)

func TestHolds(t *testing.T) {
	scope := Scope{
		Build:   Build{Pipeline: "hivebook", Number: 57, By: "ida"},
		Source:  Source{Commit: "8c1f2e0", Branch: "main", Changed: []string{"hive/hive.go", "docs/a.md"}},
		Version: "1.4.1-main.57",
	}
	for text, want := range map[string]bool{
		"true":                                            true,
		"source.branch == 'main'":                         true,
		"source.tag != ''":                                false,
		"build.number > 50 && build.by == 'ida'":          true,
		"version.startsWith('1.4')":                       true,
		"version.split('-').size() == 2":                  true,
		"source.changed.exists(p, p.startsWith('hive/'))": true,
		"source.changed.all(p, p.endsWith('.md'))":        false,
		"build.pipeline in ['nectar', 'hivebook']":        true,
	} {
		c, err := Compile(When, text)
		if err != nil {
			t.Errorf("%s: %v", text, err)
			continue
		}
		if got, err := c.Holds(scope); err != nil || got != want {
			t.Errorf("%s: %v, %v", text, got, err)
		}
	}
}

func TestCompileRefuses(t *testing.T) {
	for text, want := range map[string]string{
		"":                       "",
		"source.brunch == 'x'":   "undefined field 'brunch'",
		"build.number == '57'":   "no matching overload",
		"version":                "must be true or false",
		"tests.total > 0":        "undeclared reference to 'tests'",
		"source.branch = 'main'": "Syntax error",
		"(((":                    "Syntax error",
		"no_such()":              "undeclared reference",
	} {
		_, err := Compile(When, text)
		list, ok := errors.AsType[Mistakes](err)
		if !ok || len(list) == 0 || !strings.Contains(list.Error(), want) {
			t.Errorf("%q: %v", text, err)
		}
	}
	_, err := Compile(When, "source.branch == 'x' &&\n  source.brunch == 'y'")
	if list, _ := errors.AsType[Mistakes](err); len(list) != 1 || list[0].Line != 2 || list[0].Column != 9 {
		t.Errorf("placed at %+v", list)
	}
}

// A condition that costs too much, or cannot be told, is an error and never a hang.
func TestHoldsFails(t *testing.T) {
	for text, want := range map[string]string{
		"build.number / 0 > 1":    "zero",
		"source.changed[7] == ''": "out of bounds",
		"source.changed.all(a, source.changed.all(b, source.changed.all(c, source.changed.all(d, a + b + c + d != ''))))": "cost",
	} {
		c, err := Compile(When, text)
		if err != nil {
			t.Fatal(err)
		}
		if _, err := c.Holds(Scope{Source: Source{Changed: slices.Repeat([]string{"a", "b", "c", "d", "e", "f"}, 12)[:min(72, 6+66*strings.Count(text, "all")/4)]}}); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%.40s: %v, want %q", text, err, want)
		}
	}
}

func TestTemplates(t *testing.T) {
	known := []string{"version", "branch"}
	for text, want := range map[string]string{
		"": "", "plain": "plain", "{version}": "1.2", "a-{version}-{branch}.zip": "a-1.2-main.zip", "{{version}}": "{version}", "{{{version}}}": "{1.2}", "x}}": "x}",
	} {
		tmpl, err := ParseTemplate(text, known)
		if err != nil {
			t.Errorf("%q: %v", text, err)
			continue
		}
		if got := tmpl.Fill(map[string]string{"version": "1.2", "branch": "main"}); got != want {
			t.Errorf("%q: %q, want %q", text, got, want)
		}
	}
	for text, want := range map[string]BraceError{
		"a{":          {Offset: 1, Message: "a brace is not closed"},
		"a}":          {Offset: 1, Message: "a brace closes that was not opened"},
		"ab{verison}": {Offset: 2, Message: "{verison} is not known here"},
		"{}":          {Offset: 0, Message: "{} is not known here"},
	} {
		_, err := ParseTemplate(text, known)
		got, ok := errors.AsType[*BraceError](err)
		if !ok || got.Offset != want.Offset || got.Message != want.Message || got.Advice == "" {
			t.Errorf("%q: %+v", text, got)
		}
	}
	tmpl, _ := ParseTemplate("{version}{branch}{version}", known)
	if got := tmpl.Names(); !slices.Equal(got, []string{"version", "branch"}) {
		t.Errorf("names %v", got)
	}
}

func FuzzTemplate(f *testing.F) {
	f.Add("a{version}{{b}}")
	f.Fuzz(func(t *testing.T, text string) {
		tmpl, err := ParseTemplate(text, []string{"version"})
		if err == nil && !strings.ContainsAny(text, "{}") && tmpl.Fill(nil) != text {
			t.Errorf("%q became %q", text, tmpl.Fill(nil))
		}
	})
}

func FuzzCompile(f *testing.F) {
	f.Add("source.branch == 'main'")
	f.Fuzz(func(t *testing.T, text string) {
		if c, err := Compile(Rule, text); err == nil {
			_, _ = c.Holds(Scope{Tests: &Tests{Stages: map[string]Tests{}}})
		}
	})
}
