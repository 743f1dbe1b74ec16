package plan

import (
	"slices"

	"oskeld.dev/oskeld/internal/core/artifact"
	"oskeld.dev/oskeld/internal/core/condition"
	"oskeld.dev/oskeld/internal/core/fault"
)

// Settle evaluates each stage's `when` and fills braces, now that the build's number and version
// are known. The plan it is called on stays as it is.
func (p Plan) Settle(scope condition.Scope, values map[string]string) (Plan, error) {
	p.Runs = slices.Clone(p.Runs)
	scope.Asks = p.Asks
	for i := range p.Runs {
		r := &p.Runs[i]
		if err := p.settleWhen(r, scope); err != nil {
			return Plan{}, err
		}
		if err := r.fill(p.Values(i, values)); err != nil {
			return Plan{}, err
		}
	}
	return p, nil
}

func (p *Plan) settleWhen(r *Run, scope condition.Scope) error {
	if r.Stage.When == "" {
		return nil
	}
	names := p.Names
	names.Axes = axes(r)
	c, err := condition.Compile(condition.When, r.Stage.When, names)
	if err != nil {
		return err
	}
	if r.Late = c.Late(); r.Late {
		return nil
	}
	scope.Vary = r.Variant.Map()
	holds, err := c.Holds(scope)
	if err != nil {
		return fault.Invalid("`when` of stage %q cannot be told: %v", r.Title(), err)
	}
	if !holds {
		r.Skip = "when " + r.Stage.When + " is false"
	}
	return nil
}

func axes(r *Run) (names []string) {
	for _, pair := range r.Variant {
		names = append(names, pair.Axis)
	}
	return names
}

// fill puts values into all texts of a run that may hold braces.
func (r *Run) fill(values map[string]string) error {
	f := filler{values: values}
	s := &r.Stage
	f.text(&s.In)
	s.Steps = slices.Clone(s.Steps)
	for i := range s.Steps {
		step := &s.Steps[i]
		f.text(&step.In)
		if step.Stamp != nil {
			stamp := *step.Stamp
			f.text(&stamp.File)
			f.text(&stamp.From)
			step.Stamp = &stamp
		}
		if step.Fetch != nil {
			fetch := *step.Fetch
			f.text(&fetch.Artifact)
			f.text(&fetch.Into)
			step.Fetch = &fetch
		}
	}
	s.Artifacts = slices.Clone(s.Artifacts)
	for i := range s.Artifacts {
		a := &s.Artifacts[i]
		name := string(a.Name)
		f.text(&name)
		a.Name = artifact.Name(name)
		f.text(&a.File)
		f.text(&a.Root)
		a.Files = slices.Clone(a.Files)
		for j := range a.Files {
			a.Files[j] = condition.Alternatives(a.Files[j])
			f.text(&a.Files[j])
		}
		if f.err != nil {
			return f.err
		}
		if _, err := artifact.ParseName("artifact", name); err != nil {
			return err
		}
		if a.File != "" {
			if err := artifact.CheckPath(a.File); err != nil {
				return fault.Invalid("artifact %q of stage %q would be delivered as %q", a.Name, r.Title(), a.File).
					Hint("a file's name is relative and without \"..\"")
			}
		}
	}
	return f.err
}

// filler fills texts until one fails.
type filler struct {
	values map[string]string
	err    error
}

func (f *filler) text(text *string) {
	if f.err == nil {
		*text, f.err = condition.Fill(*text, f.values)
	}
}
