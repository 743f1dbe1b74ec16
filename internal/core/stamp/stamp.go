// Package stamp writes values into files: a whole file from a template, or single fields of a JSON,
// TOML or XML file in place, the rest kept to the byte.
//
//	text, err := stamp.Template(text, map[string]string{"version": "1.4.0"})
//	text, err = stamp.Set("package.json", text, []stamp.Field{{Path: "version", Text: "1.4.0"}})
package stamp

import (
	"fmt"
	"maps"
	"path"
	"regexp"
	"slices"
	"strings"

	"oskeld.dev/oskeld/internal/core/fault"
	"oskeld.dev/oskeld/internal/core/files"
)

// Field is a place in a file and the text that it gets. Path names it from the top, its parts set
// apart by dots, or by slashes where a part holds a dot. In XML the last part may be an @attribute.
type Field struct{ Path, Text string }

func (f Field) parts() []string {
	if strings.Contains(f.Path, "/") {
		return strings.Split(strings.TrimPrefix(f.Path, "/"), "/")
	}
	return strings.Split(f.Path, ".")
}

var braceRule = regexp.MustCompile(`\$?\{\{?[a-z][a-z0-9_]*(?:\.[a-z0-9_]+)*\}\}?`)

// Template fills the {names} that are known into a text in which other braces stay as they are, as
// programs have many. {{name}} gives a literal {name}, and ${name} is left alone. A name that comes
// near a known one, and a text without any, are errors of kind invalid.
func Template(text string, values map[string]string) (string, error) {
	known := slices.Sorted(maps.Keys(values))
	filled := 0
	var wrong error
	out := braceRule.ReplaceAllStringFunc(text, func(found string) string {
		name := strings.Trim(found, "${}")
		value, ok := values[name]
		double := strings.HasPrefix(found, "{{") && strings.HasSuffix(found, "}}")
		switch {
		case strings.HasPrefix(found, "$"):
			return found
		case ok && double:
			return "{" + name + "}"
		case ok:
			filled++
			// "{{version}" is a brace, and the name in braces.
			return found[:strings.Index(found, "{"+name)] + value + found[strings.LastIndex(found, name+"}")+len(name)+1:]
		}
		if near := files.Closest(name, known); wrong == nil && !double && near != "" && meant(name, near) {
			line := 1 + strings.Count(text[:strings.Index(text, found)], "\n")
			wrong = fault.Invalid("line %d: {%s} is not known here", line, name).Hint("did you mean {%s}? Double the braces to keep it as it is", near)
		}
		return found
	})
	if wrong == nil && filled == 0 {
		wrong = fault.Invalid("no {name} in it is known, so nothing would be written").Hint("known: {%s}", strings.Join(known, "}, {"))
	}
	if wrong != nil {
		return "", wrong
	}
	return out, nil
}

// meant tells whether a name that is not known surely was meant to be another.
func meant(name, near string) bool {
	group, _, dotted := strings.Cut(name, ".")
	return dotted && (group == "ask" || group == "vary") || len(name) >= 6 && files.Distance(name, near) <= 2
}

// Set puts texts into fields that are there. A number or a truth stays one where the text is one.
// Errors are of kind invalid.
func Set(name string, text []byte, fields []Field) ([]byte, error) {
	var set func([]byte, Field) ([]byte, error)
	switch strings.ToLower(path.Ext(name)) {
	case ".json":
		set = setJSON
	case ".toml":
		set = setTOML
	case ".xml", ".csproj", ".props", ".pom", ".nuspec":
		set = setXML
	default:
		return nil, fault.Invalid("%s is neither JSON, TOML nor XML", name).Hint("write a template and name it with `from`")
	}
	for _, f := range fields {
		var err error
		if text, err = set(text, f); err != nil {
			return nil, fmt.Errorf("%s: %w", name, err)
		}
	}
	return text, nil
}

// splice puts a new text in place of the bytes from one offset to another.
func splice(text []byte, from, to int, with string) []byte {
	return slices.Concat(text[:from], []byte(with), text[to:])
}

func noField(f Field, known []string) error {
	e := fault.Invalid("there is no field %q", f.Path)
	parts := f.parts()
	if near := files.Closest(parts[len(parts)-1], known); near != "" {
		return e.Hint("did you mean %q?", near)
	}
	if len(known) > 0 {
		return e.Hint("there is %s", strings.Join(known[:min(len(known), 12)], ", "))
	}
	return e.Hint("only fields that are there can be set")
}
