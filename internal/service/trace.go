package service

import (
	"context"
	"slices"
	"strings"

	"github.com/google/uuid"
	"oskeld.dev/oskeld/internal/core/artifact"
	"oskeld.dev/oskeld/internal/core/fault"
	"oskeld.dev/oskeld/internal/core/view"
)

// Trace says what is known of a file or a content by its digest: where it lies, who made it from
// what, and which builds took it in.
func (s *Service) Trace(ctx context.Context, a Actor, digest artifact.Digest) (view.Trace, error) {
	t := view.Trace{Digest: digest, Places: []view.TracePlace{}, Uses: []view.Use{}}
	mine, err := s.projects(ctx, a)
	if err != nil {
		return t, err
	}
	lies, err := s.DB.WhereLies(ctx, digest, mine)
	if err != nil {
		return t, err
	}
	if len(lies) == 0 {
		return t, fault.Missing("no file or content with the digest %s is known here", digest).
			Hint("it was not delivered to this service, was changed since, or lies in a project that you may not read")
	}
	var build *uuid.UUID
	var contents []string
	for _, l := range lies {
		adm, err := s.DB.AdmissionByID(ctx, l.ID)
		if err != nil {
			return t, err
		}
		place := view.TracePlace{Artifact: artifactView(adm), Path: l.Path}
		if place.Admitted, err = s.admitted(ctx, adm); err != nil {
			return t, err
		}
		t.Places = append(t.Places, place)
		if adm.Content != nil && !slices.Contains(contents, *adm.Content) {
			contents = append(contents, *adm.Content)
		}
		if build == nil {
			build = adm.Build
		}
	}
	slices.SortStableFunc(t.Places, func(x, y view.TracePlace) int { return x.CreatedAt.Compare(y.CreatedAt) })
	if build != nil {
		b, err := s.DB.BuildByID(ctx, *build)
		if err != nil {
			return t, err
		}
		d, err := s.detail(ctx, b)
		if err != nil {
			return t, err
		}
		t.Build = &d
	}
	uses, err := s.DB.Uses(ctx, contents, 200)
	t.Uses = orEmpty(uses)
	return t, err
}

// Statements gives the signed envelopes about an artifact's content.
func (s *Service) Statements(ctx context.Context, a Actor, ref artifact.Ref) ([][]byte, error) {
	adm, err := s.resolve(ctx, a, ref.String())
	if err != nil {
		return nil, err
	}
	list, err := s.DB.Statements(ctx, *adm.Content)
	if err == nil && len(list) == 0 {
		err = fault.Missing("%s has no signed statement", ref).Hint("what a person delivered was not built here, so nothing is stated about it")
	}
	return list, err
}

// Records lists the journal, newest first.
func (s *Service) Records(ctx context.Context, a Actor, thing string, below int64, most int) ([]view.Record, error) {
	if !a.Owner {
		return nil, fault.Refused("only an owner of this service may read its whole journal")
	}
	list, err := s.DB.Records(ctx, thing, below, most)
	return orEmpty(list), err
}

// Find looks for pipelines, stores, builds and artifacts by a text; a digest finds a file.
func (s *Service) Find(ctx context.Context, a Actor, text string) ([]view.Found, error) {
	text = strings.TrimSpace(text)
	if text == "" || len(text) > 200 {
		return []view.Found{}, nil
	}
	mine, err := s.projects(ctx, a)
	if err != nil {
		return nil, err
	}
	if digest, err := artifact.ParseDigest(text); err == nil {
		lies, err := s.DB.WhereLies(ctx, digest, mine)
		if err != nil || len(lies) == 0 {
			return []view.Found{}, err
		}
		return []view.Found{{Kind: "file", Text: digest.String(), More: "its trace", Path: "/trace/" + string(digest)}}, nil
	}
	list, err := s.DB.Find(ctx, text, mine, 8)
	return orEmpty(list), err
}
