package service

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"github.com/google/uuid"
	"oskeld.dev/oskeld/internal/core/artifact"
	"oskeld.dev/oskeld/internal/core/assignment"
	"oskeld.dev/oskeld/internal/core/fault"
	"oskeld.dev/oskeld/internal/core/language"
	"oskeld.dev/oskeld/internal/core/progress"
	"oskeld.dev/oskeld/internal/core/reading"
	"oskeld.dev/oskeld/internal/core/view"
	"oskeld.dev/oskeld/internal/database"
)

// errAgain says that a report was taken before.
var errAgain = errors.New("taken before")

// Report takes what an agent tells of an assignment. The same report again changes nothing; one
// under an old fence, out of order, or of another agent's assignment is a conflict.
func (s *Service) Report(ctx context.Context, agent database.Agent, r assignment.Report) error {
	id, err := uuid.Parse(r.Build)
	if err != nil {
		return fault.Missing("no build %s", r.Build)
	}
	key := database.ChainKey{Build: id, Index: r.Chain}
	err = s.move(ctx, id, func(tx *database.DB, b database.Build, p progress.Build) (progress.Build, []progress.Effects, error) {
		have, err := tx.ReportCounter(ctx, key, r.Fence, agent.ID)
		switch {
		case err != nil:
			return p, nil, err
		case r.Number <= have:
			return p, nil, errAgain
		case r.Number > have+1:
			return p, nil, fault.Conflict("report %d came before report %d", r.Number, have+1).Hint("send them in order")
		}
		if ok, err := tx.Reported(ctx, key, r.Fence, r.Number); err != nil || !ok {
			return p, nil, errors.Join(err, fault.Conflict("the assignment has ended"))
		}
		var all []progress.Effects
		for _, e := range r.Events {
			var effects progress.Effects
			if p, effects, err = s.happen(ctx, tx, b, p, r.Fence, e); err != nil {
				return p, nil, err
			}
			all = append(all, effects)
		}
		return p, all, nil
	})
	if errors.Is(err, errAgain) {
		return nil
	}
	return err
}

// happen applies one event of an agent.
func (s *Service) happen(ctx context.Context, tx *database.DB, b database.Build, p progress.Build, fence int64, e assignment.Event) (progress.Build, progress.Effects, error) {
	if e.Run < 0 || e.Run >= len(p.Runs) {
		return p, progress.Effects{}, fault.Invalid("build %s has no stage run %d", ref(b), e.Run)
	}
	switch e.Kind {
	case assignment.RunStarted:
		next, effects := p.Apply(progress.Started{Run: e.Run, Fence: fence})
		if effects.Applied {
			return next, effects, tx.SetSteps(ctx, b.ID, e.Run, steps(e.Steps), 0)
		}
		return next, effects, nil
	case assignment.StepMoved:
		if p.Runs[e.Run].State != progress.Running || p.Chains[p.Runs[e.Run].Chain].Fence != fence {
			return p, progress.Effects{}, nil
		}
		return p, progress.Effects{}, tx.SetSteps(ctx, b.ID, e.Run, steps(e.Steps), e.PreparingMS)
	case assignment.RunEnded:
		return s.endRun(ctx, tx, b, p, fence, e)
	}
	return p, progress.Effects{}, fault.Invalid("%q is no kind of event", e.Kind)
}

func steps(list []view.Step) []view.Step {
	if list == nil {
		return []view.Step{}
	}
	return list
}

func (s *Service) endRun(ctx context.Context, tx *database.DB, b database.Build, p progress.Build, fence int64, e assignment.Event) (progress.Build, progress.Effects, error) {
	state, cause := e.State, e.Cause
	if state == progress.Passed {
		if refused, err := s.takeDeliveries(ctx, tx, b, e); err != nil {
			return p, progress.Effects{}, err
		} else if refused != "" {
			state, cause = progress.Failed, refused
		}
	}
	next, effects := p.Apply(progress.Ended{Run: e.Run, Fence: fence, State: state, Cause: cause})
	if !effects.Applied {
		return p, effects, nil
	}
	if err := tx.EndRun(ctx, b.ID, e.Run, e); err != nil {
		return next, effects, err
	}
	if err := noteTools(ctx, tx, b, e.Run, e.Tools); err != nil {
		return next, effects, err
	}
	if state == progress.Passed {
		if err := s.saveCaches(ctx, tx, b, e); err != nil {
			return next, effects, err
		}
	}
	if e.Tests == nil {
		return next, effects, nil
	}
	failed := mapped(e.Tests.Failed, func(c reading.Case) view.FailedTest {
		return view.FailedTest{Suite: plain(c.Suite), Name: plain(c.Name), Seconds: c.Seconds, Message: plain(c.Message)}
	})
	return next, effects, tx.AddTests(ctx, b.ID, e.Run, view.TestSum(e.Tests.Sum), failed)
}

// plain takes out what PostgreSQL cannot hold in a text.
func plain(text string) string {
	return string(slices.DeleteFunc([]rune(text), func(r rune) bool { return r == 0 }))
}

// takeDeliveries notes the files of a passing attempt. A refusal is the stage run's failure, in words.
func (s *Service) takeDeliveries(ctx context.Context, tx *database.DB, b database.Build, e assignment.Event) (refused string, err error) {
	if len(e.Deliveries) == 0 {
		return "", nil
	}
	planned := b.Plan.Runs[e.Run].Stage.Artifacts
	admissions, err := tx.AdmissionsOf(ctx, b.ID)
	if err != nil {
		return "", err
	}
	for _, d := range e.Deliveries {
		i := slices.IndexFunc(admissions, func(a database.Admission) bool {
			return a.StoreName == string(d.Store) && a.Name == string(d.Name) && a.State == "filling"
		})
		named := slices.ContainsFunc(planned, func(a language.Artifact) bool { return a.Store == d.Store && a.Name == d.Name })
		if i < 0 || !named {
			return fmt.Sprintf("the stage may not deliver %s into store %s: it does not name it", d.Name, d.Store), nil
		}
		if refused, err := s.fill(ctx, tx, admissions[i], e.Run, d.Files); err != nil || refused != "" {
			return refused, err
		}
	}
	return "", nil
}

func (s *Service) fill(ctx context.Context, tx *database.DB, a database.Admission, run int, files []artifact.File) (refused string, err error) {
	var before []artifact.File
	if holder, taken, err := tx.Holding(ctx, a.Store, a.Name, a.Version); err != nil {
		return "", err
	} else if taken && holder.ID != a.ID && holder.Content != nil {
		if before, err = tx.ContentFiles(ctx, *holder.Content); err != nil {
			return "", err
		}
	}
	for _, f := range files {
		if err := artifact.CheckPath(f.Path); err != nil {
			return err.Error(), nil
		}
		if size, ok := s.blobs.Has(f.Digest); !ok || size != f.Size {
			return fmt.Sprintf("the bytes of %s did not arrive", f.Path), nil
		}
		if before != nil && !slices.Contains(before, f) {
			return fmt.Sprintf("%s@%s is in store %s already, and %s has other bytes there", a.Name, a.Version, a.StoreName, f.Path), nil
		}
		ok, err := tx.AddFilling(ctx, a.ID, run, f)
		if err != nil {
			return "", err
		}
		if !ok {
			return fmt.Sprintf("another stage delivered a different %s into %s/%s", f.Path, a.StoreName, a.Name), nil
		}
	}
	return "", nil
}

// finish does what a build's end asks for, in the transaction that ends it: what passed is
// sealed, what did not holds no version any more.
func (s *Service) finish(ctx context.Context, tx *database.DB, b database.Build, p progress.Build) error {
	details := map[string]string{"version": b.Version}
	if p.Cause != "" {
		details["cause"] = p.Cause
	}
	if err := tx.AddRecord(ctx, b.StartedBy, "build "+string(p.State), ref(b), details); err != nil {
		return err
	}
	if err := s.letGo(ctx, tx, b); err != nil {
		return err
	}
	if err := tx.AddErrand(ctx, "logs", b.ID); err != nil {
		return err
	}
	if p.State != progress.Passed {
		return tx.Drop(ctx, b.ID)
	}
	admissions, err := tx.AdmissionsOf(ctx, b.ID)
	if err != nil {
		return err
	}
	for _, a := range admissions {
		if err := s.sealOne(ctx, tx, a); err != nil {
			return err
		}
	}
	if b.Trusted {
		if err := tx.AddErrand(ctx, "after", b.ID); err != nil {
			return err
		}
	}
	return tx.AddErrand(ctx, "provenance", b.ID)
}

func (s *Service) sealOne(ctx context.Context, tx *database.DB, a database.Admission) error {
	files, err := tx.Filling(ctx, a.ID)
	if err != nil {
		return err
	}
	if len(files) == 0 {
		return tx.DropOne(ctx, a.ID)
	}
	content, err := artifact.NewContent(files)
	if err != nil {
		return err
	}
	store, err := tx.StoreBrief(ctx, a.StoreName)
	if err != nil {
		return err
	}
	revision := 1
	if store.Rewrite == "always" {
		if revision, err = tx.NextRevision(ctx, a.Store, a.Name, a.Version); err != nil {
			return err
		}
	} else if !a.Holds {
		return tx.DropOne(ctx, a.ID) // the same bytes are there already
	}
	if err := tx.AddContent(ctx, content); err != nil {
		return err
	}
	return tx.Seal(ctx, a.ID, string(content.Digest()), revision)
}
