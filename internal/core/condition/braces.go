package condition

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"oskeld.dev/oskeld/internal/core/files"
)

// Template is a text with {names} in braces; a literal brace is doubled.
type Template struct {
	parts []part
}

type part struct {
	text  string // as it stands, or the name when named
	named bool
}

// BraceError is a mistake in a template. Offset and Length count bytes, from 0.
type BraceError struct {
	Offset  int
	Length  int
	Message string
	Advice  string
}

func (e *BraceError) Error() string { return e.Message }

// ParseTemplate reads a template in which only the given names are known.
func ParseTemplate(text string, known []string) (Template, error) {
	var t Template
	var plain strings.Builder
	flush := func() {
		if plain.Len() > 0 {
			t.parts = append(t.parts, part{text: plain.String()})
			plain.Reset()
		}
	}
	for i := 0; i < len(text); {
		switch {
		case strings.HasPrefix(text[i:], "{{"), strings.HasPrefix(text[i:], "}}"):
			plain.WriteByte(text[i])
			i += 2
		case text[i] == '}':
			return t, &BraceError{i, 1, "a brace closes that was not opened", "write }} for a literal brace"}
		case text[i] == '{':
			end := strings.IndexByte(text[i:], '}')
			if end < 0 {
				return t, &BraceError{i, 1, "a brace is not closed", "write {{ for a literal brace"}
			}
			name := text[i+1 : i+end]
			if inner := strings.IndexByte(name, '{'); inner >= 0 {
				return t, &BraceError{i + 1 + inner, 1, "a brace opens inside braces", "write {{ for a literal brace"}
			}
			if !slices.Contains(known, name) {
				advice := "known here: {" + strings.Join(known, "}, {") + "}"
				if near := files.Closest(name, known); near != "" {
					advice = fmt.Sprintf("did you mean {%s}?", near)
				}
				return t, &BraceError{i, end + 1, fmt.Sprintf("{%s} is not known here", name), advice}
			}
			flush()
			t.parts = append(t.parts, part{name, true})
			i += end + 1
		default:
			plain.WriteByte(text[i])
			i++
		}
	}
	flush()
	return t, nil
}

// Names lists the names that the template uses.
func (t Template) Names() (names []string) {
	for _, p := range t.parts {
		if p.named && !slices.Contains(names, p.text) {
			names = append(names, p.text)
		}
	}
	return names
}

// Fill puts the values in; a name without a value becomes nothing.
func (t Template) Fill(values map[string]string) string {
	var b strings.Builder
	for _, p := range t.parts {
		if p.named {
			b.WriteString(values[p.text])
		} else {
			b.WriteString(p.text)
		}
	}
	return b.String()
}

// Alternatives doubles the braces of a pattern's alternatives, as in "*.{js,css}", so that a template
// keeps them: what holds a comma is no name.
func Alternatives(pattern string) string {
	var b strings.Builder
	for i := 0; i < len(pattern); i++ {
		end := closing(pattern, i)
		if end < 0 || !strings.Contains(pattern[i:end], ",") {
			b.WriteByte(pattern[i])
			continue
		}
		b.WriteString(strings.NewReplacer("{", "{{", "}", "}}").Replace(pattern[i : end+1]))
		i = end
	}
	return b.String()
}

// closing is the place of the brace that closes the one at i, -1 where there is none.
func closing(text string, i int) int {
	if text[i] != '{' {
		return -1
	}
	depth := 0
	for j := i; j < len(text); j++ {
		switch text[j] {
		case '{':
			depth++
		case '}':
			if depth--; depth == 0 {
				return j
			}
		}
	}
	return -1
}

// Fill puts values into a text whose braces know just these values.
func Fill(text string, values map[string]string) (string, error) {
	if !strings.ContainsAny(text, "{}") {
		return text, nil
	}
	t, err := ParseTemplate(text, slices.Sorted(maps.Keys(values)))
	if err != nil {
		return "", err
	}
	return t.Fill(values), nil
}
