// Package rehearsal runs a pipeline on the spot: in the working tree, through the runner that agents
// use, without a service.
//
//	r, err := rehearsal.Prepare(ctx, rehearsal.Options{Dir: ".", Pipeline: p})
//	outcome := r.Run(ctx, stop, watch)
//
// The first chain runs in the working tree itself, the others in copies of its tracked and unignored
// files. What is delivered is laid under .oskeld/artifacts; stamped files are put back.
package rehearsal

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"oskeld.dev/oskeld/internal/core/artifact"
	"oskeld.dev/oskeld/internal/core/condition"
	"oskeld.dev/oskeld/internal/core/facts"
	"oskeld.dev/oskeld/internal/core/fault"
	"oskeld.dev/oskeld/internal/core/language"
	"oskeld.dev/oskeld/internal/core/plan"
	"oskeld.dev/oskeld/internal/core/version"
	"oskeld.dev/oskeld/internal/git"
	"oskeld.dev/oskeld/internal/runner"
)

// Kept is the directory at the top of a source in which rehearsals keep what they make.
const Kept = ".oskeld"

// Options for Prepare. Pipeline is checked, with its routines expanded.
type Options struct {
	Dir      string // any directory of the source
	Work     string // for workspaces; removed when a rehearsal ends
	Pipeline *language.Pipeline
	Asks     []condition.Value
	Secrets  map[string]string
	Part     plan.Part
	Clean    bool // a fresh checkout of HEAD instead of the working tree
	Jobs     int  // chains side by side, at least 1
	Home     string
	Env      map[string]string
	Program  string
	Service  string
	Token    string
	Fetch    func(ctx context.Context, ref, dir string) ([]string, error) // nil without a service
}

// LeftOut is a stage run that cannot be had on the spot, and why.
type LeftOut struct {
	Run string `json:"run"`
	Why string `json:"why"`
}

// Rehearsal is a settled plan that is ready to run.
type Rehearsal struct {
	Options
	Root       string `json:"-"`
	Version    artifact.Version
	Derivation string
	Plan       plan.Plan
	LeftOut    []LeftOut

	whole  plan.Plan // with what is not to run
	from   []int     // for each run of Plan, its index in whole
	here   *git.Here // nil where there is no repository
	head   git.At
	values map[string]string
	scope  condition.Scope
}

// Prepare settles version and plan, and says what cannot be had here before anything runs.
func Prepare(ctx context.Context, o Options) (*Rehearsal, error) {
	r := &Rehearsal{Options: o}
	if err := r.place(ctx); err != nil {
		return nil, err
	}
	facts, err := VersionFacts(ctx, r.here, o.Pipeline.Version, r.Root, o.Clean)
	if err != nil {
		return nil, err
	}
	if r.Version, r.Derivation, err = o.Pipeline.Version.Settle(facts); err != nil {
		return nil, err
	}
	r.scope = condition.Scope{Build: condition.Build{Pipeline: string(o.Pipeline.Name), By: "rehearsal"},
		Source: condition.Source{Commit: facts.Commit, Branch: facts.Branch, Tag: facts.StartedBy, Changed: []string{}}, Version: string(r.Version), Asks: o.Asks}
	r.values = map[string]string{"version": string(r.Version), "commit": facts.Commit[:7], "branch": version.SafeBranch(facts.Branch), "tag": facts.StartedBy,
		"number": "0", "pipeline": string(o.Pipeline.Name), "date": facts.At.UTC().Format("20060102"), "time": facts.At.UTC().Format("150405")}
	made, err := plan.Make(o.Pipeline, o.Asks)
	if err != nil {
		return nil, err
	}
	if r.whole, err = made.Settle(r.scope, r.values); err != nil {
		return nil, err
	}
	if r.Plan, r.from, err = r.whole.Select(o.Part); err != nil {
		return nil, err
	}
	if err := r.leaveOut(ctx); err != nil {
		return nil, err
	}
	return r, r.lacking()
}

// place finds the top of the source and its commit.
func (r *Rehearsal) place(ctx context.Context) error {
	dir, err := filepath.Abs(r.Dir)
	if err != nil {
		return err
	}
	here, err := git.Find(ctx, dir)
	if fault.Is(err, fault.KindMissing) {
		if r.Clean {
			return err
		}
		r.Root = dir
		return nil
	}
	if err != nil {
		return err
	}
	r.here, r.Root = &here, here.Root
	if r.head, _, err = here.Head(ctx); fault.Is(err, fault.KindMissing) && !r.Clean {
		return nil
	}
	return err
}

// noCommit stands for the commit where there is none yet.
const noCommit = "0000000000000000000000000000000000000000"

// VersionFacts gathers what the version is made from, here. With clean, a fitting tag on the commit
// counts as what started it. Here is nil outside a repository.
func VersionFacts(ctx context.Context, here *git.Here, rules version.Rules, root string, clean bool) (version.Facts, error) {
	f := version.Facts{Commit: noCommit, Here: true, At: time.Now()}
	if rules.File != "" {
		text, err := os.ReadFile(filepath.Join(root, rules.File))
		if err != nil {
			return f, fault.Missing("the version comes from %s, which cannot be read", rules.File).Because(err)
		}
		line, _, _ := strings.Cut(string(text), "\n")
		f.FileText = strings.TrimSpace(line)
	}
	if here == nil {
		return f, nil
	}
	head, tags, err := here.Head(ctx)
	if fault.Is(err, fault.KindMissing) {
		f.Branch = head.Branch
		return f, nil
	}
	if err != nil {
		return f, err
	}
	f.Commit, f.Branch = head.Commit, head.Branch
	if clean {
		f.StartedBy, _ = rules.Choose(tags)
	}
	nearest, commits, err := here.NearestTags(ctx, head.Commit, rules.Tag)
	f.Nearest, f.Beside = rules.Choose(nearest)
	f.Commits = commits
	return f, err
}

// leaveOut takes out what this machine cannot run, and what waits for that.
func (r *Rehearsal) leaveOut(ctx context.Context) error {
	machine := r.facts(ctx)
	keep := make([]bool, len(r.Plan.Runs))
	for i, run := range r.Plan.Runs {
		keep[i] = true
		why := ""
		if lacks := r.Plan.Chains[run.Chain].Demand.Against(machine); len(lacks) > 0 && run.Skip == "" {
			words := make([]string, len(lacks))
			for j, l := range lacks {
				words[j] = l.String()
			}
			why = "needs " + strings.Join(words, " and ")
		}
		for _, need := range append(slices.Clone(run.After), run.Follows) {
			if need >= 0 && !keep[need] && why == "" {
				why = "comes after " + r.Plan.Runs[need].Title()
			}
		}
		if why == "" {
			why = r.unfetchable(run)
		}
		if why != "" {
			keep[i] = false
			r.LeftOut = append(r.LeftOut, LeftOut{run.Title(), why})
		}
	}
	if len(r.LeftOut) == 0 {
		return nil
	}
	if !slices.Contains(keep, true) {
		first := r.LeftOut[0]
		return fault.Refused("nothing can be rehearsed here: %s %s", first.Run, first.Why).Hint("it runs on an agent that has it: oskeld start %s", r.Pipeline.Name)
	}
	part, from, err := r.Plan.Keep(keep)
	if err != nil {
		return err
	}
	for i := range from {
		from[i] = r.from[from[i]]
	}
	r.Plan, r.from = part, from
	return nil
}

func (r *Rehearsal) unfetchable(run plan.Run) string {
	for _, step := range run.Stage.Steps {
		if step.Fetch != nil && !step.Off && r.Fetch == nil && run.Skip == "" {
			return "fetches " + step.Fetch.Artifact + ", and you are not signed in to a service"
		}
	}
	return ""
}

// facts are those of this machine that the plan asks about.
func (r *Rehearsal) facts(ctx context.Context) facts.Facts {
	names := []string{"os"} // never none, which would be all
	for _, c := range r.Plan.Chains {
		for name := range c.Demand {
			names = append(names, name)
		}
	}
	return runner.Look(ctx, names...)
}

// lacking refuses what would fail only later: a secret that nobody gave, carried files that no
// rehearsal has left.
func (r *Rehearsal) lacking() error {
	for _, run := range r.Plan.Runs {
		for _, name := range run.Stage.Secrets {
			if _, ok := r.Secrets[name]; !ok && run.Skip == "" {
				return fault.Refused("stage %q needs secret %s", run.Title(), name).Hint("set it in the environment, or name a file with lines NAME=VALUE: --secret-file FILE")
			}
		}
	}
	kept := loadKept(r.Root)
	for _, i := range r.whole.Missing(r.from) {
		if title := r.whole.Runs[i].Title(); kept.Runs[title] == nil {
			return fault.Refused("what stage %q carries is not there", title).Hint("rehearse it once: oskeld rehearse %s", r.whole.Runs[i].Stage.Name)
		}
	}
	return nil
}

// Explain says in words what would run, in what order, and what would not.
func (r *Rehearsal) Explain() string {
	var b strings.Builder
	fmt.Fprintf(&b, "version %s\n", r.Derivation)
	for i, c := range r.Plan.Chains {
		where := "in a copy of the tracked and unignored files"
		switch {
		case r.Clean:
			where = fmt.Sprintf("in a fresh checkout of %.7s", r.head.Commit)
		case r.inTree(i):
			where = "in the working tree"
		}
		fmt.Fprintf(&b, "\nchain %d, %s\n", i+1, where)
		for _, at := range c.Runs {
			r.explainRun(&b, at)
		}
	}
	for _, l := range r.LeftOut {
		fmt.Fprintf(&b, "\nleft out: %s %s\n", l.Run, l.Why)
	}
	return b.String()
}

func (r *Rehearsal) explainRun(b *strings.Builder, at int) {
	run := r.Plan.Runs[at]
	fmt.Fprintf(b, "  %s", run.Title())
	var needs []string
	for _, n := range run.After {
		needs = append(needs, r.Plan.Runs[n].Title())
	}
	if len(needs) > 0 {
		fmt.Fprintf(b, ", after %s", strings.Join(needs, ", "))
	}
	switch {
	case run.Skip != "":
		fmt.Fprintf(b, ": skipped, %s\n", run.Skip)
		return
	case run.Late:
		fmt.Fprintf(b, ": when %s, which is told when it comes to run", run.Stage.When)
	case run.Stage.Always:
		b.WriteString(": runs always")
	}
	if len(run.Stage.Reuse) > 0 {
		b.WriteString(" (nothing is reused on the spot)")
	}
	b.WriteString("\n")
	for n, step := range run.Stage.Steps {
		mark := "-"
		if step.Off {
			mark = "‒ off:"
		}
		fmt.Fprintf(b, "    %s %s%s\n", mark, step.Title(n), whenOf(step))
	}
	for _, a := range run.Stage.Artifacts {
		fmt.Fprintf(b, "    delivers %s/%s@%s %s\n", a.Store, a.Name, r.Version, a.File)
	}
}

// inTree tells whether a chain runs in the working tree: that of the first stage of the file, where
// it does not vary.
func (r *Rehearsal) inTree(chain int) bool {
	first := r.Plan.Chains[chain].Runs[0]
	return !r.Clean && r.whole.Runs[r.from[first]].Chain == 0 && len(r.whole.Runs[0].Variant) == 0
}

func whenOf(step language.Step) string {
	if step.When == "" {
		return ""
	}
	return "  when " + step.When
}
