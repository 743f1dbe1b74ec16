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
	Source  string `json:"source" doc:"the line, of a long one the part around the place"`
	From    int    `json:"from" doc:"the column at which source begins"`
}

// MostDiagnostics is how many are kept of one file; a last one tells how many more there are.
const MostDiagnostics = 500

// sourceAround is how much of a long line is shown, in characters.
const sourceAround = 150

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
	source, column := d.Source, d.Column-d.From+1
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

// findings collects diagnostics against one text.
type findings struct {
	file  string
	text  string
	lines []int // offset of each line's start
	list  Diagnostics
	more  int // that were not kept
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
	at.Offset = max(0, min(at.Offset, len(f.text)))
	at.Length = max(0, min(at.Length, len(f.text)-at.Offset))
	line, found := slices.BinarySearch(f.lines, at.Offset)
	if !found {
		line--
	}
	start := f.lines[line]
	end := len(f.text)
	if line+1 < len(f.lines) {
		end = f.lines[line+1] - 1
	}
	if len(f.list) >= MostDiagnostics {
		f.more++
		return
	}
	first, _, _ := strings.Cut(f.text[at.Offset:at.Offset+at.Length], "\n")
	d := Diagnostic{
		File: f.file, Line: line + 1, Column: utf8.RuneCountInString(f.text[start:at.Offset]) + 1,
		Length: max(1, utf8.RuneCountInString(strings.TrimRight(first, "\r"))), Code: code,
		Message: fmt.Sprintf(format, args...), Advice: advice, Source: strings.TrimRight(f.text[start:end], "\r"), From: 1,
	}
	if end-start > sourceAround {
		runes := []rune(d.Source)
		from := max(0, min(d.Column-sourceAround/2, len(runes)-sourceAround))
		d.Source, d.From = string(runes[from:min(len(runes), from+sourceAround)]), from+1
	}
	f.list = append(f.list, d)
}

func (f *findings) sorted() Diagnostics {
	if f.more > 0 {
		last := f.list[len(f.list)-1]
		last.Message, last.Advice = fmt.Sprintf("%d more are not listed", f.more), "mend these first"
		f.list[len(f.list)-1] = last
	}
	slices.SortStableFunc(f.list, func(a, b Diagnostic) int {
		return cmp.Or(cmp.Compare(a.Line, b.Line), cmp.Compare(a.Column, b.Column))
	})
	return f.list
}
