package service

import (
	"cmp"
	"context"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"

	"oskeld.dev/oskeld/internal/core/artifact"
	"oskeld.dev/oskeld/internal/core/fault"
	"oskeld.dev/oskeld/internal/core/language"
	"oskeld.dev/oskeld/internal/core/version"
	"oskeld.dev/oskeld/internal/core/view"
	"oskeld.dev/oskeld/internal/database"
	"oskeld.dev/oskeld/internal/git"
)

// AddProject makes a project; the actor manages it.
func (s *Service) AddProject(ctx context.Context, a Actor, name, summary string) (view.Project, error) {
	if err := owns(a); err != nil {
		return view.Project{}, err
	}
	if _, err := artifact.ParseName("project", name); err != nil {
		return view.Project{}, err
	}
	p := database.Project{ID: newID(), Name: name, Summary: summary, CreatedAt: time.Now().UTC()}
	return projectView(p), s.DB.Change(ctx, func(tx *database.DB) error {
		if err := tx.AddProject(ctx, p); err != nil {
			return err
		}
		if err := tx.SetMember(ctx, p.ID, a.person, "manage"); err != nil {
			return err
		}
		return tx.AddRecord(ctx, a.Name, "project added", "project "+name, nil)
	})
}

// SetMostPlaces limits how many places a project's builds may have at a time; 0: no limit.
func (s *Service) SetMostPlaces(ctx context.Context, a Actor, name string, most int) (view.Project, error) {
	if err := owns(a); err != nil {
		return view.Project{}, err
	}
	p, err := s.DB.Project(ctx, name)
	if err != nil {
		return view.Project{}, err
	}
	p.MostPlaces = most
	if err := s.DB.SetMostPlaces(ctx, p.ID, most); err != nil {
		return view.Project{}, err
	}
	s.Hub.Tell(TopicWork)
	return projectView(p), s.DB.AddRecord(ctx, a.Name, "project limited", "project "+name, map[string]string{"places": strconv.Itoa(most)})
}

func projectView(p database.Project) view.Project {
	return view.Project{Name: p.Name, Summary: p.Summary, MostPlaces: p.MostPlaces, CreatedAt: p.CreatedAt}
}

// Projects lists what the actor may read.
func (s *Service) Projects(ctx context.Context, a Actor) ([]view.Project, error) {
	mine, err := s.projects(ctx, a)
	if err != nil {
		return nil, err
	}
	all, err := s.DB.Projects(ctx)
	all = slices.DeleteFunc(all, func(p database.Project) bool { return !slices.Contains(mine, p.ID) })
	return mapped(all, projectView), err
}

// project finds a project and checks the actor's right in it.
func (s *Service) project(ctx context.Context, a Actor, name string, want Right) (database.Project, error) {
	p, err := s.DB.Project(ctx, name)
	if err != nil {
		return p, err
	}
	return p, s.may(ctx, a, p.ID, want, "project \""+name+"\"")
}

// SetMember gives a person a role in a project; role "none" takes it.
func (s *Service) SetMember(ctx context.Context, a Actor, project, person, role string) error {
	p, err := s.project(ctx, a, project, Manage)
	if err != nil {
		return err
	}
	who, err := s.DB.Person(ctx, person)
	if err != nil {
		return err
	}
	if _, ok := Roles[role]; !ok && role != "none" {
		return fault.Invalid("%q is not a role", role).On("role").Hint("read, build, promote, manage or none")
	}
	if role == "none" {
		err = s.DB.RemoveMember(ctx, p.ID, who.ID)
	} else {
		err = s.DB.SetMember(ctx, p.ID, who.ID, role)
	}
	if err != nil {
		return err
	}
	return s.DB.AddRecord(ctx, a.Name, "member set", "project "+project, map[string]string{"person": person, "role": role})
}

// Members lists a project's people.
func (s *Service) Members(ctx context.Context, a Actor, project string) ([]view.Member, error) {
	p, err := s.project(ctx, a, project, Read)
	if err != nil {
		return nil, err
	}
	list, err := s.DB.Members(ctx, p.ID)
	return mapped(list, func(m database.MemberRow) view.Member { return view.Member{Person: m.Person, Role: m.Role} }), err
}

// Credential opens a source: a user with a password or token, or an SSH private key.
type Credential = git.Credential

// SourceOptions describe a source. A nil Credential keeps the one there is; Trusted nil takes the
// default branch and the tags of the usual version rule.
type SourceOptions struct {
	URL        string
	Credential *Credential
	Trusted    []string
	Poll       *time.Duration // how often it is looked at for pushes; 0: after signed calls alone
}

// usualPoll is how often a source is looked at, unless it is said.
const usualPoll = time.Minute

// lookTimeout is how long a source may take to answer.
const lookTimeout = 30 * time.Second

// AddSource keeps a source after it has answered.
func (s *Service) AddSource(ctx context.Context, a Actor, project, name string, o SourceOptions) (view.SourceLook, error) {
	p, err := s.project(ctx, a, project, Manage)
	if err != nil {
		return view.SourceLook{}, err
	}
	if _, err := artifact.ParseName("source", name); err != nil {
		return view.SourceLook{}, err
	}
	src := database.Source{ID: newID(), Project: p.ID, ProjectName: p.Name, Name: name, CreatedAt: time.Now().UTC(), PollS: int(usualPoll.Seconds())}
	return s.keepSource(ctx, a, src, o, "source added", (*database.DB).AddSource)
}

// SetSource changes a source after it has answered under its new settings.
func (s *Service) SetSource(ctx context.Context, a Actor, name string, o SourceOptions) (view.SourceLook, error) {
	src, err := s.sourceFor(ctx, a, name, Manage)
	if err != nil {
		return view.SourceLook{}, err
	}
	return s.keepSource(ctx, a, src, o, "source set", (*database.DB).SetSource)
}

func (s *Service) keepSource(ctx context.Context, a Actor, src database.Source, o SourceOptions, did string,
	keep func(*database.DB, context.Context, database.Source) error) (view.SourceLook, error) {
	src.URL = cmp.Or(o.URL, src.URL)
	if o.Credential != nil {
		sealed, err := s.sealCredential(*o.Credential)
		if err != nil {
			return view.SourceLook{}, err
		}
		src.Credential = sealed
	}
	if o.Poll != nil {
		if *o.Poll < 0 || *o.Poll > 24*time.Hour || *o.Poll%time.Second != 0 {
			return view.SourceLook{}, fault.Invalid("a source cannot be looked at each %s", *o.Poll).On("poll").Hint("whole seconds up to 24h, or off")
		}
		src.PollS = int(o.Poll.Seconds())
	}
	refs, err := s.look(ctx, src)
	if err != nil {
		return view.SourceLook{}, err
	}
	if o.Trusted != nil {
		src.Trusted = o.Trusted
	} else if src.Trusted == nil {
		src.Trusted = []string{cmp.Or(refs.Default, "main"), version.UsualTag}
	}
	for _, t := range src.Trusted {
		if _, err := path.Match(t, ""); err != nil || t == "" {
			return view.SourceLook{}, fault.Invalid("%q is not a pattern for branches and tags", t).On("trusted").Hint("write main, release/* or v*")
		}
	}
	if err := keep(s.DB, ctx, src); err != nil {
		return view.SourceLook{}, err
	}
	s.Hub.Tell(TopicSources)
	err = s.DB.AddRecord(ctx, a.Name, did, "source "+src.Name, map[string]string{"url": src.URL, "trusted": strings.Join(src.Trusted, " ")})
	return s.sourceLook(src, refs), err
}

func (s *Service) look(ctx context.Context, src database.Source) (git.Refs, error) {
	_, remote, err := s.source(src)
	if err != nil {
		return git.Refs{}, err
	}
	ctx, cancel := context.WithTimeout(ctx, lookTimeout)
	defer cancel()
	return git.Look(ctx, remote)
}

func (s *Service) sourceView(src database.Source) view.Source {
	kind := "none"
	if c, err := s.openCredential(src.Credential); err == nil && c.Key != "" {
		kind = "key"
	} else if err == nil && c.Password != "" {
		kind = "password"
	}
	return view.Source{Name: src.Name, Project: src.ProjectName, URL: src.URL, Credential: kind, Trusted: src.Trusted, CreatedAt: src.CreatedAt,
		PollS: src.PollS, Calls: src.CallKey != nil, LookedAt: src.LookedAt, Trouble: src.Trouble}
}

func (s *Service) sourceLook(src database.Source, refs git.Refs) view.SourceLook {
	list := func(m map[string]string) []view.RefAt {
		out := make([]view.RefAt, 0, len(m))
		for name, commit := range m {
			out = append(out, view.RefAt{Name: name, Commit: commit})
		}
		slices.SortFunc(out, func(a, b view.RefAt) int { return strings.Compare(a.Name, b.Name) })
		return out
	}
	return view.SourceLook{Source: s.sourceView(src), Default: refs.Default, Branches: list(refs.Branches), Tags: list(refs.Tags)}
}

func (s *Service) sourceFor(ctx context.Context, a Actor, name string, want Right) (database.Source, error) {
	src, err := s.DB.Source(ctx, name)
	if err != nil {
		return src, err
	}
	return src, s.may(ctx, a, src.Project, want, "source \""+name+"\"")
}

// LookAtSource asks a source now which branches and tags it has.
func (s *Service) LookAtSource(ctx context.Context, a Actor, name string) (view.SourceLook, error) {
	src, err := s.sourceFor(ctx, a, name, Read)
	if err != nil {
		return view.SourceLook{}, err
	}
	refs, err := s.look(ctx, src)
	return s.sourceLook(src, refs), err
}

// Sources lists what the actor may read.
func (s *Service) Sources(ctx context.Context, a Actor) ([]view.Source, error) {
	mine, err := s.projects(ctx, a)
	if err != nil {
		return nil, err
	}
	list, err := s.DB.Sources(ctx, mine)
	return mapped(list, s.sourceView), err
}

// AddPipeline binds a file of a source. The name must be the one that the file says, where the
// default branch has the file.
func (s *Service) AddPipeline(ctx context.Context, a Actor, name, source, file string) (view.Pipeline, error) {
	src, err := s.sourceFor(ctx, a, source, Manage)
	if err != nil {
		return view.Pipeline{}, err
	}
	if _, err := artifact.ParseName("pipeline", name); err != nil {
		return view.Pipeline{}, err
	}
	p := database.Pipeline{ID: newID(), Project: src.Project, ProjectName: src.ProjectName, Name: name, Source: src.ID, SourceName: src.Name,
		File: cmp.Or(file, language.FileName), CreatedAt: time.Now().UTC()}
	refs, err := s.look(ctx, src)
	if err != nil {
		return view.Pipeline{}, err
	}
	copied, _, err := s.source(src)
	if err != nil {
		return view.Pipeline{}, err
	}
	if err := copied.Fetch(ctx); err != nil {
		return view.Pipeline{}, err
	}
	var read *language.Pipeline
	if at, err := copied.Resolve(ctx, cmp.Or(refs.Default, "main")); err == nil {
		text, err := copied.File(ctx, at.Commit, p.File, language.MostBytes)
		if err != nil {
			return view.Pipeline{}, err
		}
		// A file with mistakes may be bound: they are told at each start, and mended by a push.
		if read, _ = language.Read(p.File, text); read != nil {
			if err := sameName(p.Name, p.File, read); err != nil {
				return view.Pipeline{}, err
			}
			p.Summary = read.Summary
		}
	}
	if err := s.DB.AddPipeline(ctx, p); err != nil {
		return view.Pipeline{}, err
	}
	if err := s.keepRules(ctx, p, read); err != nil {
		return view.Pipeline{}, err
	}
	return pipelineView(p), s.DB.AddRecord(ctx, a.Name, "pipeline added", "pipeline "+name, map[string]string{"source": source, "file": p.File})
}

func sameName(name, file string, read *language.Pipeline) error {
	if string(read.Name) != name {
		return fault.Conflict("%s defines pipeline %q, not %q", file, read.Name, name).On("name").
			Hint("oskeld pipeline add %s …, or change `pipeline` in the file", read.Name)
	}
	return nil
}

func pipelineView(p database.Pipeline) view.Pipeline {
	return view.Pipeline{Name: p.Name, Project: p.ProjectName, Source: p.SourceName, File: p.File, Summary: p.Summary, CreatedAt: p.CreatedAt, Resting: p.Resting}
}

func (s *Service) pipelineFor(ctx context.Context, a Actor, name string, want Right) (database.Pipeline, error) {
	p, err := s.DB.Pipeline(ctx, name)
	if err != nil {
		return p, err
	}
	return p, s.may(ctx, a, p.Project, want, "pipeline \""+name+"\"")
}

// Pipelines lists what the actor may read, each with its newest build.
func (s *Service) Pipelines(ctx context.Context, a Actor) ([]view.Pipeline, error) {
	mine, err := s.projects(ctx, a)
	if err != nil {
		return nil, err
	}
	list, err := s.DB.Pipelines(ctx, mine)
	if err != nil {
		return nil, err
	}
	out := mapped(list, pipelineView)
	for i, p := range list {
		builds, err := s.DB.Builds(ctx, p.ID, 1<<30, 1)
		if err != nil {
			return nil, err
		}
		if len(builds) > 0 {
			b := buildView(builds[0])
			out[i].Last = &b
		}
	}
	return out, nil
}

// Pipeline shows one pipeline.
func (s *Service) Pipeline(ctx context.Context, a Actor, name string) (view.Pipeline, error) {
	p, err := s.pipelineFor(ctx, a, name, Read)
	return pipelineView(p), err
}
