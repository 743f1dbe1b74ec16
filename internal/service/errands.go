package service

import (
	"context"
	"fmt"
	"time"

	"github.com/google/uuid"
	"oskeld.dev/oskeld/internal/core/artifact"
	"oskeld.dev/oskeld/internal/core/facts"
	"oskeld.dev/oskeld/internal/core/provenance"
	"oskeld.dev/oskeld/internal/database"
)

// runErrands does what is owed after changes, each at least once; doing one twice is harmless.
func (s *Service) runErrands(ctx context.Context) {
	cleaned, removed := time.Time{}, time.Time{}
	s.every(ctx, 5*time.Second, TopicErrands, func() {
		if time.Since(cleaned) > time.Hour {
			cleaned = time.Now()
			if err := s.blobs.Clean(time.Now().Add(-holdLength)); err != nil {
				s.Log.Warn("old uploads could not be removed", "error", err)
			}
		}
		if time.Since(removed) > goneEvery {
			removed = time.Now()
			s.removeGone(ctx)
		}
		for {
			errands, err := s.DB.TakeErrands(ctx, 10)
			if err != nil || len(errands) == 0 {
				return
			}
			for _, e := range errands {
				s.errand(ctx, e)
			}
			s.Hub.Tell(TopicErrands) // promotions wait for statements
		}
	})
}

func (s *Service) errand(ctx context.Context, e database.Errand) {
	do := map[string]func(context.Context, uuid.UUID) error{"provenance": s.writeProvenance, "after": s.startAfter, "logs": s.keepLogs}[e.Kind]
	err := fmt.Errorf("this release knows no errand %q", e.Kind)
	if do != nil {
		err = do(ctx, e.About)
	}
	if err == nil {
		err = s.DB.EndErrand(ctx, e.ID)
	}
	if err == nil || ctx.Err() != nil {
		return
	}
	s.Log.Error("an errand failed and will be tried again", "kind", e.Kind, "about", e.About, "tries", e.Tries, "error", err)
	wait := min(time.Hour, time.Second<<min(e.Tries, 12))
	if err := s.DB.PutOffErrand(ctx, e.ID, wait, err.Error()); err != nil {
		s.Log.Error("an errand could not be put off", "error", err)
	}
}

// writeProvenance states for each artifact of a passed build how it was built, and signs it.
func (s *Service) writeProvenance(ctx context.Context, build uuid.UUID) error {
	b, err := s.DB.BuildByID(ctx, build)
	if err != nil {
		return err
	}
	f, err := s.buildFacts(ctx, b)
	if err != nil {
		return err
	}
	admissions, err := s.DB.AdmissionsOf(ctx, build)
	if err != nil {
		return err
	}
	for _, a := range admissions {
		if a.State != "sealed" || a.Content == nil {
			continue
		}
		files, err := s.DB.ContentFiles(ctx, *a.Content)
		if err != nil {
			return err
		}
		statement, err := provenance.Statement(artifact.Content{Files: files}, f)
		if err != nil {
			return err
		}
		envelope, err := provenance.Sign(ctx, s.signing, statement)
		if err != nil {
			return err
		}
		if err := s.DB.AddStatement(ctx, *a.Content, build, envelope); err != nil {
			return err
		}
	}
	return nil
}

func (s *Service) buildFacts(ctx context.Context, b database.Build) (provenance.Facts, error) {
	pipeline, err := s.DB.Pipeline(ctx, b.PipelineName)
	if err != nil {
		return provenance.Facts{}, err
	}
	src, err := s.DB.Source(ctx, pipeline.SourceName)
	if err != nil {
		return provenance.Facts{}, err
	}
	f := provenance.Facts{Service: s.URL, Build: ref(b), Pipeline: b.PipelineName, File: pipeline.File, Ref: b.Ref, Branch: b.Branch, Tag: b.Tag,
		StartedBy: b.StartedBy, Version: b.Version, Start: b.CreatedAt}
	if b.EndedAt != nil {
		f.End = *b.EndedAt
	}
	f.Inputs = append(f.Inputs, provenance.Input{Name: src.Name, URI: "git+" + src.URL + "@" + b.Commit, Digest: map[string]string{"gitCommit": b.Commit}})
	inputs, err := s.DB.Inputs(ctx, b.ID)
	if err != nil {
		return f, err
	}
	for _, in := range inputs {
		f.Inputs = append(f.Inputs, provenance.Input{Name: in.Store + "/" + in.Name + "@" + in.Version + "#" + in.Path,
			URI: s.URL + "/files/" + in.Store + "/" + in.Name + "/" + in.Version + "/" + in.Path, Digest: map[string]string{"sha256": string(in.Digest)}})
	}
	agents, err := s.DB.Agents(ctx)
	if err != nil {
		return f, err
	}
	known := map[string]facts.Facts{}
	for _, a := range agents {
		known[a.Name] = a.Facts
	}
	runs, err := s.DB.Runs(ctx, b.ID)
	for _, r := range runs {
		if r.Agent != "" {
			f.Stages = append(f.Stages, provenance.Stage{Name: r.Name, Agent: r.Agent, Facts: known[r.Agent]})
		}
	}
	return f, err
}
