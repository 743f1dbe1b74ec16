// Package proposal looks at a source and proposes a pipeline file for it: the tools that it is built
// with, their commands, what they demand of an agent, and where they put what they make.
//
//	p := proposal.Make(proposal.Tree{Name: "nectar", Names: names, Read: read}, proposal.Options{})
//	os.WriteFile("oskeld.toml", []byte(p.Text), 0o644)
//
// It looks at names, and reads only the files by which tools are known.
package proposal

import (
	"fmt"
	"path"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"oskeld.dev/oskeld/internal/core/artifact"
	"oskeld.dev/oskeld/internal/core/document"
	"oskeld.dev/oskeld/internal/core/language"
)

// Tree is a source. Names are its files, slash-separated from its top; Cut tells that there are more
// than were looked at. Tags are those that it has.
type Tree struct {
	Name  string
	Names []string
	Cut   bool
	Tags  []string
	Read  func(name string) ([]byte, error) // a small file
}

// Options for Make. All shows the settings that are rare as well, as comments. Store is where
// artifacts go. Answers settle questions, by their key.
type Options struct {
	All     bool
	Store   string
	Answers map[string]string
}

// Question is where the proposal is unsure. Chosen is the answer that it took, one of Choices.
type Question struct {
	Key     string   `json:"key"`
	Text    string   `json:"text"`
	Choices []string `json:"choices"`
	Chosen  string   `json:"chosen"`
	Open    bool     `json:"open" doc:"nobody has answered it"`
}

// Proposal is a file that the reader takes, what was recognised, and where it is unsure.
type Proposal struct {
	Text      string     `json:"text"`
	Found     []string   `json:"found"`
	Questions []Question `json:"questions"`
	Notes     []string   `json:"notes"`
}

// Make proposes a file.
func Make(t Tree, o Options) Proposal {
	t.Names = slices.DeleteFunc(slices.Clone(t.Names), odd)
	m := &maker{tree: t, options: o, index: map[string]bool{}}
	for _, name := range t.Names {
		m.index[name] = true
	}
	if t.Cut {
		m.note("the tree is large: only its first %d files were looked at", len(t.Names))
	}
	units := m.units()
	for _, u := range units {
		d := &draft{maker: m, unit: u, alone: len(units) == 1}
		m.found = append(m.found, u.String())
		u.tool.propose(d)
		m.drafts = append(m.drafts, d)
	}
	m.noteMade()
	if len(units) == 0 {
		m.note("no build tool was recognised; the script is yours to write")
		m.drafts = append(m.drafts, &draft{maker: m, alone: true, stages: []stage{{purpose: language.Compile, why: "no build tool was recognised: say here how it is built",
			lines: []line{{"script", document.Quote("echo 'say here how it is built'"), ""}}}}})
	}
	return Proposal{Text: m.render(), Found: orEmpty(m.found), Questions: orEmpty(m.questions), Notes: orEmpty(m.notes)}
}

// odd tells whether a path has what patterns, braces or a shell would take for something else.
func odd(name string) bool {
	return !utf8.ValidString(name) || strings.ContainsAny(name, "\\[]{}*?\"'`$&;|<>()#!") || strings.ContainsFunc(name, unicode.IsControl) || path.Clean(name) != name || strings.HasPrefix(name, "../") || strings.HasPrefix(name, "/")
}

func orEmpty[T any](list []T) []T {
	if list == nil {
		return []T{}
	}
	return list
}

// noteMade says what builds will lay into the working tree that git does not ignore yet.
func (m *maker) noteMade() {
	var open []string
	for _, d := range m.drafts {
		ignored := d.read(".gitignore")
		if text, err := m.tree.Read(".gitignore"); err == nil && d.dir != "" {
			ignored += "\n" + string(text)
		}
		for _, name := range d.made {
			first, _, deep := strings.Cut(name, "/")
			if deep {
				first += "/"
			}
			whole := first
			if d.dir != "" {
				whole = d.dir + "/" + first
			}
			if !strings.Contains(ignored, strings.TrimSuffix(first, "/")) && !strings.ContainsAny(first, "*") && !slices.Contains(open, whole) {
				open = append(open, whole)
			}
		}
	}
	if len(open) > 0 {
		m.note("a rehearsal leaves %s in the working tree: name them in .gitignore", strings.Join(open, ", "))
	}
}

type maker struct {
	tree      Tree
	options   Options
	index     map[string]bool
	drafts    []*draft
	found     []string
	questions []Question
	notes     []string
}

func (m *maker) note(format string, args ...any) {
	m.notes = append(m.notes, fmt.Sprintf(format, args...))
}

// ask puts a question and gives the answer: the one that was given, else the first choice.
func (m *maker) ask(key, text string, choices ...string) string {
	q := Question{Key: key, Text: text, Choices: choices, Chosen: choices[0], Open: true}
	if given, ok := m.options.Answers[key]; ok && slices.Contains(choices, given) {
		q.Chosen, q.Open = given, false
	}
	m.questions = append(m.questions, q)
	return q.Chosen
}

// stage is a stage as it will be written. Lines are keys and values that are TOML already.
type stage struct {
	purpose   language.Purpose
	why       string
	lines     []line
	artifacts [][]line
}

type line struct{ key, value, why string }

// name is a text that fits as the name of a pipeline or an artifact.
func safeName(text string) string {
	text = strings.Map(func(r rune) rune {
		if r >= 'a' && r <= 'z' || r >= '0' && r <= '9' || r == '-' || r == '_' || r == '.' {
			return r
		}
		return '-'
	}, strings.ToLower(text))
	text = strings.Trim(strings.ReplaceAll(text, "..", "."), "-._")
	if _, err := artifact.ParseName("name", text); err != nil {
		return "pipeline"
	}
	return text
}

// render writes the file.
func (m *maker) render() string {
	var b strings.Builder
	name := safeName(m.tree.Name)
	if len(m.found) > 0 {
		fmt.Fprintf(&b, "# Proposed from what the source holds: %s.\n", strings.Join(m.found, "; "))
	}
	b.WriteString("# oskeld check tells what is wrong with it, oskeld rehearse runs it here.\n")
	fmt.Fprintf(&b, "pipeline = %s\n", document.Quote(name))
	if m.options.All {
		m.rare(&b, language.PipelineShape, nil)
	}
	m.version(&b)
	names := map[string]bool{}
	for i, d := range m.drafts {
		for j, s := range d.stages {
			m.stage(&b, d, s, i > 0 && j == 0, names)
		}
	}
	if m.options.All {
		b.WriteString("\n# Builds that start by themselves; each rule has one cause: push, tag, clock or after.\n# [[start]]\n# push = [\"main\"]\n#\n# [ask.profile]\n# pick = [\"debug\", \"release\"]  # a value that whoever starts a build may choose\n")
	}
	return b.String()
}

// version writes a rule that fits the tags that exist.
func (m *maker) version(b *strings.Builder) {
	pattern, example := tagPattern(m.tree.Tags)
	b.WriteString("\n[version]\n")
	if example == "" {
		fmt.Fprintf(b, "tag      = %q                                  # no tag yet: git tag v0.1.0 makes the first release\n", pattern)
	} else {
		fmt.Fprintf(b, "tag      = %q                                  # the tags of this source look like %s\n", pattern, example)
	}
	b.WriteString("tagged   = \"{tag}\"                               # a build of a tag bears its version\n")
	b.WriteString("untagged = \"{tag.next_patch}-{branch}.{number}\"  # any other comes before the next release\n")
}

func (m *maker) stage(b *strings.Builder, d *draft, s stage, fresh bool, names map[string]bool) {
	stageName := string(s.purpose)
	if !d.alone {
		stageName += "-" + d.suffix()
	}
	for n := 2; names[stageName]; n++ {
		stageName = fmt.Sprintf("%s-%d", strings.TrimRight(stageName, "-0123456789"), n)
	}
	names[stageName] = true
	b.WriteString("\n")
	if s.why != "" {
		fmt.Fprintf(b, "# %s\n", s.why)
	}
	fmt.Fprintf(b, "[stage.%s]\n", stageName)
	var lines []line
	if stageName != string(s.purpose) {
		lines = append(lines, line{"purpose", document.Quote(string(s.purpose)), ""})
	}
	if fresh {
		lines = append(lines, line{"after", "[]", "side by side with the stages above, in a checkout of its own"})
	}
	if d.dir != "" {
		lines = append(lines, line{"in", document.Quote(d.dir), ""})
	}
	lines = append(lines, s.lines...)
	writeLines(b, lines)
	if m.options.All {
		m.rare(b, shapeOf("[stage.NAME]"), lines)
	}
	for _, a := range s.artifacts {
		fmt.Fprintf(b, "\n[[stage.%s.artifact]]\n", stageName)
		writeLines(b, a)
		if m.options.All {
			m.rare(b, shapeOf("[[stage.NAME.artifact]]"), a)
		}
	}
}

func writeLines(b *strings.Builder, lines []line) {
	width := 0
	for _, l := range lines {
		width = max(width, len(l.key))
	}
	for _, l := range lines {
		fmt.Fprintf(b, "%-*s = %s", width, l.key, l.value)
		if l.why != "" {
			fmt.Fprintf(b, "  # %s", l.why)
		}
		b.WriteString("\n")
	}
}

// rare writes the keys of a table that are not used yet, as comments with what they mean.
func (m *maker) rare(b *strings.Builder, shape *language.Shape, used []line) {
	for _, k := range shape.Keys {
		if slices.ContainsFunc(used, func(l line) bool { return l.key == k.Name }) || k.Must || k.Form == language.NamedForm || k.Name == "version" || k.Name == "start" || k.Name == "step" || k.Name == "artifact" || k.Name == "script" {
			continue
		}
		fmt.Fprintf(b, "# %s = %s  # %s\n", k.Name, sample(k), k.About)
	}
}

// sample is a value of a key's form, to begin from.
func sample(k language.Key) string {
	switch {
	case len(k.Picks) > 0:
		return document.Quote(k.Picks[0])
	case k.Most > 0:
		return "2"
	}
	samples := map[language.Form]string{language.TextsForm: "[]", language.PairsForm: "{}", language.ListsForm: `{ os = ["linux", "windows"] }`, language.PairRows: "[]",
		language.TruthForm: "true", language.NumberForm: "1", language.LengthForm: `"30m"`, language.TableForm: "{}", language.TablesForm: "[]"}
	if text, ok := samples[k.Form]; ok {
		return text
	}
	return `"…"`
}

// shapeOf finds the description of a table of the language by its title.
func shapeOf(title string) *language.Shape {
	var find func(*language.Shape) *language.Shape
	find = func(s *language.Shape) *language.Shape {
		if s.Title == title {
			return s
		}
		for _, k := range s.Keys {
			if k.Inner != nil {
				if found := find(k.Inner); found != nil {
					return found
				}
			}
		}
		return nil
	}
	return find(language.PipelineShape)
}

// tagPattern gives the pattern that most tags that look like versions fit, and one of them.
func tagPattern(tags []string) (pattern, example string) {
	count, last := map[string]int{}, map[string]string{}
	for _, tag := range tags {
		i := strings.IndexAny(tag, "0123456789")
		if i < 0 || !strings.Contains(tag[i:], ".") || strings.ContainsAny(tag[:i], "*?[\\") {
			continue
		}
		count[tag[:i]]++
		last[tag[:i]] = tag
	}
	best := ""
	for prefix, n := range count {
		if example == "" || n > count[best] || n == count[best] && prefix < best {
			best, example = prefix, last[prefix]
		}
	}
	switch {
	case example == "":
		return "v*", ""
	case best == "":
		return "[0-9]*", example
	}
	return best + "*", example
}

// suffix tells stages of several units apart.
func (d *draft) suffix() string {
	if d.dir == "" {
		return d.tool.short
	}
	for _, other := range d.drafts {
		if other.dir == d.dir && other.tool.short != d.tool.short {
			return bareKey(path.Base(d.dir) + "-" + d.tool.short)
		}
	}
	return bareKey(path.Base(d.dir))
}

// bareKey is a text that fits into the name of a stage without quotes.
func bareKey(text string) string { return strings.ReplaceAll(safeName(text), ".", "-") }
