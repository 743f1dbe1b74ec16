package language

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"
)

// Diagnostic is one mistake or warning. Line and Column count from 1, Column and Length in
// characters. Codes are stable: S… are errors, W… warnings.
type Diagnostic struct {
	File    string `json:"file"`
	Line    int    `json:"line"`
	Column  int    `json:"column"`
	Length  int    `json:"length"`
	Code    string `json:"code"`
	Message string `json:"message"`
	Advice  string `json:"advice,omitempty"`
	Source  string `json:"source"`
}

// Warning tells a warning from an error.
func (d Diagnostic) Warning() bool { return d.Code[0] == 'W' }

// Text gives the diagnostic as people read it: where, what, the source line, a pointer and a suggestion.
func (d Diagnostic) Text() string {
	kind := "error"
	if d.Warning() {
		kind = "warning"
	}
	var b strings.Builder
	fmt.Fprintf(&b, "%s:%d:%d: %s %s: %s\n", d.File, d.Line, d.Column, kind, d.Code, d.Message)
	source, column := d.Source, d.Column
	if utf8.RuneCountInString(source) > 160 { // a long line is shown around the place
		runes := []rune(source)
		from := max(0, column-60)
		source = string(runes[from:min(len(runes), from+150)])
		column -= from
	}
	lead := fmt.Sprintf("%5d | ", d.Line)
	fmt.Fprintf(&b, "%s%s\n", lead, strings.ReplaceAll(source, "\t", " "))
	pointer := strings.Repeat("^", max(1, min(d.Length, utf8.RuneCountInString(source)-column+1)))
	fmt.Fprintf(&b, "%s| %s%s", strings.Repeat(" ", len(lead)-2), strings.Repeat(" ", max(0, column-1)), pointer)
	if d.Advice != "" {
		b.WriteString(" " + d.Advice)
	}
	return b.String() + "\n"
}

// Diagnostics are all that was found in a file, in the order of its lines.
type Diagnostics []Diagnostic

// Errors counts those that are not warnings.
func (ds Diagnostics) Errors() (n int) {
	for _, d := range ds {
		if !d.Warning() {
			n++
		}
	}
	return n
}

// Text gives all of them as people read them.
func (ds Diagnostics) Text() string {
	var b strings.Builder
	for _, d := range ds {
		b.WriteString(d.Text())
	}
	return b.String()
}

// span is a place in the text, in bytes.
type span struct{ offset, length int }

// findings collects diagnostics against one text.
type findings struct {
	file  string
	text  string
	lines []int // offset of each line's start
	list  Diagnostics
}

func newFindings(file, text string) *findings {
	f := &findings{file: file, text: text, lines: []int{0}}
	for i := range len(text) {
		if text[i] == '\n' {
			f.lines = append(f.lines, i+1)
		}
	}
	return f
}

func (f *findings) add(code string, at span, advice, format string, args ...any) {
	at.offset = max(0, min(at.offset, len(f.text)))
	at.length = max(0, min(at.length, len(f.text)-at.offset))
	line, found := slices.BinarySearch(f.lines, at.offset)
	if !found {
		line--
	}
	start := f.lines[line]
	end := len(f.text)
	if line+1 < len(f.lines) {
		end = f.lines[line+1] - 1
	}
	first, _, _ := strings.Cut(f.text[at.offset:at.offset+at.length], "\n")
	f.list = append(f.list, Diagnostic{
		File: f.file, Line: line + 1, Column: utf8.RuneCountInString(f.text[start:at.offset]) + 1,
		Length: max(1, utf8.RuneCountInString(strings.TrimRight(first, "\r"))), Code: code,
		Message: fmt.Sprintf(format, args...), Advice: advice, Source: strings.TrimRight(f.text[start:end], "\r"),
	})
}

func (f *findings) sorted() Diagnostics {
	slices.SortStableFunc(f.list, func(a, b Diagnostic) int {
		return cmp.Or(cmp.Compare(a.Line, b.Line), cmp.Compare(a.Column, b.Column))
	})
	return f.list
}
