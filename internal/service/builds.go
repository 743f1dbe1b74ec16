package service

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"
	"oskeld.dev/oskeld/internal/core/facts"
	"oskeld.dev/oskeld/internal/core/progress"
	"oskeld.dev/oskeld/internal/core/view"
	"oskeld.dev/oskeld/internal/database"
)

func buildView(b database.Build) view.Build {
	return view.Build{Pipeline: b.PipelineName, Number: b.Number, State: b.State, Cause: b.Cause, Ref: b.Ref, Commit: b.Commit, Branch: b.Branch,
		Tag: b.Tag, Subject: b.Changes.Subject, Version: b.Version, StartedBy: b.StartedBy, Trusted: b.Trusted,
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
	d := view.BuildDetail{Build: buildView(b), Derivation: b.Derivation, Changes: b.Changes.List, Since: b.Changes.Since}
	runs, err := s.DB.Runs(ctx, b.ID)
	if err != nil {
		return d, err
	}
	tests, err := s.DB.Tests(ctx, b.ID)
	if err != nil {
		return d, err
	}
	d.Runs = mapped(runs, func(r database.Run) view.StageRun { return runView(b, r, tests) })
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
	v := view.StageRun{Index: r.Index, Name: r.Name, Purpose: r.Purpose, Chain: r.Chain, Needs: slices.Clone(of.After), State: r.State, Cause: r.Cause,
		Agent: r.Agent, Fence: r.Fence, ReadyAt: r.ReadyAt, StartedAt: r.StartedAt, EndedAt: r.EndedAt, Steps: r.Steps, Notes: r.Notes, Lines: r.Lines,
		Times: view.Times{WaitingMS: r.WaitingMS, PreparingMS: r.PreparingMS, WorkingMS: r.WorkingMS, DeliveringMS: r.DeliveringMS}}
	if of.Follows >= 0 {
		v.Needs = append(v.Needs, of.Follows)
	}
	v.Needs = orEmpty(v.Needs)
	for _, t := range tests {
		if t.Run == r.Index {
			v.Tests = &view.TestSum{Total: t.Total, Passed: t.Passed, Failed: t.Failed, Skipped: t.Skipped}
		}
	}
	return v
}

// wants says what each waiting stage run waits for.
func (s *Service) wants(ctx context.Context, b database.Build, runs []view.StageRun) error {
	agents, err := s.DB.Agents(ctx)
	if err != nil {
		return err
	}
	for i := range runs {
		r := &runs[i]
		if r.State != progress.Waiting {
			continue
		}
		var open []string
		for _, n := range r.Needs {
			if !runs[n].State.Over() {
				open = append(open, runs[n].Name)
			}
		}
		if len(open) > 0 {
			r.Wants = "waits for " + strings.Join(open, " and ")
		} else {
			r.Wants = wantsAgent(b.Plan.Chains[r.Chain].Demand, agents)
		}
	}
	return nil
}

func wantsAgent(demand facts.Demand, agents []database.Agent) string {
	var fit, here []string
	var all []facts.Agent
	for _, a := range agents {
		all = append(all, facts.Agent{Name: a.Name, Facts: a.Facts})
		if len(demand.Against(a.Facts)) == 0 {
			fit = append(fit, a.Name)
			if a.Here {
				here = append(here, a.Name)
			}
		}
	}
	switch {
	case len(here) > 0:
		return "waits for a place on " + strings.Join(here, " or ")
	case len(fit) > 0:
		return "waits for " + strings.Join(fit, " or ") + ", away now"
	}
	return fmt.Sprintf("waits for an agent with %s; %s", demand, demand.Nearest(all))
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
		for _, n := range runs[at].Needs {
			if runs[n].StartedAt != nil && (next < 0 || end(runs[n]).After(end(runs[next]))) {
				next = n
			}
		}
		at = next
	}
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
