package service

import (
	"cmp"
	"context"
	"io"
	"path"
	"slices"
	"strings"

	"github.com/google/uuid"
	"oskeld.dev/oskeld/internal/core/artifact"
	"oskeld.dev/oskeld/internal/core/condition"
	"oskeld.dev/oskeld/internal/core/fault"
	"oskeld.dev/oskeld/internal/core/language"
	"oskeld.dev/oskeld/internal/core/plan"
	"oskeld.dev/oskeld/internal/database"
)

// wanted finds a sealed artifact by version, range or mark in a store.
func (s *Service) wanted(ctx context.Context, store database.Store, w artifact.Wanted) (database.Admission, error) {
	version := string(w.Version)
	switch {
	case w.Mark != "":
		return s.DB.AdmissionAt(ctx, store.Name, string(w.Name), string(w.Mark))
	case w.Range != "":
		versions, err := s.DB.VersionsOf(ctx, store.ID, string(w.Name))
		if err != nil {
			return database.Admission{}, err
		}
		best, ok := w.Best(versions)
		if !ok {
			slices.Sort(versions)
			e := fault.Missing("no version of %s/%s fits %s", w.Store, w.Name, w.Range)
			if len(versions) == 0 {
				return database.Admission{}, e.Hint("the store holds nothing of that name")
			}
			return database.Admission{}, e.Hint("there are %s", strings.Join(versions[max(0, len(versions)-8):], ", "))
		}
		version = string(best)
	}
	adm, err := s.DB.Admission(ctx, store.Name, string(w.Name), version)
	if err == nil && adm.State == "filling" {
		err = fault.Missing("%s is still being filled by build %s", w, adm.BuildRef).Hint("it can be fetched once the build has passed")
	}
	return adm, err
}

// wantedFor finds what a pipeline of a project wants; stores of other projects are as if not there.
func (s *Service) wantedFor(ctx context.Context, project uuid.UUID, text string) (database.Admission, error) {
	w, err := artifact.ParseWanted(text)
	if err != nil {
		return database.Admission{}, err
	}
	store, err := s.DB.StoreBrief(ctx, string(w.Store))
	if fault.Is(err, fault.KindMissing) || err == nil && store.Project != project {
		return database.Admission{}, fault.Missing("there is no store %q", w.Store)
	}
	if err != nil {
		return database.Admission{}, err
	}
	return s.wanted(ctx, store, w)
}

// expand reads the routines that a pipeline uses from their stores and puts their steps in.
func (s *Service) expand(ctx context.Context, project uuid.UUID, p *language.Pipeline) (*language.Pipeline, error) {
	texts := map[string][]byte{}
	for _, ref := range p.Routines() {
		text, err := s.routine(ctx, project, ref)
		if err != nil {
			e := fault.Refused("routine %s cannot be had: %v", ref, err)
			return nil, e.Because(err).Hint("oskeld deliver %s routine.toml puts one into a store", ref)
		}
		texts[ref] = text
	}
	return language.Expand(p, texts)
}

func (s *Service) routine(ctx context.Context, project uuid.UUID, ref string) ([]byte, error) {
	adm, err := s.wantedFor(ctx, project, ref)
	if err != nil {
		return nil, err
	}
	files, err := s.DB.ContentFiles(ctx, *adm.Content)
	if err != nil {
		return nil, err
	}
	files = slices.DeleteFunc(files, func(f artifact.File) bool { return path.Ext(f.Path) != ".toml" })
	if len(files) != 1 {
		return nil, fault.Invalid("it holds %d files that end in .toml; a routine is one", len(files))
	}
	if files[0].Size > language.MostBytes {
		return nil, fault.Invalid("%s has %d bytes", files[0].Path, files[0].Size)
	}
	body, _, err := s.blobs.Read(files[0].Digest)
	if err != nil {
		return nil, err
	}
	defer body.Close()
	return io.ReadAll(body)
}

// fetches settles what each `fetch` step of a plan gets, so that rounds and retries get the same.
// What is not there refuses the build.
func (s *Service) fetches(ctx context.Context, project uuid.UUID, p *plan.Plan) error {
	found := map[string]string{}
	p.Runs = slices.Clone(p.Runs) // plans are shared
	for i := range p.Runs {
		run := &p.Runs[i]
		run.Stage.Steps = slices.Clone(run.Stage.Steps)
		for j := range run.Stage.Steps {
			step := &run.Stage.Steps[j]
			if step.Fetch == nil || step.Off {
				continue
			}
			text, err := condition.Fill(step.Fetch.Artifact, p.Values(i, nil))
			if err != nil {
				continue // it depends on the version, which is not settled yet
			}
			if found[text] == "" {
				adm, err := s.wantedFor(ctx, project, text)
				if err != nil {
					f := fault.Refused("stage %q fetches %s: %v", run.Title(), text, err)
					return f.Because(err).Hint("%s", cmp.Or(adviceOf(err), "oskeld list "+strings.Split(text, "/")[0]+" shows what is there"))
				}
				found[text] = adm.StoreName + "/" + adm.Name + "@" + adm.Version
			}
			fetch := *step.Fetch
			fetch.Artifact = found[text]
			step.Fetch = &fetch
		}
	}
	return nil
}

func adviceOf(err error) string {
	if e, ok := err.(*fault.Error); ok {
		return e.Advice
	}
	return ""
}
