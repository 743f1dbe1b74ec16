// Package plan turns a pipeline and what started it into stage runs and chains.
//
//	p, err := plan.Make(pipeline, asks)
//	p, err = p.Settle(scope, values) // once number and version are known
package plan

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"oskeld.dev/oskeld/internal/core/artifact"
	"oskeld.dev/oskeld/internal/core/condition"
	"oskeld.dev/oskeld/internal/core/facts"
	"oskeld.dev/oskeld/internal/core/fault"
	"oskeld.dev/oskeld/internal/core/language"
)

// Plan is what a build will do. Runs and chains are known by their index; a run stands after all
// that it needs.
type Plan struct {
	Env     map[string]string `json:"env,omitempty"`
	Overlap language.Overlap  `json:"overlap,omitempty"`
	Asks    []condition.Value `json:"asks,omitempty"`
	Names   condition.Names   `json:"names,omitzero"`
	Runs    []Run             `json:"runs"`
	Chains  []Chain           `json:"chains"`
}

// Run is one stage, in one variant, in the build. Follows is the run whose workspace it goes on in,
// -1 for none; After are the runs that it waits for.
type Run struct {
	Stage   language.Stage   `json:"stage"`
	Variant language.Variant `json:"variant,omitempty"`
	Chain   int              `json:"chain"`
	Follows int              `json:"follows"`
	After   []int            `json:"after,omitempty"`
	Halting bool             `json:"halting,omitempty"` // its failure stops the other variants of the stage
	Skip    string           `json:"skip,omitempty"`    // why it is skipped by its own `when`
	Late    bool             `json:"late,omitempty"`    // its `when` can be told only when it comes to run
}

// Title is the stage's name with the variant's values, as people read it: "compile linux amd64".
func (r Run) Title() string {
	return strings.TrimSpace(string(r.Stage.Name) + " " + r.Variant.String())
}

// Chain is a list of runs for one agent and one workspace, in order. Needs are the runs that must
// be satisfied before it is handed out; Carried are those whose carried files are laid in.
type Chain struct {
	Runs    []int        `json:"runs"`
	Demand  facts.Demand `json:"demand,omitempty"`
	Needs   []int        `json:"needs,omitempty"`
	Carried []int        `json:"carried,omitempty"`
	Reuse   *Reuse       `json:"reuse,omitempty"`
	Tools   []Tool       `json:"tools,omitempty"`
}

// Need is what the chain asks of an agent, with the tools that a store has.
func (c Chain) Need() facts.Need {
	offers := facts.Offers{}
	for _, t := range c.Tools {
		offers[t.Name] = slices.Sorted(maps.Keys(t.Files))
	}
	return facts.Need{Demand: c.Demand, Offers: offers}
}

// Tool is one that a stage is equipped with, as a store of tools has it: agents whose own does not fit
// unpack the file that is for their system ("linux/amd64", or facts.Any).
type Tool struct {
	Name      string                   `json:"name"`
	Version   string                   `json:"version"`
	From      string                   `json:"from"` // STORE/NAME@VERSION
	Admission string                   `json:"admission"`
	Files     map[string]artifact.File `json:"files"`
}

// EquipDemand is what a chain demands of the tools that its stages are equipped with.
func (p Plan) EquipDemand(c Chain) facts.Demand {
	d := facts.Demand{}
	for _, name := range p.Equips(c) {
		d[name] = c.Demand[name]
	}
	return d
}

// Seen lists the runs whose results the stages of a chain may see: those of the chain, all that they wait for
// however far back, and those from which files are carried into it.
func (p Plan) Seen(c Chain) []int {
	seen := map[int]bool{}
	for open := slices.Concat(c.Runs, c.Needs, c.Carried); len(open) > 0; {
		i := open[len(open)-1]
		if open = open[:len(open)-1]; seen[i] {
			continue
		}
		seen[i] = true
		if open = append(open, p.Runs[i].After...); p.Runs[i].Follows >= 0 {
			open = append(open, p.Runs[i].Follows)
		}
	}
	return slices.Sorted(maps.Keys(seen))
}

// Equips lists the tools that the stages of a chain are equipped with, each once, by name.
func (p Plan) Equips(c Chain) (names []string) {
	for _, i := range c.Runs {
		if p.Runs[i].Skip == "" {
			names = append(names, slices.Collect(maps.Keys(p.Runs[i].Stage.Equip))...)
		}
	}
	slices.Sort(names)
	return slices.Compact(names)
}

// Reuse is what was looked up for a chain whose first stage says `reuse`: the digest of the files that it
// names, some that changed since the chain last passed, and whether it is to run all the same.
type Reuse struct {
	Files   string   `json:"files"`
	Changed []string `json:"changed,omitempty"`
	Fresh   bool     `json:"fresh,omitempty"`
}

// maker makes a plan.
type maker struct {
	Plan
	of    *language.Pipeline
	index map[artifact.Name][]int // the runs of each stage that is planned
}

// Make plans a checked pipeline in which routines are expanded, with the values of its asks. It
// costs time in proportion to runs and their needs.
func Make(p *language.Pipeline, asks []condition.Value) (Plan, error) {
	m := &maker{Plan: Plan{Env: p.Env, Overlap: p.Overlap, Asks: asks, Names: p.Names()}, of: p, index: map[artifact.Name][]int{}}
	for i := range p.Stages {
		if err := m.add(&p.Stages[i]); err != nil {
			return Plan{}, err
		}
	}
	return m.Plan, nil
}

// add plans a stage after all that it needs.
func (m *maker) add(s *language.Stage) error {
	if runs, ok := m.index[s.Name]; ok {
		if runs == nil { // a circle comes back here; the language refuses them
			return fault.Invalid("stage %q waits for itself", s.Name)
		}
		return nil
	}
	m.index[s.Name] = nil
	parents := s.After
	if s.Follows != "" {
		parents = []artifact.Name{s.Follows}
	}
	for _, name := range parents {
		parent, ok := m.of.Stage(name)
		if !ok {
			return fault.Invalid("stage %q needs %q, which does not exist", s.Name, name)
		}
		if err := m.add(parent); err != nil {
			return err
		}
	}
	variants := m.of.Variants(s)
	if len(m.Runs)+len(variants) > language.MostRuns {
		return fault.Invalid("more than %d stage runs", language.MostRuns)
	}
	first := len(m.Runs)
	for _, v := range variants {
		if err := m.place(s, v); err != nil {
			return err
		}
	}
	m.index[s.Name] = []int{}
	for i := first; i < len(m.Runs); i++ {
		m.index[s.Name] = append(m.index[s.Name], i)
		m.Runs[i].Halting = !s.HaltNever && len(variants) > 1
	}
	return nil
}

// place adds one run of a stage, to the chain of what it follows or to one of its own.
func (m *maker) place(s *language.Stage, v language.Variant) error {
	run := Run{Stage: *s, Variant: v, Follows: -1}
	run.Stage.Vary, run.Stage.Omit, run.Stage.Also = nil, nil, nil // a thousand variants need not know of each other
	for _, name := range s.After {
		for _, i := range m.index[name] {
			if len(s.Match) == 0 || v.Agrees(m.Runs[i].Variant, s.Match...) {
				run.After = append(run.After, i)
			}
		}
	}
	for _, i := range m.index[s.Follows] {
		if v.Agrees(m.Runs[i].Variant) {
			run.Follows = i
		}
	}
	demand, err := m.demand(s, v)
	if err != nil {
		return err
	}
	at := len(m.Runs)
	if run.Follows >= 0 {
		run.Chain = m.Runs[run.Follows].Chain
		chain := &m.Chains[run.Chain]
		if chain.Demand, err = chain.Demand.Join(demand); err != nil {
			return err
		}
		chain.Runs = append(chain.Runs, at)
	} else {
		run.Chain = len(m.Chains)
		m.Chains = append(m.Chains, Chain{Runs: []int{at}, Demand: demand, Needs: slices.Clone(run.After), Carried: m.carried(run.After)})
	}
	m.Runs = append(m.Runs, run)
	return nil
}

// carried lists the runs whose files are laid into a chain that comes after some: these, and the
// runs before them in their chains, where they carry.
func (m *maker) carried(after []int) (list []int) {
	seen := map[int]bool{}
	for _, need := range after {
		for i := need; i >= 0 && !seen[i]; i = m.Runs[i].Follows {
			seen[i] = true
			if len(m.Runs[i].Stage.Carry) > 0 {
				list = append(list, i)
			}
		}
	}
	return list
}

// demand is what a run asks of an agent: its facts, and the tools that it is equipped with.
func (m *maker) demand(s *language.Stage, v language.Variant) (facts.Demand, error) {
	values := m.values(v)
	out := facts.Demand{}
	for _, d := range []facts.Demand{s.Facts, s.Equip} {
		filled := facts.Demand{}
		for name, want := range d {
			text, err := condition.Fill(want, values)
			if err != nil {
				return nil, err
			}
			filled[name] = text
		}
		var err error
		if out, err = out.Join(filled); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// values are what braces know of asks and of a variant.
func (p *Plan) values(v language.Variant) map[string]string {
	values := map[string]string{}
	for _, a := range p.Asks {
		values["ask."+a.Name] = a.Text
	}
	for _, pair := range v {
		values["vary."+pair.Axis] = pair.Value
	}
	return values
}

// Values are all that braces know in a run: what the build knows, asks, and the variant.
func (p *Plan) Values(run int, build map[string]string) map[string]string {
	values := p.values(p.Runs[run].Variant)
	maps.Copy(values, build)
	return values
}

// Target is a place in a store that the build will fill.
type Target struct {
	Store, Name artifact.Name
}

// Targets lists what the build will deliver, each once, in the order of the file. Stages that are
// skipped deliver nothing.
func (p Plan) Targets() (list []Target) {
	seen := map[Target]bool{}
	for _, r := range p.Runs {
		if r.Skip != "" {
			continue
		}
		for _, a := range r.Stage.Artifacts {
			if t := (Target{a.Store, a.Name}); !seen[t] {
				seen[t] = true
				list = append(list, t)
			}
		}
	}
	return list
}

// Alone lists the names with which the runs of a chain want to be alone, each once. The chain has them as
// a whole, from its hand-out to its end.
func (p Plan) Alone(chain int) []string {
	names := []string{}
	for _, i := range p.Chains[chain].Runs {
		r := p.Runs[i]
		if name := string(r.Stage.Alone); name != "" && r.Skip == "" && !slices.Contains(names, name) {
			names = append(names, name)
		}
	}
	return names
}

// Unmet says which chains no agent can take, and what the nearest lacks; nil when all can.
func (p Plan) Unmet(agents []facts.Agent) error {
	met := map[string]bool{}
	for _, c := range p.Chains {
		need := c.Need()
		key := need.String()
		if met[key] || slices.ContainsFunc(agents, func(a facts.Agent) bool { return a.Takes(need) }) {
			met[key] = true
			continue
		}
		return fault.Refused("no agent can run stage %q: it needs %s; %s", p.Runs[c.Runs[0]].Title(), c.Demand, need.Nearest(agents)).
			Hint("start an agent that has it (oskeld agent run), or change `facts` of the stage")
	}
	return nil
}

// String gives the chains in words, for people who read a plan.
func (p Plan) String() string {
	var b strings.Builder
	for _, c := range p.Chains {
		b.WriteString(p.ChainTitle(c) + "\n")
	}
	return b.String()
}

// ChainNames gives the titles of a chain's runs, as it is known from build to build.
func (p Plan) ChainNames(c Chain) string {
	titles := make([]string, len(c.Runs))
	for i, r := range c.Runs {
		titles[i] = p.Runs[r].Title()
	}
	return strings.Join(titles, " → ")
}

// ChainTitle gives a chain's runs and its demand in words.
func (p Plan) ChainTitle(c Chain) string {
	return fmt.Sprintf("%s (%s)", p.ChainNames(c), c.Demand)
}
