// Package plan turns a pipeline and what started it into stage runs and chains.
//
//	p, err := plan.Make(pipeline)
//	p, err = p.Settle(scope, values) // once number and version are known
package plan

import (
	"errors"
	"fmt"
	"slices"

	"oskeld.dev/oskeld/internal/core/artifact"
	"oskeld.dev/oskeld/internal/core/condition"
	"oskeld.dev/oskeld/internal/core/facts"
	"oskeld.dev/oskeld/internal/core/fault"
	"oskeld.dev/oskeld/internal/core/language"
)

// Plan is what a build will do. Runs and chains are known by their index.
type Plan struct {
	Env    map[string]string `json:"env,omitempty"`
	Runs   []Run             `json:"runs"`
	Chains []Chain           `json:"chains"`
}

// Run is one stage in the build. Follows is the run whose workspace it goes on in, -1 for none;
// After are the runs that it waits for.
type Run struct {
	Stage   language.Stage `json:"stage"`
	Chain   int            `json:"chain"`
	Follows int            `json:"follows"`
	After   []int          `json:"after,omitempty"`
	Skip    string         `json:"skip,omitempty"` // why it is skipped by its own `when`
}

// Chain is a list of runs for one agent and one workspace, in order. Needs are the runs that must
// be satisfied before it is handed out; Carried are those whose carried files are laid in.
type Chain struct {
	Runs    []int        `json:"runs"`
	Demand  facts.Demand `json:"demand,omitempty"`
	Needs   []int        `json:"needs,omitempty"`
	Carried []int        `json:"carried,omitempty"`
}

// Make plans a checked pipeline. Stages stand in an order in which each comes after what it needs.
func Make(p *language.Pipeline) (Plan, error) {
	out := Plan{Env: p.Env}
	index := map[artifact.Name]int{}
	var add func(s language.Stage) error
	add = func(s language.Stage) error {
		if _, ok := index[s.Name]; ok {
			return nil
		}
		index[s.Name] = -1 // a circle would come back here; the language has refused it
		run := Run{Stage: s, Follows: -1}
		parents := s.After
		if s.Follows != "" {
			parents = []artifact.Name{s.Follows}
		}
		for _, name := range parents {
			parent, ok := p.Stage(name)
			if !ok {
				return fault.Invalid("stage %q needs %q, which does not exist", s.Name, name)
			}
			if err := add(*parent); err != nil {
				return err
			}
			if index[name] < 0 {
				return fault.Invalid("stages %q and %q wait for each other", s.Name, name)
			}
			if s.Follows != "" {
				run.Follows = index[name]
			} else {
				run.After = append(run.After, index[name])
			}
		}
		return out.place(run, index)
	}
	for _, s := range p.Stages {
		if err := add(s); err != nil {
			return Plan{}, err
		}
	}
	return out, nil
}

func (p *Plan) place(run Run, index map[artifact.Name]int) error {
	at := len(p.Runs)
	index[run.Stage.Name] = at
	if run.Follows >= 0 {
		run.Chain = p.Runs[run.Follows].Chain
		chain := &p.Chains[run.Chain]
		demand, err := chain.Demand.Join(run.Stage.Facts)
		if err != nil {
			return err
		}
		chain.Demand = demand
		chain.Runs = append(chain.Runs, at)
	} else {
		run.Chain = len(p.Chains)
		demand, err := facts.Demand{}.Join(run.Stage.Facts)
		if err != nil {
			return err
		}
		chain := Chain{Runs: []int{at}, Demand: demand, Needs: slices.Clone(run.After)}
		for _, need := range run.After {
			for i := need; i >= 0; i = p.Runs[i].Follows {
				if len(p.Runs[i].Stage.Carry) > 0 && !slices.Contains(chain.Carried, i) {
					chain.Carried = append(chain.Carried, i)
				}
			}
		}
		p.Chains = append(p.Chains, chain)
	}
	p.Runs = append(p.Runs, run)
	return nil
}

// Settle evaluates each stage's `when` and fills braces, now that the build's number and version
// are known. The plan it is called on stays as it is.
func (p Plan) Settle(scope condition.Scope, values map[string]string) (Plan, error) {
	runs := slices.Clone(p.Runs)
	for i := range runs {
		s := &runs[i].Stage
		if s.When != "" {
			c, err := condition.Compile(condition.When, s.When)
			if err != nil {
				return Plan{}, err
			}
			holds, err := c.Holds(scope)
			if err != nil {
				return Plan{}, fault.Invalid("`when` of stage %q cannot be told: %v", s.Name, err)
			}
			if !holds {
				runs[i].Skip = "when " + s.When + " is false"
			}
		}
		s.Artifacts = slices.Clone(s.Artifacts)
		for j := range s.Artifacts {
			a := &s.Artifacts[j]
			var err, err2 error
			a.File, err = fillText(a.File, values)
			a.Root, err2 = fillText(a.Root, values)
			if err := errors.Join(err, err2); err != nil {
				return Plan{}, err
			}
			if a.File != "" {
				if err := artifact.CheckPath(a.File); err != nil {
					return Plan{}, fault.Invalid("artifact %q of stage %q would be delivered as %q", a.Name, s.Name, a.File).
						Hint("a file's name is relative and without \"..\"")
				}
			}
		}
	}
	p.Runs = runs
	return p, nil
}

func fillText(text string, values map[string]string) (string, error) {
	t, err := condition.ParseTemplate(text, language.Values)
	if err != nil {
		return "", err
	}
	return t.Fill(values), nil
}

// Target is a place in a store that the build will fill.
type Target struct {
	Store, Name artifact.Name
}

// Targets lists what the build will deliver, each once, in the order of the file. Stages that are
// skipped deliver nothing.
func (p Plan) Targets() (list []Target) {
	for _, r := range p.Runs {
		if r.Skip != "" {
			continue
		}
		for _, a := range r.Stage.Artifacts {
			if t := (Target{a.Store, a.Name}); !slices.Contains(list, t) {
				list = append(list, t)
			}
		}
	}
	return list
}

// Unmet says which chains no agent can take, and what the nearest lacks; nil when all can.
func (p Plan) Unmet(agents []facts.Agent) error {
	for _, c := range p.Chains {
		if slices.ContainsFunc(agents, func(a facts.Agent) bool { return len(c.Demand.Against(a.Facts)) == 0 }) {
			continue
		}
		stage := p.Runs[c.Runs[0]].Stage.Name
		return fault.Refused("no agent can run stage %q: it needs %s; %s", stage, c.Demand, c.Demand.Nearest(agents)).
			Hint("start an agent that has it (oskeld agent run), or change `facts` of the stage")
	}
	return nil
}

// String gives the chains in words, for people who read a plan.
func (p Plan) String() string {
	var s string
	for _, c := range p.Chains {
		for i, r := range c.Runs {
			if i > 0 {
				s += " → "
			}
			s += string(p.Runs[r].Stage.Name)
		}
		s += fmt.Sprintf(" (%s)\n", c.Demand)
	}
	return s
}
