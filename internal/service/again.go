package service

import (
	"cmp"
	"context"
	"time"

	"oskeld.dev/oskeld/internal/core/fault"
	"oskeld.dev/oskeld/internal/core/language"
	"oskeld.dev/oskeld/internal/core/progress"
	"oskeld.dev/oskeld/internal/core/view"
	"oskeld.dev/oskeld/internal/database"
	"oskeld.dev/oskeld/internal/git"
)

// roundsLast is how long after its end a build may have another round.
const roundsLast = 3 * 24 * time.Hour

// Again starts a new build as an earlier one was started: of the same commit, with the same asks. Fresh
// takes nothing over from earlier builds.
func (s *Service) Again(ctx context.Context, a Actor, pipeline string, number int, fresh bool) (view.Build, error) {
	old, err := s.buildFor(ctx, a, pipeline, number, BuildIt)
	if err != nil {
		return view.Build{}, err
	}
	p, err := s.DB.Pipeline(ctx, pipeline)
	if err != nil {
		return view.Build{}, err
	}
	asks := map[string]string{}
	for _, x := range old.Plan.Asks {
		asks[x.Name] = x.Text
	}
	st := &start{pipeline: p, by: a.Name, ref: old.Ref, asks: asks, fresh: fresh, moved: &git.At{Commit: old.Commit, Branch: old.Branch, Tag: old.Tag},
		why: view.Why{Kind: view.ByPerson, Says: ref(old) + " again, asked for by " + a.Name}}
	b, err := s.begin(ctx, st)
	return buildView(b), err
}

// Renew has another go at what did not pass in a build: a new round of the same number and version.
// What passed stands; what was fetched before is fetched again in the same version. It is refused
// when the version was taken meanwhile, and three days after the end.
func (s *Service) Renew(ctx context.Context, a Actor, pipeline string, number int) (view.Build, error) {
	b, err := s.buildFor(ctx, a, pipeline, number, BuildIt)
	if err != nil {
		return view.Build{}, err
	}
	if err := s.refuseRound(ctx, b); err != nil {
		return view.Build{}, err
	}
	if err := s.move(ctx, b.ID, func(tx *database.DB, b database.Build, p progress.Build) (progress.Build, []progress.Effects, error) {
		next, effects := p.Renew()
		if !effects.Applied {
			return p, nil, fault.Conflict("build %s goes on already", ref(b))
		}
		var runs []int
		for i, r := range p.Runs {
			if !r.Satisfied {
				runs = append(runs, i)
			}
		}
		if err := tx.BeginRound(ctx, b.ID, runs); err != nil {
			return p, nil, err
		}
		if err := s.reserveAgain(ctx, tx, b); err != nil {
			return p, nil, err
		}
		return next, []progress.Effects{effects}, tx.AddRecord(ctx, a.Name, "build renewed", ref(b), map[string]string{"was": string(b.State), "cause": b.Cause})
	}); err != nil {
		return view.Build{}, err
	}
	b, err = s.DB.BuildByID(ctx, b.ID)
	return buildView(b), err
}

// refuseRound checks what can be told before the round begins.
func (s *Service) refuseRound(ctx context.Context, b database.Build) error {
	whole := "oskeld again " + ref(b) + " --whole makes a new build of the same commit"
	switch {
	case b.State == progress.Passed:
		return fault.Conflict("all of build %s passed", ref(b)).Hint("%s", whole)
	case !b.State.Over() || b.EndedAt == nil:
		return fault.Conflict("build %s goes on yet", ref(b)).Hint("oskeld follow %s", ref(b))
	case time.Since(*b.EndedAt) > roundsLast:
		return fault.Conflict("build %s ended on %s, and can go on for three days", ref(b), b.EndedAt.Format(time.DateOnly)).Hint("%s", whole)
	}
	p, err := s.DB.Pipeline(ctx, b.PipelineName)
	if err != nil {
		return err
	}
	return s.refuse(ctx, &start{pipeline: p, ref: cmp.Or(b.Tag, b.Branch, b.Ref), at: git.At{Commit: b.Commit, Branch: b.Branch, Tag: b.Tag}, plan: b.Plan, trusted: b.Trusted})
}

// reserveAgain reserves what a build reserved at its start, and lets it wait for others of its branch
// as its file says.
func (s *Service) reserveAgain(ctx context.Context, tx *database.DB, b database.Build) error {
	admissions, err := tx.AdmissionsOf(ctx, b.ID)
	if err != nil {
		return err
	}
	for _, adm := range admissions {
		store, err := tx.StoreBrief(ctx, adm.StoreName)
		if err != nil {
			return err
		}
		holds := store.Rewrite != "always"
		if holds {
			holder, taken, err := tx.Holding(ctx, adm.Store, adm.Name, adm.Version)
			if err != nil {
				return err
			}
			if taken && !again(store, holder, b) {
				return takenBy(holder)
			}
			holds = !taken
		}
		if err := tx.Refill(ctx, adm.ID, holds); err != nil {
			return err
		}
	}
	if b.Plan.Overlap != language.Queue {
		return nil
	}
	open, err := tx.OpenBuilds(ctx, b.Pipeline, b.Branch, b.Tag)
	if err != nil || len(open) == 0 {
		return err
	}
	return tx.PutBehind(ctx, b.ID, open[len(open)-1])
}
