package service

import (
	"bytes"
	"context"
	"errors"
	"slices"
	"time"

	"github.com/google/uuid"
	"github.com/pelletier/go-toml/v2"
	"oskeld.dev/oskeld/internal/core/admit"
	"oskeld.dev/oskeld/internal/core/artifact"
	"oskeld.dev/oskeld/internal/core/fault"
	"oskeld.dev/oskeld/internal/core/promotion"
	"oskeld.dev/oskeld/internal/core/view"
	"oskeld.dev/oskeld/internal/database"
)

// StoreOptions are the settings of a store, as in its TOML file.
type StoreOptions struct {
	Summary string
	Format  string
	Rewrite string
	From    []string
	Rank    int
	Outside bool
	Tools   bool
	Admits  admit.List
	Rules   []promotion.Rule
}

// storeFile is what a store's TOML file says.
type storeFile struct {
	Store          string           `toml:"store"`
	Summary        string           `toml:"summary"`
	Format         string           `toml:"format"`
	Rewrite        string           `toml:"rewrite"`
	From           []string         `toml:"from"`
	Rank           int              `toml:"rank"`
	Outside        bool             `toml:"outside"`
	Tools          bool             `toml:"tools"`
	AdmitPipelines []string         `toml:"admit_pipelines,omitempty"`
	AdmitRefs      []string         `toml:"admit_refs,omitempty"`
	Rule           []promotion.Rule `toml:"rule"`
}

// ReadStoreFile reads a store's settings from TOML; an unknown key is an error.
func ReadStoreFile(text []byte) (name string, o StoreOptions, err error) {
	var f storeFile
	d := toml.NewDecoder(bytes.NewReader(text)).DisallowUnknownFields()
	if err := d.Decode(&f); err != nil {
		return "", o, fault.Invalid("the store's file cannot be read: %v", err).
			Hint("keys: store, summary, format, rewrite, from, rank, outside, tools, admit_pipelines, admit_refs, [[rule]] with say and that")
	}
	return f.Store, StoreOptions{Summary: f.Summary, Format: f.Format, Rewrite: f.Rewrite, From: f.From, Rank: f.Rank, Outside: f.Outside, Tools: f.Tools,
		Admits: admit.List{Pipelines: f.AdmitPipelines, Refs: f.AdmitRefs}, Rules: f.Rule}, nil
}

// WriteStoreFile gives a store's settings as the TOML that ReadStoreFile reads.
func WriteStoreFile(s view.Store) ([]byte, error) {
	return toml.Marshal(storeFile{Store: s.Name, Summary: s.Summary, Format: s.Format, Rewrite: s.Rewrite, From: s.From, Rank: s.Rank, Outside: s.Outside, Tools: s.Tools,
		AdmitPipelines: s.Admits.Pipelines, AdmitRefs: s.Admits.Refs, Rule: s.Rules})
}

func checkStore(o *StoreOptions) error {
	if o.Format == "" {
		o.Format = "files"
	}
	if o.Format != "files" {
		return fault.Invalid("%q is no format of a store", o.Format).On("format").Hint("files")
	}
	if o.Rewrite == "" {
		o.Rewrite = "same"
	}
	if !slices.Contains([]string{"never", "same", "always"}, o.Rewrite) {
		return fault.Invalid("%q is no rewrite rule", o.Rewrite).On("rewrite").Hint("never, same or always")
	}
	for _, from := range o.From {
		if _, err := artifact.ParseName("store", from); err != nil {
			return err
		}
	}
	return promotion.Check(o.Rules)
}

// AddStore makes a store in a project.
func (s *Service) AddStore(ctx context.Context, a Actor, project, name string, o StoreOptions) (view.Store, error) {
	p, err := s.project(ctx, a, project, Manage)
	if err != nil {
		return view.Store{}, err
	}
	if _, err := artifact.ParseName("store", name); err != nil {
		return view.Store{}, err
	}
	if err := errors.Join(checkStore(&o), s.checkAdmits(ctx, o.Admits)); err != nil {
		return view.Store{}, err
	}
	if err := mayEquip(a, false, o.Tools); err != nil {
		return view.Store{}, err
	}
	st := database.Store{ID: newID(), Project: p.ID, ProjectName: p.Name, Name: name, Summary: o.Summary, Format: o.Format, Rewrite: o.Rewrite,
		Rank: o.Rank, Sources: o.From, Outside: o.Outside, Tools: o.Tools, Admits: o.Admits, Rules: o.Rules, Revision: 1, CreatedAt: time.Now().UTC()}
	if err := s.DB.AddStore(ctx, st); err != nil {
		return view.Store{}, err
	}
	return storeView(st), s.DB.AddRecord(ctx, a.Name, "store added", "store "+name, map[string]string{"rewrite": o.Rewrite})
}

// SetStore replaces a store's settings; its format stays.
func (s *Service) SetStore(ctx context.Context, a Actor, name string, o StoreOptions) (view.Store, error) {
	st, err := s.storeFor(ctx, a, name, Manage)
	if err != nil {
		return view.Store{}, err
	}
	if err := errors.Join(checkStore(&o), s.checkAdmits(ctx, o.Admits)); err != nil {
		return view.Store{}, err
	}
	if err := mayEquip(a, st.Tools, o.Tools); err != nil {
		return view.Store{}, err
	}
	st.Summary, st.Rewrite, st.Rank, st.Sources, st.Outside, st.Tools, st.Admits, st.Rules =
		o.Summary, o.Rewrite, o.Rank, o.From, o.Outside, o.Tools, o.Admits, o.Rules
	if err := s.DB.SetStore(ctx, st); err != nil {
		return view.Store{}, err
	}
	if err := s.DB.AddRecord(ctx, a.Name, "store set", "store "+name, map[string]string{"rewrite": o.Rewrite}); err != nil {
		return view.Store{}, err
	}
	st, err = s.DB.Store(ctx, name)
	return storeView(st), err
}

// mayEquip refuses to make a store one of tools to all but owners: what is in it runs in every project.
func mayEquip(a Actor, was, is bool) error {
	if is && !was && owns(a) != nil {
		return fault.Refused("only an owner of this service may make a store one of tools, from which agents of every project are equipped")
	}
	return nil
}

func storeView(st database.Store) view.Store {
	return view.Store{Name: st.Name, Project: st.ProjectName, Summary: st.Summary, Format: st.Format, Rewrite: st.Rewrite, From: orEmpty(st.Sources),
		Outside: st.Outside, Tools: st.Tools, Admits: orEmptyAdmits(st.Admits), Rank: st.Rank, Rules: orEmpty(st.Rules), Revision: st.Revision, CreatedAt: st.CreatedAt, Names: st.Names, Versions: st.Versions, Size: st.Size}
}

func (s *Service) storeFor(ctx context.Context, a Actor, name string, want Right) (database.Store, error) {
	st, err := s.DB.StoreBrief(ctx, name)
	if err != nil {
		return st, err
	}
	return st, s.may(ctx, a, st.Project, want, "store \""+name+"\"")
}

// Stores lists what the actor may read, lowest first.
func (s *Service) Stores(ctx context.Context, a Actor) ([]view.Store, error) {
	mine, err := s.projects(ctx, a)
	if err != nil {
		return nil, err
	}
	list, err := s.DB.Stores(ctx, mine)
	return mapped(list, storeView), err
}

// Store shows one store.
func (s *Service) Store(ctx context.Context, a Actor, name string) (view.Store, error) {
	if _, err := s.storeFor(ctx, a, name, Read); err != nil {
		return view.Store{}, err
	}
	st, err := s.DB.Store(ctx, name)
	return storeView(st), err
}

// Names lists the names in a store.
func (s *Service) Names(ctx context.Context, a Actor, store string) ([]view.ArtifactName, error) {
	st, err := s.storeFor(ctx, a, store, Read)
	if err != nil {
		return nil, err
	}
	list, err := s.DB.Names(ctx, st.ID)
	return mapped(list, func(n database.NameRow) view.ArtifactName { return view.ArtifactName(n) }), err
}

func artifactView(x database.Admission) view.Artifact {
	v := view.Artifact{Store: x.StoreName, Name: x.Name, Version: x.Version, Revision: x.Revision, State: x.State, Size: x.Size, Files: x.Files,
		Build: x.BuildRef, Commit: x.Commit, Branch: x.Branch, Tag: x.Tag, Promoted: x.OriginName, By: x.By, Marks: orEmpty(x.Marks),
		CreatedAt: x.CreatedAt, SealedAt: x.SealedAt, EndedAt: x.EndedAt, Statements: x.Statements}
	if x.Content != nil {
		v.Content = artifact.Digest(*x.Content)
	}
	return v
}

// Artifacts lists what a store holds, newest first.
func (s *Service) Artifacts(ctx context.Context, a Actor, store string) ([]view.Artifact, error) {
	st, err := s.storeFor(ctx, a, store, Read)
	if err != nil {
		return nil, err
	}
	list, err := s.DB.AdmissionsIn(ctx, st.ID, 500)
	return mapped(list, artifactView), err
}

// resolve finds the artifact that somebody wants, by version, range or mark.
func (s *Service) resolve(ctx context.Context, a Actor, ref string) (database.Admission, error) {
	w, err := artifact.ParseWanted(ref)
	if err != nil {
		return database.Admission{}, err
	}
	store, err := s.storeFor(ctx, a, string(w.Store), Read)
	if err != nil {
		return database.Admission{}, err
	}
	return s.wanted(ctx, store, w)
}

// Artifact shows an artifact with its files and how it got there.
func (s *Service) Artifact(ctx context.Context, a Actor, ref string) (view.ArtifactDetail, error) {
	adm, err := s.resolve(ctx, a, ref)
	if err != nil {
		return view.ArtifactDetail{}, err
	}
	d := view.ArtifactDetail{Artifact: artifactView(adm)}
	if d.Contents, err = s.DB.ContentFiles(ctx, *adm.Content); err != nil {
		return d, err
	}
	asked, err := s.DB.PromotionsFrom(ctx, adm.ID)
	if err != nil {
		return d, err
	}
	d.Promotions = mapped(asked, promotionView)
	if d.Admitted, err = s.admitted(ctx, adm); err != nil {
		return d, err
	}
	if d.Inputs = []view.Input{}; adm.Build != nil {
		d.Inputs, err = s.DB.Inputs(ctx, *adm.Build)
	}
	return d, err
}

func (s *Service) admitted(ctx context.Context, adm database.Admission) (*view.Promotion, error) {
	p, ok, err := s.DB.PromotionThatMade(ctx, adm.ID)
	if err != nil || !ok {
		return nil, err
	}
	v := promotionView(p)
	return &v, nil
}

func promotionView(p database.Promotion) view.Promotion {
	return view.Promotion{ID: p.ID.String(), From: p.From, To: p.To, Accepted: p.Accepted, Cause: p.Cause, By: p.By, Note: p.Note, Mark: p.Mark,
		Revision: p.Revision, Verdicts: orEmpty(p.Verdicts), CreatedAt: p.CreatedAt}
}

// Ladder shows a name across the stores of a store's project.
func (s *Service) Ladder(ctx context.Context, a Actor, store, name string) (view.Ladder, error) {
	st, err := s.storeFor(ctx, a, store, Read)
	if err != nil {
		return view.Ladder{}, err
	}
	l := view.Ladder{Name: name}
	stores, err := s.DB.Stores(ctx, []uuid.UUID{st.Project})
	if err != nil {
		return l, err
	}
	artifacts, err := s.DB.AdmissionsNamed(ctx, st.Project, name, 300)
	if err != nil {
		return l, err
	}
	if len(artifacts) == 0 {
		return l, fault.Missing("nothing is called %q in the stores of %s", name, st.ProjectName)
	}
	promotions, err := s.DB.PromotionsNamed(ctx, st.Project, name, 300)
	l.Artifacts, l.Promotions = mapped(artifacts, artifactView), mapped(promotions, promotionView)
	// The rungs are the stores that hold the name, and those that admit from one that does.
	for _, x := range mapped(stores, storeView) {
		holds := func(name string) bool {
			return slices.ContainsFunc(l.Artifacts, func(a view.Artifact) bool { return a.Store == name })
		}
		above := slices.ContainsFunc(x.From, func(from string) bool {
			return holds(from) || slices.ContainsFunc(l.Stores, func(s view.Store) bool { return s.Name == from })
		})
		if holds(x.Name) || above {
			l.Stores = append(l.Stores, x)
		}
	}
	return l, err
}
