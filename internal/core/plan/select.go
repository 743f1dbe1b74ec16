package plan

import (
	"slices"
	"strings"

	"oskeld.dev/oskeld/internal/core/fault"
	"oskeld.dev/oskeld/internal/core/files"
	"oskeld.dev/oskeld/internal/core/language"
)

// Part says which part of a plan to run. UpTo are stages that run with all that they need, Only
// stages that run by themselves, From stages that run with all that comes after them; at most one
// of the three is set. Variant leaves out the runs that do not agree with it.
type Part struct {
	UpTo, Only, From []string
	Variant          language.Variant
}

// Select gives the part of the plan, and for each of its runs the index in the whole. A run whose
// workspace is that of one left out begins the chain.
func (p Plan) Select(part Part) (Plan, []int, error) {
	named := slices.Concat(part.UpTo, part.Only, part.From)
	if err := p.known(named, part.Variant); err != nil {
		return Plan{}, nil, err
	}
	keep := make([]bool, len(p.Runs))
	for i, r := range p.Runs {
		keep[i] = len(named) == 0 || slices.Contains(named, string(r.Stage.Name))
	}
	needs := func(r Run) []int {
		if r.Follows >= 0 {
			return append(slices.Clone(r.After), r.Follows)
		}
		return r.After
	}
	switch {
	case len(part.UpTo) > 0:
		for i := len(p.Runs) - 1; i >= 0; i-- {
			for _, n := range needs(p.Runs[i]) {
				keep[n] = keep[n] || keep[i]
			}
		}
	case len(part.From) > 0:
		for i, r := range p.Runs {
			keep[i] = keep[i] || slices.ContainsFunc(needs(r), func(n int) bool { return keep[n] })
		}
	}
	for i, r := range p.Runs {
		keep[i] = keep[i] && r.Variant.Agrees(part.Variant)
	}
	return p.Keep(keep)
}

// known refuses stages and values that the plan does not have.
func (p Plan) known(named []string, variant language.Variant) error {
	var stages []string
	values := map[string][]string{}
	for _, r := range p.Runs {
		if name := string(r.Stage.Name); !slices.Contains(stages, name) {
			stages = append(stages, name)
		}
		for _, pair := range r.Variant {
			if !slices.Contains(values[pair.Axis], pair.Value) {
				values[pair.Axis] = append(values[pair.Axis], pair.Value)
			}
		}
	}
	for _, name := range named {
		if !slices.Contains(stages, name) {
			e := fault.Missing("there is no stage %q", name)
			if near := files.Closest(name, stages); near != "" {
				return e.Hint("did you mean %q?", near)
			}
			return e.Hint("stages: %s", strings.Join(stages, ", "))
		}
	}
	for _, pair := range variant {
		if len(values[pair.Axis]) == 0 {
			return fault.Missing("no stage varies over %q", pair.Axis)
		}
		if !slices.Contains(values[pair.Axis], pair.Value) {
			return fault.Missing("%q is not a value of axis %q", pair.Value, pair.Axis).Hint("one of %s", strings.Join(values[pair.Axis], ", "))
		}
	}
	return nil
}

// Keep gives the plan of the runs that are kept, and for each its index in the whole.
func (p Plan) Keep(keep []bool) (Plan, []int, error) {
	out := p
	out.Runs, out.Chains = nil, nil
	at := make([]int, len(p.Runs)) // of each run in the part
	chains := map[int]int{}
	var from []int
	renamed := func(list []int) (kept []int) {
		for _, i := range list {
			if keep[i] {
				kept = append(kept, at[i])
			}
		}
		return kept
	}
	for i, r := range p.Runs {
		if at[i] = len(out.Runs); !keep[i] {
			continue
		}
		before := r.Follows
		for before >= 0 && !keep[before] {
			before = p.Runs[before].Follows
		}
		if r.Follows = -1; before >= 0 {
			r.Follows = at[before]
		}
		r.After = renamed(r.After)
		of := r.Chain
		if _, ok := chains[of]; !ok {
			chains[of] = len(out.Chains)
			whole := p.Chains[of]
			out.Chains = append(out.Chains, Chain{Demand: whole.Demand, Tools: whole.Tools, Needs: renamed(whole.Needs), Carried: renamed(whole.Carried)})
		}
		r.Chain = chains[of]
		out.Chains[r.Chain].Runs = append(out.Chains[r.Chain].Runs, at[i])
		out.Runs = append(out.Runs, r)
		from = append(from, i)
	}
	if len(out.Runs) == 0 {
		return out, nil, fault.Invalid("nothing is left to run").Hint("name a stage that has such a variant")
	}
	return out, from, nil
}

// Missing lists the runs of the whole plan whose carried files a part needs and does not make.
func (p Plan) Missing(from []int) (list []int) {
	kept := map[int]bool{}
	for _, i := range from {
		kept[i] = true
	}
	for _, i := range from {
		for _, c := range p.Chains[p.Runs[i].Chain].Carried {
			if !kept[c] && !slices.Contains(list, c) {
				list = append(list, c)
			}
		}
	}
	return list
}
