package language

import (
	"fmt"
	"slices"

	"oskeld.dev/oskeld/internal/core/artifact"
	"oskeld.dev/oskeld/internal/core/document"
)

// MostRuns is how many stage runs a build may have.
const MostRuns = 1000

func (r *reader) stages(p *Pipeline, n *node) {
	if len(n.Keys) > MostRuns {
		r.add("S115", n.At, "split the pipeline", "%d stages; a build has at most %d stage runs", len(n.Keys), MostRuns)
		return
	}
	if len(n.Keys) == 0 {
		r.add("S103", n.At, "write [stage.compile] and a script", "there is no stage")
	}
	for _, key := range n.Keys {
		e := n.Entries[key]
		name, err := artifact.ParseName("stage", key)
		if err != nil {
			r.fault("S102", e.At, err)
			continue
		}
		s := Stage{Name: name, Purpose: Other, Duty: DutyFail}
		if slices.Contains(purposes, key) {
			s.Purpose = Purpose(key)
		}
		r.stageAt[name] = e
		r.stage, r.shell = name, nil
		fill(r, &s, e.Value, stageFields, "stage "+key)
		for i := range s.Steps {
			if s.Steps[i].Shell == nil {
				s.Steps[i].Shell = r.shell
			}
		}
		r.implied(p, &s, e)
		p.Stages = append(p.Stages, s)
	}
	r.stage = ""
}

// implied settles what a stage does not say: it follows the stage above.
func (r *reader) implied(p *Pipeline, s *Stage, e *entry) {
	keys := e.Value.Entries
	if keys["after"] == nil && keys["follows"] == nil && len(p.Stages) > 0 {
		above := &p.Stages[len(p.Stages)-1]
		if s.Follows = above.Name; len(s.Vary) > 0 && !sameAxes(p.Axes(above), axisNames(s)) {
			s.Follows = ""
			r.add("S103", keys["vary"].At, fmt.Sprintf("add after = [%q]", above.Name), "stage %q varies, so it must say what it comes after", s.Name)
		}
	}
}

func axisNames(s *Stage) (names []string) {
	for _, a := range s.Vary {
		names = append(names, a.Name)
	}
	return names
}

func sameAxes(a, b []string) bool {
	return len(a) == len(b) && !slices.ContainsFunc(a, func(x string) bool { return !slices.Contains(b, x) })
}

func (r *reader) steps(n *node, where string, before []Step) (list []Step) {
	for i, item := range n.Items {
		var step Step
		fill(r, &step, item, stepFields, fmt.Sprintf("step %d of %s", len(before)+i+1, where))
		list = append(list, step)
	}
	return list
}

func (r *reader) artifacts(s *Stage, n *node) {
	for i, item := range n.Items {
		a := Artifact{Pack: PackNone, Duty: DutyFail}
		fill(r, &a, item, artifactFields, fmt.Sprintf("artifact %d of stage %s", i+1, s.Name))
		switch e := item.Entries["file"]; {
		case a.Pack == PackNone && e != nil && len(a.Files) != 1:
			r.add("S112", e.At, "say pack = \"zip\", or name exactly one pattern in files", "`file` names one file, and nothing packs these into one")
		case a.Pack != PackNone && a.File == "" && a.Name != "":
			a.File = string(a.Name) + "-{version}." + string(a.Pack)
		}
		s.Artifacts = append(s.Artifacts, a)
	}
}

func (r *reader) axes(n *node) (list []Axis) {
	for _, key := range n.Keys {
		e := n.Entries[key]
		switch {
		case !askName.MatchString(key):
			r.add("S116", e.At, "lower-case letters, digits and \"_\"", "%q cannot be the name of an axis", key)
			continue
		case len(e.Value.Items) == 0:
			r.add("S116", e.Value.At, "name at least one value", "axis %q has no value", key)
			continue
		}
		axis := Axis{key, texts(e.Value)}
		for i, v := range axis.Values {
			if _, err := artifact.ParseName("value", v); err != nil {
				r.fault("S116", e.Value.Items[i].At, err)
			} else if slices.Contains(axis.Values[:i], v) {
				r.add("S106", e.Value.Items[i].At, "leave one out", "%q stands twice", v)
			}
		}
		list = append(list, axis)
	}
	if len(list) == 0 && len(n.Keys) == 0 {
		r.add("S116", n.At, `as in vary = { os = ["linux", "windows"] }`, "`vary` has no axis")
	}
	return list
}

func variants(n *node) (list []Variant) {
	for _, item := range n.Items {
		var v Variant
		for _, key := range item.Keys {
			v = append(v, Pair{key, item.Entries[key].Value.Text})
		}
		list = append(list, v)
	}
	return list
}

// variations is how many variants a stage runs in at most, its own or those that it inherits.
func (p *Pipeline) variations(s *Stage) int {
	root := p.varying(s)
	return product(root.Vary) + len(root.Also)
}

// varying is the stage whose variants a stage runs in: itself, or the nearest before it in its
// chain that varies.
func (p *Pipeline) varying(s *Stage) *Stage {
	for range len(p.Stages) {
		before, ok := p.Stage(s.Follows)
		if len(s.Vary) > 0 || s.Follows == "" || !ok {
			return s
		}
		s = before
	}
	return s
}

// Variants lists the variants that a stage runs in, its own or those that it inherits.
func (p *Pipeline) Variants(s *Stage) []Variant { return p.varying(s).Variants() }

// vary checks axes, omissions and additions of one stage.
func (r *reader) vary(p *Pipeline, s *Stage) {
	e := r.stageAt[s.Name].Value.Entries
	axes := axisNames(s)
	for _, key := range []string{"omit", "also"} {
		if e[key] == nil || len(axes) == 0 {
			continue
		}
		for _, item := range e[key].Value.Items {
			if item.Kind == document.Table {
				r.combination(s, key, item, axes)
			}
		}
	}
	for i, axis := range s.Match {
		at := r.itemAt(s.Name, "match", axis)
		own := p.Axes(s)
		if !slices.Contains(own, axis) {
			r.add("S116", at, suggest(axis, own, "it varies over "), "stage %q does not vary over %q", s.Name, axis)
		} else if slices.Contains(s.Match[:i], axis) {
			r.add("S106", at, "leave one out", "%q stands twice", axis)
		} else if !slices.ContainsFunc(s.After, func(name artifact.Name) bool {
			parent, ok := p.Stage(name)
			return ok && slices.Contains(p.Axes(parent), axis)
		}) {
			r.add("S116", at, "leave it out", "no stage that %q comes after varies over %q", s.Name, axis)
		}
	}
	if before, ok := p.Stage(s.Follows); ok && len(s.Vary) > 0 {
		if !sameAxes(p.Axes(before), axes) {
			r.add("S116", r.keyAt(s.Name, "vary"), fmt.Sprintf("say after = [%q], or vary over the same axes", before.Name), "stage %q follows %q and varies over other axes", s.Name, before.Name)
		} else if p.variations(s) <= MostRuns && p.variations(before) <= MostRuns {
			theirs := p.Variants(before)
			for _, v := range s.Variants() {
				if !slices.ContainsFunc(theirs, v.fits) {
					r.add("S116", r.keyAt(s.Name, "vary"), fmt.Sprintf("say after = [%q], or omit it", before.Name), "stage %q follows %q, which has no variant %q", s.Name, before.Name, v)
				}
			}
		}
	}
	if len(s.Vary) > 0 && p.variations(s) <= MostRuns && len(s.Variants()) == 0 {
		r.add("W203", r.keyAt(s.Name, "omit"), "omit fewer", "every variant of stage %q is omitted: it never runs", s.Name)
	}
}

// combination checks one table under omit or also.
func (r *reader) combination(s *Stage, key string, item *node, axes []string) {
	for _, axis := range item.Keys {
		e := item.Entries[axis]
		i := slices.Index(axes, axis)
		if i < 0 {
			r.add("S116", e.At, suggest(axis, axes, "it varies over "), "stage %q does not vary over %q", s.Name, axis)
		} else if values := s.Vary[i].Values; key == "omit" && !slices.Contains(values, e.Value.Text) {
			r.add("S116", e.Value.At, suggest(e.Value.Text, values, "one of "), "%q is not a value of axis %q, so this omits nothing", e.Value.Text, axis)
		} else if _, err := artifact.ParseName("value", e.Value.Text); err != nil {
			r.fault("S116", e.Value.At, err)
		}
	}
	if key == "also" && len(item.Keys) != len(axes) && len(item.Keys) > 0 {
		r.add("S116", item.Entries[item.Keys[0]].At, "give a value for each axis", "a combination that is added names all axes of stage %q", s.Name)
	}
	if len(item.Keys) == 0 {
		r.add("S116", item.At, "name an axis and a value", "an empty combination under `%s` of stage %q", key, s.Name)
	}
}

// keyAt is the place of a stage's key, or of the stage.
func (r *reader) keyAt(stage artifact.Name, key string) span {
	e := r.stageAt[stage]
	if k := e.Value.Entries[key]; k != nil {
		return k.At
	}
	return e.At
}

// itemAt is the place of a text in a list of a stage.
func (r *reader) itemAt(stage artifact.Name, key, text string) span {
	if list := r.stageAt[stage].Value.Entries[key]; list != nil {
		for _, item := range append([]*node{list.Value}, list.Value.Items...) {
			if item.Kind == document.Text && item.Text == text {
				return item.At
			}
		}
	}
	return r.keyAt(stage, key)
}
