package service

import (
	"cmp"
	"context"
	"time"

	"oskeld.dev/oskeld/internal/core/fault"
	"oskeld.dev/oskeld/internal/core/language"
	"oskeld.dev/oskeld/internal/core/view"
	"oskeld.dev/oskeld/internal/database"
	"oskeld.dev/oskeld/internal/git"
)

// readRules keeps the clock and after rules of a source's pipelines, as the default branch has them.
func (s *Service) readRules(ctx context.Context, src database.Source, refs git.Refs) error {
	pipelines, err := s.DB.PipelinesOf(ctx, src.ID)
	if err != nil || len(pipelines) == 0 {
		return err
	}
	source, _, err := s.source(src)
	if err != nil {
		return err
	}
	if err := source.Fetch(ctx); err != nil {
		return err
	}
	at, err := source.Resolve(ctx, cmp.Or(refs.Default, "main"))
	if fault.Is(err, fault.KindMissing) {
		return nil // nothing is pushed yet
	}
	if err != nil {
		return err
	}
	for _, p := range pipelines {
		text, err := source.File(ctx, at.Commit, p.File, language.MostBytes)
		if err != nil && !fault.Is(err, fault.KindMissing) {
			return err
		}
		if read, _ := language.Read(p.File, text); read != nil || err != nil { // one with mistakes keeps the rules of the one before
			if err := s.keepRules(ctx, p, read); err != nil {
				return err
			}
		}
	}
	return nil
}

// keepRules keeps the rules that a pipeline's file gives; nil for a file that is gone.
func (s *Service) keepRules(ctx context.Context, p database.Pipeline, read *language.Pipeline) error {
	var clocks []database.ClockRule
	var afters []database.AfterRule
	if read != nil {
		now := time.Now()
		for _, rule := range read.Starts {
			switch next := rule.Next(now, 1); {
			case rule.After != "":
				afters = append(afters, database.AfterRule{Upstream: string(rule.After), Branch: rule.Branch})
			case len(next) > 0:
				clocks = append(clocks, database.ClockRule{Clock: rule.Clock, Zone: rule.Zone, Branch: rule.Branch, Due: next[0].UTC()})
			}
		}
	}
	return s.DB.KeepRules(ctx, p.ID, clocks, afters)
}

// watchClocks starts what the clock starts. An instant that was missed, because no service was up,
// fires once.
func (s *Service) watchClocks(ctx context.Context) {
	s.eachOf(ctx, "", func() (func(), bool) {
		rule, ok, err := s.DB.TakeDueClock(ctx)
		return func() { s.strike(ctx, rule) }, err == nil && ok
	})
}

// strike carries a clock rule out, or puts it off when something is in the way.
func (s *Service) strike(ctx context.Context, rule database.ClockRule) {
	err := s.fire(ctx, rule)
	if err == nil || ctx.Err() != nil {
		return
	}
	s.Log.Warn("a clock rule could not be carried out and will be tried again", "clock", rule.Clock, "error", err)
	if err := s.DB.PutOffClock(ctx, rule, time.Minute); err != nil {
		s.Log.Error("a clock rule could not be put off", "error", err)
	}
}

func (s *Service) fire(ctx context.Context, rule database.ClockRule) error {
	p, err := s.DB.PipelineByID(ctx, rule.Pipeline)
	if err != nil {
		return err
	}
	of := language.Start{Clock: rule.Clock, Zone: rule.Zone, Branch: rule.Branch}
	o := database.Occurrence{Pipeline: p.ID, Kind: string(view.ByClock), Key: rule.Clock + " " + rule.Zone + " " + rule.Branch + " " + rule.Due.UTC().Format(time.RFC3339),
		Says: "the clock: " + rule.Due.In(of.Location()).Format("Mon 2 Jan 2006 15:04 MST") + ", by \"" + rule.Clock + "\""}
	st := &start{pipeline: p, by: "the clock", ref: rule.Branch, why: view.Why{Kind: view.ByClock, Says: o.Says}}
	if err := s.answer(ctx, st, o); err != nil {
		return err
	}
	next := of.Next(time.Now(), 1)
	if len(next) == 0 {
		return nil
	}
	return s.DB.MoveClock(ctx, rule, next[0].UTC())
}
