package service

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/google/uuid"
	"oskeld.dev/oskeld/internal/core/condition"
	"oskeld.dev/oskeld/internal/core/facts"
	"oskeld.dev/oskeld/internal/core/fault"
	"oskeld.dev/oskeld/internal/core/language"
	"oskeld.dev/oskeld/internal/core/plan"
	"oskeld.dev/oskeld/internal/core/progress"
	"oskeld.dev/oskeld/internal/core/version"
	"oskeld.dev/oskeld/internal/core/view"
	"oskeld.dev/oskeld/internal/database"
	"oskeld.dev/oskeld/internal/git"
)

// StartOptions say what to build. Ref is a branch, a tag or a commit; "" is the default branch. Asks
// are the values chosen for the file's asks, by name.
type StartOptions struct {
	Ref   string
	Asks  map[string]string
	Fresh bool // take nothing over from earlier builds
}

// start gathers what is known before the transaction.
type start struct {
	pipeline database.Pipeline
	by       string
	why      view.Why
	occurs   *database.Occurrence // what a start rule answers to, nil when somebody starts it
	ref      string
	moved    *git.At // where ref stood when it moved, nil for where it stands now
	asks     map[string]string
	fresh    bool
	at       git.At
	rules    version.Rules
	facts    version.Facts
	plan     plan.Plan
	trust    []string // patterns of the refs that the source trusts
	trusted  bool
	changes  database.Changes
	stores   map[string]database.Store
	replaces []uuid.UUID // older builds that it stopped
}

// Start begins a build, or says in its first second why it cannot: an unreachable source, a file
// with mistakes, a missing secret, an agent that does not exist, a taken version. A refused start
// takes no number and leaves a record.
func (s *Service) Start(ctx context.Context, a Actor, pipeline string, o StartOptions) (view.Build, error) {
	p, err := s.pipelineFor(ctx, a, pipeline, BuildIt)
	if err != nil {
		return view.Build{}, err
	}
	st := &start{pipeline: p, by: a.Name, why: view.Why{Kind: view.ByPerson, Says: "started by " + a.Name}, ref: o.Ref, asks: o.Asks, fresh: o.Fresh}
	build, err := s.begin(ctx, st)
	return buildView(build), err
}

// begin starts a build, or leaves a record of why it did not.
func (s *Service) begin(ctx context.Context, st *start) (build database.Build, err error) {
	if err = s.readSource(ctx, st); err == nil {
		err = s.refuse(ctx, st)
	}
	if err == nil {
		err = s.DB.Change(ctx, func(tx *database.DB) (err error) {
			build, err = s.create(ctx, tx, st)
			return err
		})
	}
	if err == nil {
		s.Hub.Tell(TopicWork, TopicBuilds, TopicOrders)
		for _, id := range st.replaces {
			s.Hub.Tell(TopicBuild(id.String()))
		}
		return build, nil
	}
	if fault.KindOf(err) == fault.KindInternal || errors.Is(err, errOccurred) || st.occurs != nil && transient(err) {
		return database.Build{}, err // nothing was decided
	}
	details := map[string]string{"ref": st.ref, "cause": err.Error()}
	return database.Build{}, errors.Join(err, s.DB.AddRecord(ctx, st.by, "start refused", "pipeline "+st.pipeline.Name, details))
}

// readSource fetches the source and reads all that the build depends on at the commit.
func (s *Service) readSource(ctx context.Context, st *start) error {
	source, err := s.fetchSource(ctx, st)
	if err != nil {
		return err
	}
	read, err := s.readFile(ctx, source, st)
	if err != nil {
		return err
	}
	if err := s.DB.SetSummary(ctx, st.pipeline.ID, read.Summary); err != nil {
		return err
	}
	asks, err := language.Choose(read.Asks, st.asks)
	if err != nil {
		return err
	}
	wide, err := s.expand(ctx, st.pipeline.Project, read)
	if err != nil {
		return err
	}
	if st.plan, err = plan.Make(wide, asks); err != nil {
		return err
	}
	st.trusted = slices.ContainsFunc(st.trust, func(pattern string) bool {
		ok, _ := path.Match(pattern, cmp.Or(st.at.Tag, st.at.Branch))
		return ok
	})
	if err := s.versionFacts(ctx, source, st, read); err != nil {
		return err
	}
	if err := s.readReuse(ctx, source, st); err != nil {
		return err
	}
	return s.readChanges(ctx, source, st)
}

// readFile reads and checks the pipeline's file at the commit.
func (s *Service) readFile(ctx context.Context, source git.Copy, st *start) (*language.Pipeline, error) {
	text, err := source.File(ctx, st.at.Commit, st.pipeline.File, language.MostBytes)
	if err != nil {
		return nil, err
	}
	read, diagnostics := language.Read(st.pipeline.File, text)
	if n := diagnostics.Errors(); n > 0 {
		return nil, fault.Invalid("%s at commit %.7s cannot be used:\n%s", st.pipeline.File, st.at.Commit, diagnostics.Text()).
			Hint("%d to mend; oskeld check shows the same before you push", n)
	}
	return read, sameName(st.pipeline.Name, st.pipeline.File, read)
}

func (s *Service) versionFacts(ctx context.Context, source git.Copy, st *start, read *language.Pipeline) error {
	st.rules = read.Version
	st.facts = version.Facts{Branch: st.at.Branch, Commit: st.at.Commit}
	if st.at.Tag != "" && st.rules.Fits(st.at.Tag) {
		st.facts.StartedBy = st.at.Tag
	}
	tags, commits, err := source.NearestTags(ctx, st.at.Commit, st.rules.Tag)
	if err != nil {
		return err
	}
	st.facts.Nearest, st.facts.Beside = st.rules.Choose(tags)
	st.facts.Commits = commits
	if st.changes.Notes, err = source.Notes(ctx, st.at.Commit, st.rules.Tag, st.facts.StartedBy != ""); err != nil {
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
	if err := s.refuseSecrets(ctx, st); err != nil {
		return err
	}
	for _, r := range st.plan.Runs {
		for _, step := range r.Stage.Steps {
			if step.Send != nil && !step.Off {
				return fault.Refused("stage %q sends to outlet %q, which is not there", r.Title(), step.Send.Outlet).
					Hint("take the step out, or say off = true")
			}
		}
	}
	if err := s.fetches(ctx, st.pipeline.Project, &st.plan); err != nil {
		return err
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
		if why := store.Admits.Refuses(st.pipeline.Name, st.at.Branch, st.at.Tag); why != "" {
			return fault.Refused("the pipeline delivers %s into store %q, which %s", t.Name, t.Store, why).
				Hint("oskeld store set %s --admit-pipeline ... --admit-ref ... says whom it admits", store.Name)
		}
		st.stores[store.Name] = store
	}
	if err := s.findTools(ctx, &st.plan, st.pipeline.Name, st.at.Branch, st.at.Tag); err != nil {
		return err
	}
	agents, err := s.DB.AgentsSeen(ctx)
	if err != nil {
		return err
	}
	return st.plan.Unmet(mapped(agents, func(x database.AgentSeen) facts.Agent {
		return facts.Agent{Name: x.Name, Facts: x.Facts, Closed: x.Admits.Refuses(st.pipeline.Name, st.at.Branch, st.at.Tag)}
	}))
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
		StartedBy: st.by, Why: st.why, Trusted: st.trusted, Changes: st.changes, CreatedAt: now}
	b.Plan, err = st.plan.Settle(scopeOf(b), braceValues(b))
	if err != nil {
		return b, err
	}
	if err := s.overlap(ctx, tx, st, &b); err != nil {
		return b, err
	}
	state, effects := progress.New(b.Plan)
	b.State, b.Cause = state.State, state.Cause
	if err := tx.AddBuild(ctx, b, state); err != nil {
		return b, err
	}
	if o := st.occurs; o != nil {
		o.Outcome, o.Build = "started", &b.ID
		if first, err := tx.AddOccurrence(ctx, *o); err != nil || !first {
			return b, errors.Join(err, errOccurred)
		}
	}
	for _, t := range b.Plan.Targets() {
		if err := s.reserve(ctx, tx, b, st.stores[string(t.Store)], t); err != nil {
			return b, err
		}
	}
	if err := tx.AddRecord(ctx, st.by, "build started", ref(b), map[string]string{"ref": st.ref, "version": b.Version}); err != nil {
		return b, err
	}
	if b.Behind != nil { // its turn comes when the earlier build has ended
		effects.Offer = nil
	}
	after, over, err := s.takeOver(ctx, tx, b, state, effects.Offer)
	if err != nil {
		return b, err
	}
	if err := tx.SaveProgress(ctx, b.ID, state, after); err != nil {
		return b, err
	}
	b.State, b.Cause = after.State, after.Cause
	if effects.Over || over { // every stage is skipped, or taken over
		return b, s.finish(ctx, tx, b, after)
	}
	return b, nil
}

// overlap settles what becomes of the builds of the same branch, or tag, that have not ended: they go on,
// the new one waits for them, or it replaces them.
func (s *Service) overlap(ctx context.Context, tx *database.DB, st *start, b *database.Build) error {
	if b.Plan.Overlap != language.Queue && b.Plan.Overlap != language.Replace {
		return nil
	}
	open, err := tx.OpenBuilds(ctx, b.Pipeline, b.Branch, b.Tag)
	if err != nil || len(open) == 0 {
		return err
	}
	if b.Plan.Overlap == language.Queue {
		b.Behind = &open[len(open)-1]
		return nil
	}
	st.replaces = open
	for _, id := range open {
		if err := s.replace(ctx, tx, id, *b); err != nil {
			return err
		}
	}
	return nil
}

// replace stops a build because a newer one takes its place.
func (s *Service) replace(ctx context.Context, tx *database.DB, id uuid.UUID, by database.Build) error {
	old, before, ok, err := tx.LockBuild(ctx, id, false)
	if err != nil || !ok {
		return err
	}
	after, effects := before.Apply(progress.Stop{Cause: "replaced by build " + ref(by)})
	if !effects.Applied {
		return nil
	}
	if err := tx.SaveProgress(ctx, id, before, after); err != nil {
		return err
	}
	if err := tx.AddRecord(ctx, by.StartedBy, "build replaced", ref(old), map[string]string{"by": ref(by)}); err != nil || !effects.Over {
		return err
	}
	return s.finish(ctx, tx, old, after)
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
		Version: b.Version, Asks: b.Plan.Asks,
	}
}

// braceValues are what {names} in braces stand for in a build.
func braceValues(b database.Build) map[string]string {
	at := b.CreatedAt.UTC()
	return map[string]string{"version": b.Version, "commit": b.Commit[:7], "branch": version.SafeBranch(b.Branch), "tag": b.Tag,
		"number": strconv.Itoa(b.Number), "pipeline": b.PipelineName, "date": at.Format("20060102"), "time": at.Format("150405")}
}

func ref(b database.Build) string { return b.PipelineName + "/" + strconv.Itoa(b.Number) }
