package language

import (
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"oskeld.dev/oskeld/internal/core/artifact"
	"oskeld.dev/oskeld/internal/core/condition"
	"oskeld.dev/oskeld/internal/core/document"
	"oskeld.dev/oskeld/internal/core/fault"
	"oskeld.dev/oskeld/internal/core/files"
	"oskeld.dev/oskeld/internal/core/version"
)

type (
	node  = document.Node
	entry = document.Entry
	span  = document.Span
)

// reader takes a document into a Pipeline and notes every mistake on the way. It remembers where
// names stand, so that checks across stages can point at them.
type reader struct {
	*findings
	stageAt  map[artifact.Name]*entry
	stage    artifact.Name // the one being read
	shell    []string      // of the stage being read
	asksRead []Ask
	known    condition.Names   // to conditions anywhere in the file
	later    []func(*Pipeline) // checks that need the whole file
}

// Read reads the text of a pipeline file. The pipeline is nil when a diagnostic is an error.
func Read(file string, text []byte) (*Pipeline, Diagnostics) {
	r, doc := begin(file, text)
	if doc == nil {
		return nil, r.list
	}
	if e := doc.Entries["ask"]; e != nil { // first, because anything may refer to them
		r.asksRead = r.readAsks(e.Value)
	}
	p := &Pipeline{Overlap: Together}
	if v, err := version.ParseRules(version.Fields{}); err == nil {
		p.Version = v
	}
	fill(r, p, doc, pipelineFields, "the file")
	r.across(p)
	ds := r.sorted()
	if ds.Errors() > 0 {
		return nil, ds
	}
	return p, ds
}

// ReadRoutine reads the file of a routine. The routine is nil when a diagnostic is an error.
func ReadRoutine(file string, text []byte) (*Routine, Diagnostics) {
	r, doc := begin(file, text)
	if doc == nil {
		return nil, r.list
	}
	if e := doc.Entries["ask"]; e != nil {
		r.asksRead = r.readAsks(e.Value)
	}
	x := &Routine{}
	fill(r, x, doc, routineFields, "the file")
	for i, s := range x.Steps {
		if s.Routine != nil {
			r.add("S112", doc.Entries["step"].Value.Items[i].At, "write its steps here", "a routine uses no other routine")
		}
	}
	p := &Pipeline{Asks: x.Asks}
	r.known = p.Names()
	for _, check := range r.later {
		check(p)
	}
	ds := r.sorted()
	if ds.Errors() > 0 {
		return nil, ds
	}
	return x, ds
}

// mostKeys bounds what a hostile file costs: finding keys that stand twice takes time in the square
// of the keys of a table.
const mostKeys = 20_000

func begin(file string, text []byte) (*reader, *node) {
	f := newFindings(file, strings.TrimPrefix(string(text), "\ufeff"))
	r := &reader{findings: f, stageAt: map[artifact.Name]*entry{}}
	if len(text) > MostBytes {
		f.add("S001", span{Length: 1}, "", "the file is larger than %d bytes, the most that is read", MostBytes)
		return r, nil
	}
	if strings.Count(f.text, "=") > mostKeys {
		f.add("S001", span{Length: 1}, "split the pipeline", "the file has more than %d keys, the most that are read", mostKeys)
		return r, nil
	}
	doc, err := document.Parse(f.text)
	if e, ok := errors.AsType[*document.Error](err); ok {
		f.add("S001", e.At, e.Advice, "%s", e.Message)
		return r, nil
	}
	return r, doc
}

// topKeys are the keys that stand at the top of a file.
var topKeys []string

func init() {
	for _, f := range pipelineFields {
		topKeys = append(topKeys, f.Name)
	}
}

// fill takes a table's keys by its fields: unknown keys, wrong forms and missing keys are errors.
func fill[T any](r *reader, into *T, table *node, fields []field[T], where string) {
	known := make([]string, len(fields))
	var exclusive, have []string
	for i, f := range fields {
		known[i] = f.Name
		if f.Exclusive {
			exclusive = append(exclusive, f.Name)
		}
	}
	unknown := false
	for _, key := range table.Keys {
		e := table.Entries[key]
		i := slices.Index(known, key)
		if i < 0 {
			unknown = true
			advice := suggest(key, known, "known: ")
			if slices.Contains(topKeys, key) { // under [table] everything belongs to that table
				advice = "it is a key of the file: write it above the first [table]"
			}
			r.add("S101", e.At, advice, "%q is not a key of %s", key, where)
			continue
		}
		f := fields[i]
		if f.Exclusive {
			if have = append(have, f.Name); len(have) > 1 {
				r.add("S112", e.At, "keep one", "%s has both `%s` and `%s`", where, have[0], f.Name)
				continue
			}
		}
		if table.Entries[f.Excludes] != nil {
			r.add("S112", e.At, "keep one", "%s has both `%s` and `%s`", where, f.Excludes, f.Name)
		}
		if f.Needs != "" && table.Entries[f.Needs] == nil {
			r.add("S112", e.At, "say `"+f.Needs+"` too, or leave it out", "`%s` of %s means nothing without `%s`", f.Name, where, f.Needs)
		}
		if r.fits(f.Key, e.Value) {
			f.take(r, into, e.Value)
		}
	}
	for _, f := range fields {
		if f.Must && table.Entries[f.Name] == nil {
			r.add("S103", table.At, "add "+f.Name+" = …", "%s has no %q: %s", where, f.Name, f.About)
		}
	}
	if len(exclusive) > 0 && len(have) == 0 && !unknown {
		r.add("S103", table.At, "add one", "%s needs one of %s", where, strings.Join(exclusive, ", "))
	}
}

// rows takes a list of tables.
func rows[T any](r *reader, n *node, fields []field[T], where string) []T {
	out := make([]T, len(n.Items))
	for i, item := range n.Items {
		fill(r, &out[i], item, fields, fmt.Sprintf("%s %d of stage %s", where, i+1, r.stage))
	}
	return out
}

// suggest names the candidate that comes near, or lists them all.
func suggest(text string, candidates []string, lead string) string {
	if near := files.Closest(text, candidates); near != "" {
		return fmt.Sprintf("did you mean %q?", near)
	}
	if len(candidates) == 0 {
		return ""
	}
	more := ""
	if len(candidates) > 30 {
		candidates, more = candidates[:30], " …"
	}
	return lead + strings.Join(candidates, ", ") + more
}

func all(items []*node, kind document.Kind) bool {
	return !slices.ContainsFunc(items, func(i *node) bool { return i.Kind != kind })
}

func allEntries(n *node, fits func(*node) bool) bool {
	for _, e := range n.Entries {
		if !fits(e.Value) {
			return false
		}
	}
	return true
}

func (r *reader) fits(k Key, n *node) bool {
	isText := func(n *node) bool { return n.Kind == document.Text }
	isTexts := func(n *node) bool { return n.Kind == document.Array && all(n.Items, document.Text) }
	isPairs := func(n *node) bool { return n.Kind == document.Table && allEntries(n, isText) }
	ok := false
	switch k.Form {
	case TextForm, LengthForm:
		ok = isText(n)
	case NameForm:
		if ok = isText(n); ok {
			if _, err := artifact.ParseName(k.Name, n.Text); err != nil {
				r.fault("S102", n.At, err)
				return false
			}
		}
	case PickForm, CommandForm:
		if k.Form == CommandForm && n.Kind == document.Array {
			ok = isTexts(n) && len(n.Items) > 0
		} else if ok = isText(n); ok && !slices.Contains(k.Picks, n.Text) {
			r.add("S102", n.At, suggest(n.Text, k.Picks, "one of "), "%q is not a %s", n.Text, k.Name)
			return false
		}
	case TruthForm:
		ok = n.Kind == document.Bool
	case NumberForm:
		if ok = n.Kind == document.Integer; ok && k.Most > 0 {
			if v, err := wholeNumber(n.Text); err != nil || v < 1 || v > int64(k.Most) {
				r.add("S102", n.At, "", "%q takes 1 to %d", k.Name, k.Most)
				return false
			}
		}
	case TextsForm:
		ok = isTexts(n)
	case PairsForm:
		ok = isPairs(n)
	case ListsForm:
		ok = n.Kind == document.Table && allEntries(n, isTexts)
	case PairRows:
		ok = n.Kind == document.Array && !slices.ContainsFunc(n.Items, func(i *node) bool { return !isPairs(i) })
	case TableForm:
		ok = n.Kind == document.Table
	case TablesForm:
		ok = n.Kind == document.Array && all(n.Items, document.Table)
	case NamedForm:
		ok = n.Kind == document.Table && allEntries(n, func(n *node) bool { return n.Kind == document.Table })
	}
	if !ok {
		r.add("S102", n.At, "", "%q takes %s", k.Name, k.Form)
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

// afterwards notes a check that needs the whole file; it gets the stage in which it was noted,
// nil outside stages.
func (r *reader) afterwards(check func(*Pipeline, *Stage)) {
	stage := r.stage
	r.later = append(r.later, func(p *Pipeline) {
		s, _ := p.Stage(stage)
		check(p, s)
	})
}

// wholeNumber reads a number as it is written in TOML, with its signs, underscores and bases.
func wholeNumber(text string) (int64, error) {
	return strconv.ParseInt(strings.TrimPrefix(text, "+"), 0, 64)
}
