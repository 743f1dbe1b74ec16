package condition

import (
	"errors"
	"slices"
	"strings"
	"testing"
)

var testNames = Names{Asks: map[string]ValueKind{"profile": TextValue, "deep": FlagValue, "jobs": NumberValue}, Axes: []string{"os"},
	Exports: map[string]bool{"size": true, "note": false}}

func TestHolds(t *testing.T) {
	scope := Scope{
		Asks:    []Value{{"profile", TextValue, "debug"}, {"deep", FlagValue, "true"}, {"jobs", NumberValue, "4"}},
		Vary:    map[string]string{"os": "linux"},
		Exports: []Export{{"size", "linux", "12"}, {"size", "windows", "13"}, {"note", "", "it's\nlong"}},
		Stages:  map[string]Stage{"test": {"failed"}, "hive-scale": {"passed"}},
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
		"ask.profile == 'debug' && ask.deep":              true,
		"ask.jobs * 2 == 8":                               true,
		"vary.os != 'linux'":                              false,
		"exports.size['windows'] == '13'":                 true,
		"exports.note.contains('long')":                   true,
		"stages.test.state == 'failed'":                   true,
		"stages['hive-scale'].state == 'passed'":          true,
	} {
		c, err := Compile(When, text, testNames)
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
		"version":                "it must be true or false",
		"tests.total > 0":        "undeclared reference to 'tests'",
		"source.branch = 'main'": "Syntax error",
		"(((":                    "Syntax error",
		"no_such()":              "undeclared reference",
		"ask.profil == 'x'":      "ask.profil is not known here",
		"ask.profile == 3":       "no matching overload",
		"ask.jobs == '3'":        "no matching overload",
		"vary.oz == 'linux'":     "vary.oz is not known here",
		"exports.size['a'] == 3": "no matching overload",
	} {
		_, err := Compile(When, text, testNames)
		list, ok := errors.AsType[Mistakes](err)
		if !ok || len(list) == 0 || !strings.Contains(list.Error(), want) {
			t.Errorf("%q: %v", text, err)
		}
	}
	text := "source.branch == 'x' &&\n  source.brunch == 'y'"
	_, err := Compile(When, text, Names{})
	if list, _ := errors.AsType[Mistakes](err); len(list) != 1 || text[list[0].Offset:list[0].Offset+list[0].Length] != "brunch" {
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
		c, err := Compile(When, text, testNames)
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
		"a{":            {Offset: 1, Message: "a brace is not closed"},
		"a}":            {Offset: 1, Message: "a brace closes that was not opened"},
		"ab{verison}":   {Offset: 2, Length: 9, Message: "{verison} is not known here"},
		"{ver{branch}}": {Offset: 4, Message: "a brace opens inside braces"},
		"{}":            {Offset: 0, Message: "{} is not known here"},
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

func TestAlternatives(t *testing.T) {
	for text, want := range map[string]string{"*.{js,css}": "*.{{js,css}}", "a-{version}.{js,{b,c}}": "a-{version}.{{js,{{b,c}}}}", "{version}": "{version}", "{": "{", "}{,": "}{,", "": ""} {
		if got := Alternatives(text); got != want {
			t.Errorf("%q: %q, want %q", text, got, want)
		}
	}
	if got, err := Fill(Alternatives("{version}/*.{js,css}"), map[string]string{"version": "1.2"}); got != "1.2/*.{js,css}" || err != nil {
		t.Errorf("%q, %v", got, err)
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
		if c, err := Compile(Rule, text, Names{}); err == nil {
			_, _ = c.Holds(Scope{Tests: &Tests{Stages: map[string]Tests{}}})
		}
	})
}

func TestLate(t *testing.T) {
	for text, want := range map[string]bool{"stages.test.state == 'failed'": true, "exports.note == ''": true, "ask.deep": false, "source.branch == 'stages'": false} {
		c, err := Compile(When, text, testNames)
		if err != nil || c.Late() != want {
			t.Errorf("%s: late %v, %v", text, c.Late(), err)
		}
	}
	if got := Stages("stages.test.state == 'x' || stages['hive-scale'].state == stages[\"a\"].state"); len(got) != 3 || got[1] != (StageRef{"hive-scale", 36}) {
		t.Errorf("%+v", got)
	}
}

func TestSuggestions(t *testing.T) {
	for text, want := range map[string]string{"ask.profil == 'x'": "did you mean ask.profile?", "vary.oz == 'x'": "did you mean vary.os?", "sourze.tag == ''": "", "versoin == ''": "did you mean version?"} {
		_, err := Compile(When, text, testNames)
		list, _ := errors.AsType[Mistakes](err)
		if len(list) == 0 || want != "" && list[0].Advice != want {
			t.Errorf("%s: %+v", text, list)
		}
	}
	_, err := Compile(When, "vary.os == 'x'", Names{})
	if list, _ := errors.AsType[Mistakes](err); len(list) == 0 || list[0].Advice != "the stage does not vary" {
		t.Errorf("%+v", list)
	}
}
