package language

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"oskeld.dev/oskeld/internal/core/artifact"
	"oskeld.dev/oskeld/internal/core/clock"
	"oskeld.dev/oskeld/internal/core/fault"
	"oskeld.dev/oskeld/internal/core/files"
)

func (r *reader) starts(n *node) []Start {
	list := make([]Start, len(n.Items))
	for i, item := range n.Items {
		where := fmt.Sprintf("start rule %d", i+1)
		fill(r, &list[i], item, startFields, where)
		keys := item.Entries
		if e := keys["branch"]; e != nil && keys["clock"] == nil && keys["after"] == nil && (keys["push"] != nil || keys["tag"] != nil) {
			r.add("S112", e.At, "leave it out", "`branch` of %s belongs to `clock` and `after`", where)
		}
		for _, key := range []string{"push", "tag"} {
			if e := keys[key]; e != nil && len(e.Value.Items) == 0 {
				r.add("S118", e.Value.At, "name at least one pattern", "%s starts nothing", where)
			}
		}
		if e := keys["after"]; e != nil {
			r.afterwards(func(p *Pipeline, _ *Stage) {
				if artifact.Name(e.Value.Text) == p.Name {
					r.add("S118", e.Value.At, "name another pipeline", "a pipeline that starts after itself never ends")
				}
			})
		}
	}
	return list
}

// Location is the time zone of a clock rule.
func (s Start) Location() *time.Location {
	zone, err := time.LoadLocation(s.Zone)
	if err != nil {
		return time.UTC
	}
	return zone
}

// Next gives the next n instants of a clock rule, in its zone; none for other rules.
func (s Start) Next(after time.Time, n int) (list []time.Time) {
	rule, err := clock.Parse(s.Clock)
	if err != nil {
		return nil
	}
	for range n {
		at, ok := rule.Next(after, s.Location())
		if !ok {
			break
		}
		list = append(list, at)
		after = at
	}
	return list
}

// String says in words what starts a build.
func (s Start) String() string {
	branch := "the default branch"
	if s.Branch != "" {
		branch = s.Branch
	}
	switch {
	case len(s.Push) > 0 && len(s.Unless) > 0:
		return fmt.Sprintf("a push to %s, unless it touches only %s", strings.Join(s.Push, ", "), strings.Join(s.Unless, ", "))
	case len(s.Push) > 0:
		return "a push to " + strings.Join(s.Push, ", ")
	case len(s.Tag) > 0:
		return "a pushed tag that fits " + strings.Join(s.Tag, ", ")
	case s.Clock != "":
		return fmt.Sprintf("the clock, %s in %s, on %s", s.Clock, s.Location(), branch)
	}
	return fmt.Sprintf("a passed build of %s, on %s", s.After, branch)
}

// Move is a branch or a tag of a source that came or moved; one of the two is named. Changed are the
// paths that the move touched, none when that is not known.
type Move struct {
	Branch, Tag string
	Changed     []string
}

// String names what moved.
func (m Move) String() string {
	if m.Tag != "" {
		return "tag " + m.Tag
	}
	return "branch " + m.Branch
}

// Begins tells whether one of the start rules is about a move of the source, and else why none is.
func (p *Pipeline) Begins(m Move) (begins bool, why string) {
	why = "no start rule is about " + m.String()
	for _, s := range p.Starts {
		switch {
		case m.Tag != "" && matches(s.Tag, m.Tag):
			return true, ""
		case m.Branch == "" || !matches(s.Push, m.Branch):
		case len(m.Changed) > 0 && !slices.ContainsFunc(m.Changed, func(path string) bool { return !matches(s.Unless, path) }):
			why = fmt.Sprintf("it touches only %s, which `unless` leaves out", some(m.Changed, 3))
		default:
			return true, ""
		}
	}
	return false, why
}

func matches(patterns []string, name string) bool {
	p, err := files.ParsePatterns(patterns)
	return err == nil && len(patterns) > 0 && p.Match(name)
}

// some names the first n of a list, and how many there are besides.
func some(list []string, n int) string {
	if len(list) <= n {
		return strings.Join(list, ", ")
	}
	return fmt.Sprintf("%s and %d more", strings.Join(list[:n], ", "), len(list)-n)
}

// Expand gives the pipeline with the steps of its routines in place of the steps that use them.
// Files holds the text of each routine's file by its reference; see Routines.
func Expand(p *Pipeline, files map[string][]byte) (*Pipeline, error) {
	out := *p
	out.Stages = slices.Clone(p.Stages)
	for i := range out.Stages {
		s := &out.Stages[i]
		var steps []Step
		for _, step := range s.Steps {
			if step.Routine == nil {
				steps = append(steps, step)
				continue
			}
			more, err := expand(step, files[step.Routine.Routine])
			if err != nil {
				return nil, err
			}
			steps = append(steps, more...)
		}
		s.Steps = steps
	}
	return &out, nil
}

// Routines lists the references of the routines that the pipeline uses, each once.
func (p *Pipeline) Routines() (refs []string) {
	for _, s := range p.Stages {
		for _, step := range s.Steps {
			if step.Routine != nil && !slices.Contains(refs, step.Routine.Routine) {
				refs = append(refs, step.Routine.Routine)
			}
		}
	}
	return refs
}

// expand gives the steps of a routine, each with what the step that uses it says.
func expand(use Step, text []byte) ([]Step, error) {
	ref := use.Routine.Routine
	routine, diagnostics := ReadRoutine(ref, text)
	if routine == nil {
		return nil, fault.Invalid("routine %s has mistakes:\n%s", ref, diagnostics.Text()).Hint("use a version that has none")
	}
	asks, err := Choose(routine.Asks, use.Routine.Ask)
	if err != nil {
		f, _ := err.(*fault.Error)
		return nil, fault.Invalid("routine %s: %s", ref, f.Message).Hint("%s", f.Advice)
	}
	steps := make([]Step, len(routine.Steps))
	for i, step := range routine.Steps {
		lead := use.Name
		if lead == "" {
			lead = routine.Name
		}
		step.Name = lead + ": " + step.Title(i)
		step.Asks, step.UseWhen = asks, use.When
		step.In = strings.Trim(use.In+"/"+step.In, "/")
		step.Env = merged(use.Env, step.Env)
		if step.Limit == 0 {
			step.Limit = use.Limit
		}
		step.Forgive, step.Off = step.Forgive || use.Forgive, step.Off || use.Off
		steps[i] = step
	}
	return steps, nil
}

func merged(under, over map[string]string) map[string]string {
	out := map[string]string{}
	for _, m := range []map[string]string{under, over} {
		for k, v := range m {
			out[k] = v
		}
	}
	return out
}
