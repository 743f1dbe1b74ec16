package service

import (
	"context"
	"fmt"
	"slices"
	"time"

	"github.com/google/uuid"
	"oskeld.dev/oskeld/internal/core/progress"
	"oskeld.dev/oskeld/internal/core/view"
	"oskeld.dev/oskeld/internal/database"
)

func buildView(b database.Build) view.Build {
	return view.Build{Pipeline: b.PipelineName, Number: b.Number, State: b.State, Cause: b.Cause, Ref: b.Ref, Commit: b.Commit, Branch: b.Branch,
		Tag: b.Tag, Subject: b.Changes.Subject, Version: b.Version, StartedBy: b.StartedBy, Why: b.Why, Round: b.Round, Trusted: b.Trusted,
		CreatedAt: b.CreatedAt, StartedAt: b.StartedAt, EndedAt: b.EndedAt, Times: b.Times}
}

func (s *Service) buildFor(ctx context.Context, a Actor, pipeline string, number int, want Right) (database.Build, error) {
	b, err := s.DB.Build(ctx, pipeline, number)
	if err != nil {
		return b, err
	}
	return b, s.may(ctx, a, b.Project, want, fmt.Sprintf("build %s/%d", pipeline, number))
}

// Builds lists a pipeline's builds below a number, newest first.
func (s *Service) Builds(ctx context.Context, a Actor, pipeline string, below, most int) ([]view.Build, error) {
	p, err := s.pipelineFor(ctx, a, pipeline, Read)
	if err != nil {
		return nil, err
	}
	list, err := s.DB.Builds(ctx, p.ID, below, most)
	return mapped(list, buildView), err
}

// RecentBuilds lists the newest builds of all that the actor may read, running ones first.
func (s *Service) RecentBuilds(ctx context.Context, a Actor, most int) ([]view.Build, error) {
	mine, err := s.projects(ctx, a)
	if err != nil {
		return nil, err
	}
	list, err := s.DB.RecentBuilds(ctx, mine, most)
	return mapped(list, buildView), err
}

// Build shows a build with all that belongs to it.
func (s *Service) Build(ctx context.Context, a Actor, pipeline string, number int) (view.BuildDetail, error) {
	b, err := s.buildFor(ctx, a, pipeline, number, Read)
	if err != nil {
		return view.BuildDetail{}, err
	}
	return s.detail(ctx, b)
}

func (s *Service) detail(ctx context.Context, b database.Build) (view.BuildDetail, error) {
	d := view.BuildDetail{Build: buildView(b), Derivation: b.Derivation, Asks: orEmpty(b.Plan.Asks), Changes: b.Changes.List, Since: b.Changes.Since}
	runs, err := s.DB.Runs(ctx, b.ID)
	if err != nil {
		return d, err
	}
	tests, err := s.DB.Tests(ctx, b.ID)
	if err != nil {
		return d, err
	}
	d.Runs = mapped(runs, func(r database.Run) view.StageRun { return runView(b, r, tests) })
	notes, err := s.DB.ReuseNotes(ctx, b.ID)
	if err != nil {
		return d, err
	}
	for chain, note := range notes {
		d.Runs[b.Plan.Chains[chain].Runs[0]].Reuse = note
	}
	if b.Round > 1 {
		earlier, err := s.DB.EarlierRuns(ctx, b.ID)
		if err != nil {
			return d, err
		}
		for _, e := range earlier {
			d.Runs[e.Run].Earlier = append(d.Runs[e.Run].Earlier, view.EarlierRun{Round: e.Round, State: progress.State(e.State), Cause: e.Cause,
				Agent: e.Agent, Fence: e.Fence, StartedAt: e.StartedAt, EndedAt: e.EndedAt, Failed: e.Failed})
		}
	}
	if !b.State.Over() {
		if err := s.wants(ctx, b, d.Runs); err != nil {
			return d, err
		}
	}
	markCritical(d.Runs)
	if d.Failed, err = s.DB.FailedTests(ctx, b.ID, b.Pipeline, b.Branch, b.Number); err != nil {
		return d, err
	}
	admissions, err := s.DB.AdmissionsOf(ctx, b.ID)
	if err != nil {
		return d, err
	}
	d.Artifacts = mapped(admissions, artifactView)
	if d.Inputs, err = s.DB.Inputs(ctx, b.ID); err != nil {
		return d, err
	}
	d.Failed, d.Inputs, d.Changes = orEmpty(d.Failed), orEmpty(d.Inputs), orEmpty(d.Changes)
	return d, nil
}

// orEmpty makes a nil list an empty one, so that it is [] in JSON.
func orEmpty[T any](list []T) []T {
	if list == nil {
		return []T{}
	}
	return list
}

func runView(b database.Build, r database.Run, tests []database.TestRow) view.StageRun {
	of := b.Plan.Runs[r.Index]
	v := view.StageRun{Index: r.Index, Name: r.Name, Variant: r.Variant, Purpose: r.Purpose, Chain: r.Chain, Needs: slices.Clone(of.After), State: r.State, Cause: r.Cause,
		Agent: r.Agent, Fence: r.Fence, ReadyAt: r.ReadyAt, StartedAt: r.StartedAt, EndedAt: r.EndedAt, Steps: r.Steps, Notes: r.Notes, Tools: r.Tools, Exports: orEmpty(r.Exports), Lines: r.Lines,
		Lost: r.Lost, Times: view.Times{WaitingMS: r.WaitingMS, PreparingMS: r.PreparingMS, WorkingMS: r.WorkingMS, DeliveringMS: r.DeliveringMS}}
	if of.Follows >= 0 {
		v.Needs = append(v.Needs, of.Follows)
	}
	v.Needs, v.Earlier = orEmpty(v.Needs), []view.EarlierRun{}
	for _, t := range tests {
		if t.Run == r.Index {
			v.Tests = &view.TestSum{Total: t.Total, Passed: t.Passed, Failed: t.Failed, Skipped: t.Skipped}
		}
	}
	return v
}

// markCritical marks the runs that the build's length depended on: from the run that ended last
// back along what each waited for longest.
func markCritical(runs []view.StageRun) {
	at := -1
	for i, r := range runs {
		if r.StartedAt != nil && (at < 0 || end(r).After(end(runs[at]))) {
			at = i
		}
	}
	for at >= 0 {
		runs[at].Critical = true
		next := -1
		for _, n := range waitedFor(runs, at) {
			if next < 0 || end(runs[n]).After(end(runs[next])) {
				next = n
			}
		}
		at = next
	}
}

// waitedFor lists the runs that a run waited for and that ran: behind one that was skipped, those that
// it waited for itself.
func waitedFor(runs []view.StageRun, at int) (list []int) {
	seen := make(map[int]bool)
	for next := slices.Clone(runs[at].Needs); len(next) > 0; {
		n := next[len(next)-1]
		next = next[:len(next)-1]
		switch {
		case seen[n]:
		case runs[n].StartedAt != nil:
			list = append(list, n)
		default:
			next = append(next, runs[n].Needs...)
		}
		seen[n] = true
	}
	return list
}

func end(r view.StageRun) time.Time {
	if r.EndedAt != nil {
		return *r.EndedAt
	}
	return time.Now()
}

// buildID gives the key of a build that an actor may read.
func (s *Service) buildID(ctx context.Context, a Actor, pipeline string, number int) (uuid.UUID, error) {
	b, err := s.buildFor(ctx, a, pipeline, number, Read)
	return b.ID, err
}
