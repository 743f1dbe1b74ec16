package service

import (
	"context"
	"errors"

	"github.com/google/uuid"
	"oskeld.dev/oskeld/internal/core/fault"
	"oskeld.dev/oskeld/internal/core/view"
	"oskeld.dev/oskeld/internal/database"
)

// errOccurred says that another process answered to an occurrence first.
var errOccurred = errors.New("another service has answered to it")

// transient tells whether an error may be gone at the next try, with nothing changed by anybody.
func transient(err error) bool {
	return fault.Is(err, fault.KindUnavailable) || fault.Is(err, fault.KindInternal)
}

// answer starts a build for an occurrence, or notes why not: each occurrence once, whoever else
// tries. An error means that nothing was decided and it is to be tried again.
func (s *Service) answer(ctx context.Context, st *start, o database.Occurrence) error {
	if known, err := s.DB.HasOccurrence(ctx, o); err != nil || known {
		return err
	}
	if st.pipeline.Resting {
		return s.noteNothing(ctx, o, "the pipeline's start rules rest")
	}
	st.occurs = &o
	_, err := s.begin(ctx, st)
	switch {
	case err == nil, errors.Is(err, errOccurred):
		return nil
	case transient(err):
		return err
	}
	o.Outcome, o.Cause, o.Build = "refused", err.Error(), nil
	_, err = s.DB.AddOccurrence(ctx, o)
	return err
}

// noteNothing notes that an occurrence starts nothing.
func (s *Service) noteNothing(ctx context.Context, o database.Occurrence, why string) error {
	o.Outcome, o.Cause = "nothing", why
	_, err := s.DB.AddOccurrence(ctx, o)
	return err
}

// Occurrences lists the newest things that could start a build of a pipeline, with what came of each.
func (s *Service) Occurrences(ctx context.Context, a Actor, pipeline string, most int) ([]view.Occurrence, error) {
	p, err := s.pipelineFor(ctx, a, pipeline, Read)
	if err != nil {
		return nil, err
	}
	list, err := s.DB.Occurrences(ctx, p.ID, most)
	return mapped(list, func(o database.Occurrence) view.Occurrence {
		return view.Occurrence{Kind: view.StartKind(o.Kind), Says: o.Says, Outcome: o.Outcome, Cause: o.Cause, Number: o.Number, At: o.At}
	}), err
}

// SetResting lets a pipeline's start rules rest, or wakes them; people may start it all the same.
func (s *Service) SetResting(ctx context.Context, a Actor, pipeline string, resting bool) (view.Pipeline, error) {
	p, err := s.pipelineFor(ctx, a, pipeline, BuildIt)
	if err != nil {
		return view.Pipeline{}, err
	}
	p.Resting = resting
	if err := s.DB.SetResting(ctx, p.ID, resting); err != nil {
		return view.Pipeline{}, err
	}
	did := map[bool]string{true: "start rules rest", false: "start rules woken"}[resting]
	return pipelineView(p), s.DB.AddRecord(ctx, a.Name, did, "pipeline "+p.Name, nil)
}

// startAfter starts the pipelines that come after one whose build has passed.
func (s *Service) startAfter(ctx context.Context, build uuid.UUID) error {
	b, err := s.DB.BuildByID(ctx, build)
	if err != nil {
		return err
	}
	rules, err := s.DB.AfterRules(ctx, b.PipelineName)
	if err != nil {
		return err
	}
	var all error
	for _, r := range rules {
		p, err := s.DB.PipelineByID(ctx, r.Pipeline)
		if err != nil {
			return err
		}
		all = errors.Join(all, s.startOneAfter(ctx, p, r, b))
	}
	return all
}

func (s *Service) startOneAfter(ctx context.Context, p database.Pipeline, r database.AfterRule, b database.Build) error {
	o := database.Occurrence{Pipeline: p.ID, Kind: string(view.ByAfter), Key: b.ID.String() + " " + r.Branch, Says: ref(b) + " passed"}
	if p.Project != b.Project {
		return s.noteNothing(ctx, o, "pipeline "+b.PipelineName+" belongs to another project")
	}
	trail := append(append([]string{}, b.Why.Trail...), b.PipelineName)
	for _, name := range trail {
		if name == p.Name {
			return s.noteNothing(ctx, o, "it would go round: "+p.Name+" itself led to this build")
		}
	}
	return s.answer(ctx, &start{pipeline: p, by: ref(b), ref: r.Branch, why: view.Why{Kind: view.ByAfter, Says: o.Says, Trail: trail}}, o)
}
