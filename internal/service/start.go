package service

import (
	"cmp"
	"context"
	"fmt"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"

	"oskeld.dev/oskeld/internal/core/condition"
	"oskeld.dev/oskeld/internal/core/fault"
	"oskeld.dev/oskeld/internal/core/language"
	"oskeld.dev/oskeld/internal/core/plan"
	"oskeld.dev/oskeld/internal/core/progress"
	"oskeld.dev/oskeld/internal/core/version"
	"oskeld.dev/oskeld/internal/core/view"
	"oskeld.dev/oskeld/internal/database"
	"oskeld.dev/oskeld/internal/git"
)

// StartOptions say what to build. Ref is a branch, a tag or a commit; "" is the default branch.
type StartOptions struct {
	Ref string
}

// start gathers what is known before the transaction.
type start struct {
	pipeline database.Pipeline
	by       string
	ref      string
	at       git.At
	rules    version.Rules
	facts    version.Facts
	plan     plan.Plan
	trusted  bool
	changes  database.Changes
	stores   map[string]database.Store
}

// Start begins a build, or says in its first second why it cannot: an unreachable source, a file
// with mistakes, a missing secret, an agent that does not exist, a taken version. A refused start
// takes no number and leaves a record.
func (s *Service) Start(ctx context.Context, a Actor, pipeline string, o StartOptions) (view.Build, error) {
	p, err := s.pipelineFor(ctx, a, pipeline, BuildIt)
	if err != nil {
		return view.Build{}, err
	}
	st := &start{pipeline: p, by: a.Name, ref: o.Ref}
	build, err := s.begin(ctx, st)
	if err != nil {
		if kind := fault.KindOf(err); kind != fault.KindInternal {
			details := map[string]string{"ref": st.ref, "cause": err.Error()}
			if err := s.DB.AddRecord(ctx, a.Name, "start refused", "pipeline "+p.Name, details); err != nil {
				return view.Build{}, err
			}
		}
		return view.Build{}, err
	}
	s.Hub.Tell(TopicWork, TopicBuilds)
	return buildView(build), nil
}

func (s *Service) begin(ctx context.Context, st *start) (database.Build, error) {
	if err := s.readSource(ctx, st); err != nil {
		return database.Build{}, err
	}
	if err := s.refuse(ctx, st); err != nil {
		return database.Build{}, err
	}
	var build database.Build
	err := s.DB.Change(ctx, func(tx *database.DB) (err error) {
		build, err = s.create(ctx, tx, st)
		return err
	})
	return build, err
}

// readSource fetches the source and reads all that the build depends on at the commit.
func (s *Service) readSource(ctx context.Context, st *start) error {
	src, err := s.DB.Source(ctx, st.pipeline.SourceName)
	if err != nil {
		return err
	}
	source, _, err := s.source(src)
	if err != nil {
		return err
	}
	fetch, cancel := context.WithTimeout(ctx, 2*time.Minute)
	defer cancel()
	if err := source.Fetch(fetch); err != nil {
		return err
	}
	if st.ref == "" {
		refs, err := s.look(ctx, src)
		if err != nil {
			return err
		}
		st.ref = cmp.Or(refs.Default, "main")
	}
	if st.at, err = source.Resolve(ctx, st.ref); err != nil {
		return err
	}
	text, err := source.File(ctx, st.at.Commit, st.pipeline.File, language.MostBytes)
	if err != nil {
		return err
	}
	read, diagnostics := language.Read(st.pipeline.File, text)
	if n := diagnostics.Errors(); n > 0 {
		return fault.Invalid("%s at commit %.7s cannot be used:\n%s", st.pipeline.File, st.at.Commit, diagnostics.Text()).
			Hint("%d to mend; oskeld check shows the same before you push", n)
	}
	if err := sameName(st.pipeline.Name, st.pipeline.File, read); err != nil {
		return err
	}
	if err := s.DB.SetSummary(ctx, st.pipeline.ID, read.Summary); err != nil {
		return err
	}
	if st.plan, err = plan.Make(read); err != nil {
		return err
	}
	st.trusted = slices.ContainsFunc(src.Trusted, func(pattern string) bool {
		ok, _ := path.Match(pattern, cmp.Or(st.at.Tag, st.at.Branch))
		return ok
	})
	if err := s.versionFacts(ctx, source, st, read); err != nil {
		return err
	}
	return s.readChanges(ctx, source, st)
}

func (s *Service) versionFacts(ctx context.Context, source git.Copy, st *start, read *language.Pipeline) error {
	st.rules = read.Version
	st.facts = version.Facts{Branch: st.at.Branch, Commit: st.at.Commit}
	if st.at.Tag != "" && st.rules.Fits(st.at.Tag) {
		st.facts.StartedBy = st.at.Tag
	}
	var err error
	if st.facts.Nearest, st.facts.Commits, err = source.NearestTag(ctx, st.at.Commit, st.rules.Tag); err != nil {
		return err
	}
	if st.rules.File != "" {
		text, err := source.File(ctx, st.at.Commit, st.rules.File, 4096)
		if err != nil {
			return err
		}
		line, _, _ := strings.Cut(string(text), "\n")
		st.facts.FileText = strings.TrimSpace(line)
	}
	return nil
}

func (s *Service) readChanges(ctx context.Context, source git.Copy, st *start) error {
	since, commit, err := s.DB.LastPassed(ctx, st.pipeline.ID, st.at.Branch, 1<<30)
	if err != nil {
		return err
	}
	st.changes.Since = since
	list, err := source.Changes(ctx, commit, st.at.Commit, 100)
	if err != nil {
		return err
	}
	for _, c := range list {
		st.changes.List = append(st.changes.List, view.Change(c))
	}
	if own, err := source.Changes(ctx, "", st.at.Commit, 1); err == nil && len(own) > 0 {
		st.changes.Subject = own[0].Subject
	}
	st.changes.Paths, err = source.ChangedPaths(ctx, commit, st.at.Commit)
	return err
}

// refuse checks what can be told before a number is taken.
func (s *Service) refuse(ctx context.Context, st *start) error {
	have, err := s.DB.Secrets(ctx, st.pipeline.Project)
	if err != nil {
		return err
	}
	for _, r := range st.plan.Runs {
		for _, name := range r.Stage.Secrets {
			if !slices.ContainsFunc(have, func(x database.Secret) bool { return x.Name == name }) {
				return fault.Refused("secret %s is missing, and stage %q needs it", name, r.Stage.Name).
					Hint("oskeld secret set %s --project %s, with the value on standard input", name, st.pipeline.ProjectName)
			}
			if !st.trusted {
				return fault.Refused("stage %q needs secret %s, and source %s does not trust %s", r.Stage.Name, name, st.pipeline.SourceName, cmp.Or(st.at.Tag, st.at.Branch, st.ref)).
					Hint("oskeld source set %s --trust PATTERN, if whoever can push there may read its secrets", st.pipeline.SourceName)
			}
		}
	}
	st.stores = map[string]database.Store{}
	for _, t := range st.plan.Targets() {
		store, err := s.DB.StoreBrief(ctx, string(t.Store))
		if fault.Is(err, fault.KindMissing) || err == nil && store.Project != st.pipeline.Project {
			return fault.Refused("the pipeline delivers %s into store %q, which is not there", t.Name, t.Store).
				Hint("oskeld store add %s --project %s, or change `store` in the file", t.Store, st.pipeline.ProjectName)
		}
		if err != nil {
			return err
		}
		if !st.trusted && !store.Outside {
			return fault.Refused("store %q does not admit builds of %s, which source %s does not trust", store.Name, cmp.Or(st.at.Tag, st.at.Branch, st.ref), st.pipeline.SourceName).
				Hint("oskeld source set %s --trust PATTERN, or oskeld store set %s --outside", st.pipeline.SourceName, store.Name)
		}
		st.stores[store.Name] = store
	}
	agents, err := s.DB.AgentsSeen(ctx)
	if err != nil {
		return err
	}
	return st.plan.Unmet(agents)
}

// create takes the number, settles and reserves the version, and writes the build. It runs in one
// short transaction.
func (s *Service) create(ctx context.Context, tx *database.DB, st *start) (database.Build, error) {
	number, err := tx.NextNumber(ctx, st.pipeline.ID)
	if err != nil {
		return database.Build{}, err
	}
	now := time.Now().UTC()
	st.facts.Number, st.facts.At = number, now
	v, derivation, err := st.rules.Settle(st.facts)
	if err != nil {
		return database.Build{}, err
	}
	b := database.Build{ID: newID(), Pipeline: st.pipeline.ID, PipelineName: st.pipeline.Name, Project: st.pipeline.Project, Number: number,
		Ref: st.ref, Commit: st.at.Commit, Branch: st.at.Branch, Tag: st.at.Tag, Version: string(v), Derivation: derivation,
		StartedBy: st.by, Trusted: st.trusted, Changes: st.changes, CreatedAt: now}
	b.Plan, err = st.plan.Settle(scopeOf(b), map[string]string{"version": b.Version, "commit": b.Commit[:7], "branch": version.SafeBranch(b.Branch),
		"tag": b.Tag, "number": strconv.Itoa(number), "pipeline": b.PipelineName})
	if err != nil {
		return b, err
	}
	state, effects := progress.New(b.Plan)
	b.State, b.Cause = state.State, state.Cause
	if err := tx.AddBuild(ctx, b, state); err != nil {
		return b, err
	}
	for _, t := range b.Plan.Targets() {
		if err := s.reserve(ctx, tx, b, st.stores[string(t.Store)], t); err != nil {
			return b, err
		}
	}
	if err := tx.AddRecord(ctx, st.by, "build started", ref(b), map[string]string{"ref": st.ref, "version": b.Version}); err != nil {
		return b, err
	}
	if effects.Over { // every stage is skipped
		return b, s.finish(ctx, tx, b, state)
	}
	return b, nil
}

// reserve holds (store, name, version) for what the build will deliver.
func (s *Service) reserve(ctx context.Context, tx *database.DB, b database.Build, store database.Store, t plan.Target) error {
	a := database.Admission{ID: newID(), Store: store.ID, Name: string(t.Name), Version: b.Version, Revision: 1, State: "filling",
		Holds: store.Rewrite != "always", Build: &b.ID, By: b.StartedBy}
	if !a.Holds {
		return tx.AddAdmission(ctx, a)
	}
	holder, taken, err := tx.Holding(ctx, store.ID, a.Name, a.Version)
	if err != nil {
		return err
	}
	if taken {
		if !again(store, holder, b) {
			return takenBy(holder)
		}
		a.Holds = false // the same pipeline at the same commit: its bytes will be compared
	}
	return tx.AddAdmission(ctx, a)
}

// again tells whether a sealed version may come again: in a store with rewrite "same", from the
// same pipeline at the same commit.
func again(store database.Store, holder database.Admission, b database.Build) bool {
	return store.Rewrite == "same" && holder.State == "sealed" && holder.Commit == b.Commit && strings.HasPrefix(holder.BuildRef, b.PipelineName+"/")
}

func takenBy(holder database.Admission) error {
	who := "it was delivered by " + holder.By
	switch {
	case holder.State == "filling":
		who = "build " + holder.BuildRef + " is filling it now"
	case holder.BuildRef != "":
		who = fmt.Sprintf("build %s made it from commit %.7s", holder.BuildRef, holder.Commit)
	}
	return fault.Conflict("version %s of %s in store %s is taken: %s", holder.Version, holder.Name, holder.StoreName, who).On("version").
		Hint("push a new tag, or start from a branch; a version in %s is never replaced by another", holder.StoreName)
}

func scopeOf(b database.Build) condition.Scope {
	return condition.Scope{
		Build:   condition.Build{Pipeline: b.PipelineName, Number: b.Number, By: b.StartedBy},
		Source:  condition.Source{Commit: b.Commit, Branch: b.Branch, Tag: b.Tag, Changed: b.Changes.Paths},
		Version: b.Version,
	}
}

func ref(b database.Build) string { return b.PipelineName + "/" + strconv.Itoa(b.Number) }
