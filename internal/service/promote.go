package service

import (
	"context"
	"slices"
	"strings"
	"time"

	"oskeld.dev/oskeld/internal/core/artifact"
	"oskeld.dev/oskeld/internal/core/condition"
	"oskeld.dev/oskeld/internal/core/fault"
	"oskeld.dev/oskeld/internal/core/language"
	"oskeld.dev/oskeld/internal/core/progress"
	"oskeld.dev/oskeld/internal/core/promotion"
	"oskeld.dev/oskeld/internal/core/view"
	"oskeld.dev/oskeld/internal/database"
)

// PromoteOptions say where to and with what. DryRun judges and changes nothing.
type PromoteOptions struct {
	From   artifact.Ref
	To     string
	Mark   string
	Note   string
	DryRun bool
}

// MostNote is the longest note of a promotion, in bytes.
const MostNote = 64 << 10

// Promote admits the content of an artifact to another store: same bytes, new place. Every rule
// of the target is judged and shown. A refused promotion is no error: it is an answer, kept in
// the records with its verdicts.
func (s *Service) Promote(ctx context.Context, a Actor, o PromoteOptions) (view.Promotion, error) {
	from, err := s.resolve(ctx, a, o.From.String())
	if err != nil {
		return view.Promotion{}, err
	}
	want := Promote
	if o.DryRun {
		want = Read
	}
	to, err := s.storeFor(ctx, a, o.To, want)
	if err != nil {
		return view.Promotion{}, err
	}
	if err := checkPromotion(from, to, o); err != nil {
		return view.Promotion{}, err
	}
	if !o.DryRun {
		if err := s.awaitStatement(ctx, from); err != nil {
			return view.Promotion{}, err
		}
	}
	p := database.Promotion{ID: newID(), From: artifactView(from).Ref(), To: to.Name, By: a.Name, Note: o.Note, Mark: o.Mark, CreatedAt: time.Now().UTC()}
	err = s.DB.Change(ctx, func(tx *database.DB) error { return s.promote(ctx, tx, from, to.Name, &p, o.DryRun) })
	return promotionView(p), err
}

func checkPromotion(from database.Admission, to database.Store, o PromoteOptions) error {
	switch {
	case from.State != "sealed":
		return fault.Refused("%s is %s, so it cannot be promoted", artifactView(from).Ref(), from.State)
	case from.Store == to.ID:
		return fault.Invalid("%s is in store %s already", from.Name, to.Name).On("to")
	case from.Project != to.Project:
		return fault.Refused("stores %s and %s belong to different projects", from.StoreName, to.Name)
	case !slices.Contains(to.Sources, from.StoreName):
		admits := "it admits from none"
		if len(to.Sources) > 0 {
			admits = "it admits from " + strings.Join(to.Sources, ", ")
		}
		return fault.Refused("store %s does not admit from %s", to.Name, from.StoreName).Hint("%s", admits)
	case len(o.Note) > MostNote:
		return fault.Invalid("the note is longer than %d bytes", MostNote).On("note")
	}
	if o.Mark != "" {
		if _, err := artifact.ParseName("mark", o.Mark); err != nil {
			return err
		}
	}
	return nil
}

// awaitStatement waits for the provenance that a promotion carries along.
func (s *Service) awaitStatement(ctx context.Context, from database.Admission) error {
	if from.Build == nil {
		return nil
	}
	news, cancel := s.Hub.Subscribe(TopicErrands)
	defer cancel()
	for until := time.Now().Add(10 * time.Second); ; {
		owes, err := s.DB.OwesStatement(ctx, *from.Build)
		if err != nil || !owes {
			return err
		}
		if time.Now().After(until) {
			return fault.Unavailable("the provenance of build %s is not signed yet", from.BuildRef).Hint("try again in a moment")
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-news:
		case <-time.After(100 * time.Millisecond):
		}
	}
}

// promote judges the rules and, when all are met, admits. Rules are read in the transaction, so a
// rule that changed meanwhile counts.
func (s *Service) promote(ctx context.Context, tx *database.DB, from database.Admission, to string, p *database.Promotion, dryRun bool) error {
	store, err := tx.StoreBrief(ctx, to)
	if err != nil {
		return err
	}
	scope, err := s.promotionScope(ctx, tx, from)
	if err != nil {
		return err
	}
	p.Verdicts, p.Revision = promotion.Judge(store.Rules, scope), store.Revision
	var unmet []string
	for _, v := range p.Verdicts {
		if !v.Met {
			unmet = append(unmet, v.Say)
		}
	}
	if p.Accepted = len(unmet) == 0; !p.Accepted {
		p.Cause = "not met: " + strings.Join(unmet, "; ")
	}
	holder, taken, err := tx.Holding(ctx, store.ID, from.Name, from.Version)
	if err != nil {
		return err
	}
	if taken {
		p.Accepted = false
		p.Cause = from.Version + " is in " + to + " already"
		if holder.Content == nil || *holder.Content != *from.Content {
			p.Cause += ", with other bytes"
		}
	}
	if dryRun {
		return nil
	}
	details := map[string]string{"to": to, "cause": p.Cause}
	if !p.Accepted {
		if err := tx.AddPromotion(ctx, *p, from.ID, store.ID, nil); err != nil {
			return err
		}
		return tx.AddRecord(ctx, p.By, "promotion refused", p.From, details)
	}
	return s.admitPromoted(ctx, tx, from, store, p, details)
}

func (s *Service) admitPromoted(ctx context.Context, tx *database.DB, from database.Admission, store database.Store, p *database.Promotion, details map[string]string) error {
	made := database.Admission{ID: newID(), Store: store.ID, Name: from.Name, Version: from.Version, Revision: 1, State: "sealed",
		Holds: store.Rewrite != "always", Content: from.Content, Build: from.Build, Origin: &from.ID, By: p.By, SpareMS: from.SpareMS}
	if !made.Holds {
		var err error
		if made.Revision, err = tx.NextRevision(ctx, store.ID, from.Name, from.Version); err != nil {
			return err
		}
	}
	if err := tx.AddAdmission(ctx, made); err != nil {
		return err
	}
	if p.Mark != "" {
		before, err := tx.SetMark(ctx, store.ID, from.Name, p.Mark, made.ID, p.By)
		if err != nil {
			return err
		}
		details["mark"], details["mark_before"] = p.Mark, before
	}
	if err := tx.AddPromotion(ctx, *p, from.ID, store.ID, &made.ID); err != nil {
		return err
	}
	return tx.AddRecord(ctx, p.By, "promoted", p.From, details)
}

// promotionScope gathers what rules may see: the build that made the content, and its tests.
func (s *Service) promotionScope(ctx context.Context, tx *database.DB, from database.Admission) (condition.Scope, error) {
	scope := condition.Scope{Version: from.Version}
	if from.Build == nil {
		return scope, nil
	}
	b, err := tx.BuildByID(ctx, *from.Build)
	if err != nil {
		return scope, err
	}
	scope = scopeOf(b)
	rows, err := tx.Tests(ctx, b.ID)
	if err != nil || len(rows) == 0 {
		return scope, err
	}
	sum := condition.Tests{Complete: true, Stages: map[string]condition.Tests{}}
	read := map[int]bool{}
	for _, r := range rows {
		read[r.Run] = true
		sum.Total, sum.Passed, sum.Failed, sum.Skipped = sum.Total+r.Total, sum.Passed+r.Passed, sum.Failed+r.Failed, sum.Skipped+r.Skipped
		name := string(b.Plan.Runs[r.Run].Stage.Name)
		of := sum.Stages[name] // a stage in variants counts all of them
		sum.Stages[name] = condition.Tests{Total: of.Total + r.Total, Passed: of.Passed + r.Passed, Failed: of.Failed + r.Failed, Skipped: of.Skipped + r.Skipped, Complete: true}
	}
	runs, err := tx.Runs(ctx, b.ID)
	if err != nil {
		return scope, err
	}
	for i, r := range b.Plan.Runs {
		if r.Stage.Purpose == language.Test && (!read[i] || forgiven(runs[i])) {
			sum.Complete = false
		}
	}
	scope.Tests = &sum
	return scope, nil
}

// forgiven tells whether a step of a stage run failed and the stage run passed all the same.
func forgiven(r database.Run) bool {
	return r.State == progress.Passed && slices.ContainsFunc(r.Steps, func(s view.Step) bool { return s.State == progress.Failed })
}
