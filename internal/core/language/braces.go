package language

import (
	"errors"
	"slices"
	"strings"

	"oskeld.dev/oskeld/internal/core/artifact"
	"oskeld.dev/oskeld/internal/core/condition"
	"oskeld.dev/oskeld/internal/core/files"
)

// filled checks the braces of a text once the whole file is read; then gives it with samples filled
// in to a further check. Where the values vary, with each of them.
func (r *reader) filled(n *node, check func(sample string)) { r.filledText(n, n.Text, check) }

func (r *reader) filledText(n *node, text string, check func(sample string)) {
	if !strings.ContainsAny(text, "{}") {
		check(text)
		return
	}
	r.afterwards(func(p *Pipeline, s *Stage) {
		samples, known := p.samples(s)
		t, err := condition.ParseTemplate(text, known)
		if err != nil {
			if text != n.Text { // its places are not those of the value
				r.fault("S108", n.At, err)
				return
			}
			r.braces(n, err)
			return
		}
		seen := map[string]bool{}
		for _, values := range samples {
			if text := t.Fill(values); !seen[text] {
				seen[text] = true
				check(text)
			}
		}
	})
}

// BraceNames are the names that braces know in a stage, or outside stages for nil.
func (p *Pipeline) BraceNames(s *Stage) []string {
	known := slices.Clone(Values)
	for _, a := range p.Asks {
		known = append(known, "ask."+a.Name)
	}
	if s != nil {
		for _, axis := range p.Axes(s) {
			known = append(known, "vary."+axis)
		}
	}
	return known
}

// samples are values for all that braces know: one set, or one for each variant, at most a hundred.
func (p *Pipeline) samples(s *Stage) (list []map[string]string, known []string) {
	sample := map[string]string{"version": "1.0.0", "commit": "0000000", "branch": "main", "tag": "v1", "number": "1", "pipeline": "p", "date": "20260101", "time": "120000"}
	for _, a := range p.Asks {
		sample["ask."+a.Name] = a.Usual
		if a.Usual == "" {
			sample["ask."+a.Name] = "x"
		}
	}
	variants := []Variant{nil}
	if s != nil && p.variations(s) <= MostRuns {
		variants = p.Variants(s)
	}
	for _, v := range variants[:min(len(variants), 100)] {
		values := make(map[string]string, len(sample)+len(v))
		for name, value := range sample {
			values[name] = value
		}
		for _, pair := range v {
			values["vary."+pair.Axis] = pair.Value
		}
		list = append(list, values)
	}
	return list, p.BraceNames(s)
}

func (r *reader) braces(n *node, err error) {
	if b, ok := errors.AsType[*condition.BraceError](err); ok {
		r.add("S108", n.Inner(r.text, b.Offset, b.Length), b.Advice, "%s", b.Message)
		return
	}
	r.fault("S108", n.At, err)
}

func (r *reader) filledPath(n *node) string {
	r.filled(n, func(sample string) {
		if err := files.CheckInside(sample); err != nil {
			r.fault("S109", n.At, err)
		}
	})
	return n.Text
}

func (r *reader) filledName(n *node, what string) string {
	r.filled(n, func(sample string) {
		if _, err := artifact.ParseName(what, sample); err != nil {
			r.fault("S102", n.At, err)
		}
	})
	return n.Text
}
