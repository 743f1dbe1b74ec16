package language

import (
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"oskeld.dev/oskeld/internal/core/artifact"
	"oskeld.dev/oskeld/internal/core/condition"
	"oskeld.dev/oskeld/internal/core/facts"
	"oskeld.dev/oskeld/internal/core/fault"
	"oskeld.dev/oskeld/internal/core/files"
	"oskeld.dev/oskeld/internal/core/version"
)

// reader takes a document into a Pipeline and notes every mistake on the way. It remembers where
// names stand, so that checks across stages can point at them.
type reader struct {
	*findings
	stageAt map[artifact.Name]*entry
}

// Read reads the text of a pipeline file. The pipeline is nil when a diagnostic is an error.
func Read(file string, text []byte) (*Pipeline, Diagnostics) {
	f := newFindings(file, strings.TrimPrefix(string(text), "\ufeff"))
	if len(text) > MostBytes {
		f.add("S001", span{0, 1}, "", "the file has %d bytes; at most %d are read", len(text), MostBytes)
		return nil, f.list
	}
	doc := parse(f)
	if doc == nil {
		return nil, f.list
	}
	r := &reader{findings: f, stageAt: map[artifact.Name]*entry{}}
	p := &Pipeline{}
	if v, err := version.ParseRules(version.Fields{}); err == nil {
		p.Version = v
	}
	fill(r, p, doc, pipelineShape, "the file")
	r.across(p)
	ds := r.sorted()
	if ds.Errors() > 0 {
		return nil, ds
	}
	return p, ds
}

// fill takes a table's keys by its shape: unknown keys, wrong forms and missing keys are errors.
func fill[T any](r *reader, into *T, table *node, shape []field[T], where string) {
	known := make([]string, len(shape))
	for i, f := range shape {
		known[i] = f.key
	}
	for _, key := range table.keys {
		e := table.entries[key]
		i := slices.Index(known, key)
		if i < 0 {
			advice := "known: " + strings.Join(known, ", ")
			if near := files.Closest(key, known); near != "" {
				advice = fmt.Sprintf("did you mean %q?", near)
			}
			r.add("S101", e.at, advice, "%q is not a key of %s", key, where)
			continue
		}
		if f := shape[i]; r.fits(f.key, f.form, f.picks, e.value) {
			f.take(r, into, e.value)
		}
	}
	for _, f := range shape {
		if f.must && table.entries[f.key] == nil {
			r.add("S103", table.at, "add "+f.key+" = …", "%s has no %q: %s", where, f.key, f.about)
		}
	}
}

func (r *reader) fits(key string, want form, picks []string, n *node) bool {
	ok := false
	switch want {
	case textForm, lengthForm:
		ok = n.kind == textKind
	case nameForm:
		if ok = n.kind == textKind; ok {
			if _, err := artifact.ParseName(key, n.text); err != nil {
				r.fault("S102", n.at, err)
				return false
			}
		}
	case pickForm:
		if ok = n.kind == textKind; ok && !slices.Contains(picks, n.text) {
			advice := "one of " + strings.Join(picks, ", ")
			if near := files.Closest(n.text, picks); near != "" {
				advice = fmt.Sprintf("did you mean %q?", near)
			}
			r.add("S102", n.at, advice, "%q is not a %s", n.text, key)
			return false
		}
	case truthForm:
		ok = n.kind == boolKind
	case textsForm:
		ok = n.kind == arrayKind && !slices.ContainsFunc(n.items, func(i *node) bool { return i.kind != textKind })
	case pairsForm:
		ok = n.kind == tableKind
		for _, e := range n.entries {
			ok = ok && e.value.kind == textKind
		}
	case tableForm:
		ok = n.kind == tableKind
	case tablesForm:
		ok = n.kind == arrayKind && !slices.ContainsFunc(n.items, func(i *node) bool { return i.kind != tableKind })
	}
	if !ok {
		r.add("S102", n.at, "", "%q takes %s", key, want)
	}
	return ok
}

// fault notes an error made by another core package at a place.
func (r *reader) fault(code string, at span, err error) {
	if f, ok := errors.AsType[*fault.Error](err); ok {
		r.add(code, at, f.Advice, "%s", f.Message)
		return
	}
	r.add(code, at, "", "%s", err)
}

// inner is the place of byte i of a text's value: exact in one-line texts without escapes and in
// multi-line texts, else the whole value.
func (r *reader) inner(n *node, i, length int) span {
	raw := r.text[n.at.offset : n.at.offset+n.at.length]
	if at := strings.Index(raw, n.text); at >= 0 && i <= len(n.text) {
		return span{n.at.offset + at + i, length}
	}
	return n.at
}

var variable = regexp.MustCompile(`^[A-Za-z_][A-Za-z0-9_]*$`)

func (r *reader) variables(n *node) (out []string) {
	for _, item := range n.items {
		switch {
		case !variable.MatchString(item.text) || strings.HasPrefix(item.text, "OSKELD_"):
			r.add("S102", item.at, "letters, digits and \"_\"; not OSKELD_…", "%q cannot be the name of a secret", item.text)
		case slices.Contains(out, item.text):
			r.add("S106", item.at, "leave one out", "%q stands twice", item.text)
		default:
			out = append(out, item.text)
		}
	}
	return out
}

func (r *reader) environment(n *node) map[string]string {
	out := map[string]string{}
	for _, key := range n.keys {
		e := n.entries[key]
		if !variable.MatchString(key) || strings.HasPrefix(key, "OSKELD_") {
			r.add("S102", e.at, "letters, digits and \"_\"; not OSKELD_…", "%q cannot be the name of a variable", key)
			continue
		}
		out[key] = e.value.text
	}
	return out
}

func (r *reader) names(n *node) (out []artifact.Name) {
	for _, item := range n.items {
		name, err := artifact.ParseName("stage", item.text)
		if err != nil {
			r.fault("S102", item.at, err)
			continue
		}
		out = append(out, name)
	}
	return out
}

func (r *reader) facts(n *node) facts.Demand {
	d := facts.Demand{}
	for _, key := range n.keys {
		e := n.entries[key]
		if err := facts.Check(key, e.value.text); err != nil {
			r.fault("S110", e.value.at, err)
			continue
		}
		d[key] = e.value.text
	}
	return d
}

func (r *reader) path(n *node) string {
	if err := files.CheckInside(n.text); err != nil {
		r.fault("S109", n.at, err)
	}
	return n.text
}

func (r *reader) patterns(n *node) (out []string) {
	for _, item := range n.items {
		if err := files.CheckPattern(strings.TrimPrefix(item.text, "!")); err != nil {
			r.fault("S109", item.at, err)
		}
		out = append(out, item.text)
	}
	return out
}

// filled checks the braces of a text and gives it with samples filled in, for further checks.
func (r *reader) filled(n *node, known []string) (string, bool) {
	t, err := condition.ParseTemplate(n.text, known)
	if err != nil {
		r.braces(n, err)
		return "", false
	}
	return t.Fill(map[string]string{"version": "1.0.0", "commit": "0000000", "branch": "main", "tag": "v1", "number": "1", "pipeline": "p"}), true
}

func (r *reader) braces(n *node, err error) {
	if b, ok := errors.AsType[*condition.BraceError](err); ok {
		length := 1
		if end := strings.IndexByte(n.text[b.Offset:], '}'); end > 0 {
			length = end + 1
		}
		r.add("S108", r.inner(n, b.Offset, length), b.Advice, "%s", b.Message)
		return
	}
	r.fault("S108", n.at, err)
}

func (r *reader) filledPath(n *node) string {
	if sample, ok := r.filled(n, Values); ok {
		if err := files.CheckInside(sample); err != nil {
			r.fault("S109", n.at, err)
		}
	}
	return n.text
}

func (r *reader) condition(n *node) string {
	_, err := condition.Compile(condition.When, n.text)
	if list, ok := errors.AsType[condition.Mistakes](err); ok {
		for _, m := range list {
			offset := 0
			for range m.Line - 1 {
				if i := strings.IndexByte(n.text[offset:], '\n'); i >= 0 {
					offset += i + 1
				}
			}
			for range m.Column - 1 { // CEL's columns count characters
				_, size := utf8.DecodeRuneInString(n.text[min(offset, len(n.text)):])
				offset += size
			}
			word := regexp.MustCompile(`^[A-Za-z0-9_.]+`).FindString(n.text[min(offset, len(n.text)):])
			r.add("S107", r.inner(n, offset, max(1, len(word))), "", "condition: %s", m.Message)
		}
	} else if err != nil {
		r.add("S107", n.at, "", "condition: %s", err)
	}
	return n.text
}

var dayRule = regexp.MustCompile(`^(\d{1,5})d$`)

// ParseLength reads a time such as "90s", "10m", "2h30m" or "30d".
func ParseLength(text string) (time.Duration, error) {
	if m := dayRule.FindStringSubmatch(text); m != nil {
		n, _ := strconv.Atoi(m[1])
		return time.Duration(n) * 24 * time.Hour, nil
	}
	d, err := time.ParseDuration(text)
	if err != nil || d <= 0 {
		return 0, fault.Invalid("%q is not a length of time", text).Hint(`write "90s", "10m", "2h" or "30d"`)
	}
	return d, nil
}

func (r *reader) length(n *node) time.Duration {
	d, err := ParseLength(n.text)
	if err != nil {
		r.fault("S113", n.at, err)
	}
	return d
}

// valueName are braces that look like ours inside a script, where they stay as they are.
var valueName = regexp.MustCompile(`(^|[^${])\{(version|branch|tag(\.[a-z_]+)?|number|commit|pipeline)\}`)

func (r *reader) script(n *node) string {
	if strings.TrimSpace(n.text) == "" {
		r.add("S102", n.at, "", "the script is empty")
	}
	if m := valueName.FindStringSubmatchIndex(n.text); m != nil {
		name := n.text[m[4]:m[5]]
		variable, _, _ := strings.Cut(name, ".")
		r.add("W202", r.inner(n, m[4]-1, len(name)+2), "read $OSKELD_"+strings.ToUpper(variable)+" instead", "braces are not filled in scripts: {%s} stays as it is", name)
	}
	return n.text
}

func (r *reader) version(n *node) version.Rules {
	var v versionTexts
	fill(r, &v, n, versionShape, "[version]")
	text := func(n *node) string {
		if n == nil {
			return ""
		}
		return n.text
	}
	fields := version.Fields{Tag: text(v.tag), Tagged: text(v.tagged), Untagged: text(v.untagged), File: text(v.file)}
	for _, t := range []*node{v.tagged, v.untagged} {
		if t == nil {
			continue
		}
		template, err := condition.ParseTemplate(t.text, version.Names)
		if err != nil {
			r.braces(t, err)
			return version.Rules{}
		}
		if slices.Contains(template.Names(), "file") && v.file == nil {
			r.add("S103", t.at, `add file = "VERSION" under [version]`, "{file} is used and no file is named")
		}
	}
	rules, err := version.ParseRules(fields)
	if err != nil && v.tag != nil {
		r.fault("S109", v.tag.at, err)
	}
	return rules
}
