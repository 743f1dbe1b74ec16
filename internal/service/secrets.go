package service

import (
	"cmp"
	"context"
	"slices"
	"strings"

	"oskeld.dev/oskeld/internal/core/admit"
	"oskeld.dev/oskeld/internal/core/fault"
	"oskeld.dev/oskeld/internal/core/view"
	"oskeld.dev/oskeld/internal/database"
)

// MostSecret is the largest secret, in bytes.
const MostSecret = 64 << 10

// SecretOptions say whose a secret is and whom it admits: a pipeline's own, or one of the whole project,
// for all or for the named pipelines, and for all trusted refs or for those that fit the patterns.
type SecretOptions struct {
	Pipeline       string
	AdmitPipelines []string
	AdmitRefs      []string
}

// SetSecret keeps a secret's value, sealed.
func (s *Service) SetSecret(ctx context.Context, a Actor, project, name, value string, o SecretOptions) error {
	p, err := s.project(ctx, a, project, Manage)
	if err != nil {
		return err
	}
	if !secretName(name) {
		return fault.Invalid("%q cannot be the name of a secret", name).On("name").Hint("letters, digits and \"_\", not beginning with a digit or OSKELD_")
	}
	if value == "" || len(value) > MostSecret {
		return fault.Invalid("a secret has 1 to %d bytes", MostSecret).On("value").Hint("give it on standard input: printf %%s VALUE | oskeld secret set %s", name)
	}
	if err := (admit.List{Refs: o.AdmitRefs}).Check(); err != nil {
		return err
	}
	sealed, err := s.seal.seal([]byte(value))
	if err != nil {
		return err
	}
	secret := database.Secret{Name: name, Sealed: sealed, SetBy: a.Name, AdmitsPipelines: o.AdmitPipelines, AdmitsRefs: o.AdmitRefs}
	details := map[string]string{"secret": name, "pipelines": strings.Join(o.AdmitPipelines, " "), "refs": strings.Join(o.AdmitRefs, " ")}
	if o.Pipeline == "" {
		for _, pipeline := range o.AdmitPipelines {
			if _, err := s.pipelineIn(ctx, p, pipeline); err != nil {
				return err
			}
		}
		if err := s.DB.SetSecret(ctx, p.ID, secret); err != nil {
			return err
		}
		return s.DB.AddRecord(ctx, a.Name, "secret set", "project "+project, details)
	}
	if len(o.AdmitPipelines) > 0 {
		return fault.Invalid("a secret of one pipeline admits no others").On("admit_pipelines").Hint("leave --pipeline out, and name both with --admit-pipeline")
	}
	pipeline, err := s.pipelineIn(ctx, p, o.Pipeline)
	if err != nil {
		return err
	}
	if err := s.DB.SetPipelineSecret(ctx, pipeline.ID, secret); err != nil {
		return err
	}
	return s.DB.AddRecord(ctx, a.Name, "secret set", "pipeline "+o.Pipeline, details)
}

// pipelineIn finds a pipeline of a project; those of others are as if not there.
func (s *Service) pipelineIn(ctx context.Context, p database.Project, name string) (database.Pipeline, error) {
	pipeline, err := s.DB.Pipeline(ctx, name)
	if err == nil && pipeline.Project != p.ID {
		err = fault.Missing("project %s has no pipeline %q", p.Name, name)
	}
	return pipeline, err
}

func secretName(name string) bool {
	if name == "" || len(name) > 100 || strings.HasPrefix(name, "OSKELD_") || name[0] >= '0' && name[0] <= '9' {
		return false
	}
	return strings.Trim(name, "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789_") == ""
}

// RemoveSecret forgets a secret of a project, or of one pipeline of it.
func (s *Service) RemoveSecret(ctx context.Context, a Actor, project, pipeline, name string) error {
	p, err := s.project(ctx, a, project, Manage)
	if err != nil {
		return err
	}
	thing := "project " + project
	if pipeline == "" {
		err = s.DB.RemoveSecret(ctx, p.ID, name)
	} else {
		thing = "pipeline " + pipeline
		var of database.Pipeline
		if of, err = s.pipelineIn(ctx, p, pipeline); err == nil {
			err = s.DB.RemovePipelineSecret(ctx, of.ID, name)
		}
	}
	if err != nil {
		return err
	}
	return s.DB.AddRecord(ctx, a.Name, "secret removed", thing, map[string]string{"secret": name})
}

// Secrets lists the secrets of a project and of its pipelines without their values.
func (s *Service) Secrets(ctx context.Context, a Actor, project string) ([]view.Secret, error) {
	p, err := s.project(ctx, a, project, BuildIt)
	if err != nil {
		return nil, err
	}
	list, err := s.DB.Secrets(ctx, p.ID)
	return mapped(list, func(x database.Secret) view.Secret {
		return view.Secret{Name: x.Name, Project: project, Pipeline: x.Pipeline, AdmitsPipelines: orEmpty(x.AdmitsPipelines), AdmitsRefs: orEmpty(x.AdmitsRefs),
			Revision: x.Revision, SetBy: x.SetBy, SetAt: x.SetAt}
	}), err
}

// refuseSecrets refuses a build whose stages name secrets that are missing, or do not admit it.
func (s *Service) refuseSecrets(ctx context.Context, st *start) error {
	have, err := s.DB.SecretsFor(ctx, st.pipeline.Project, st.pipeline.ID)
	if err != nil {
		return err
	}
	ref := cmp.Or(st.at.Tag, st.at.Branch, st.ref)
	for _, r := range st.plan.Runs {
		for _, name := range r.Stage.Secrets {
			x, ok := have[name]
			switch {
			case !ok:
				return fault.Refused("secret %s is missing, and stage %q needs it", name, r.Stage.Name).
					Hint("oskeld secret set %s --project %s, with the value on standard input", name, st.pipeline.ProjectName)
			case !st.trusted:
				return fault.Refused("stage %q needs secret %s, and source %s does not trust %s", r.Stage.Name, name, st.pipeline.SourceName, ref).
					Hint("oskeld source set %s --trust PATTERN, if whoever can push there may read its secrets", st.pipeline.SourceName)
			}
			if why := admits(x).Refuses(st.pipeline.Name, st.at.Branch, st.at.Tag); why != "" {
				return fault.Refused("stage %q needs secret %s, which %s", r.Stage.Name, name, why).
					Hint("start from a ref that it admits, give the stage a `when`, or set it again to admit this: oskeld secret set %s --project %s --admit-pipeline ... --admit-ref ...", name, st.pipeline.ProjectName)
			}
		}
	}
	return nil
}

func admits(x database.Secret) admit.List {
	return admit.List{Pipelines: x.AdmitsPipelines, Refs: x.AdmitsRefs}
}

// fillSecrets gives a chain the values of the secrets that its stages name, and records who got them.
// A build of a ref that is not trusted, or not admitted by now, gets none.
func (s *Service) fillSecrets(ctx context.Context, tx *database.DB, b database.Build, agent string, wanted map[string]string) error {
	if len(wanted) == 0 || !b.Trusted {
		clear(wanted)
		return nil
	}
	have, err := tx.SecretsFor(ctx, b.Project, b.Pipeline)
	if err != nil {
		return err
	}
	var given []string
	for name := range wanted {
		x, ok := have[name]
		if !ok || admits(x).Refuses(b.PipelineName, b.Branch, b.Tag) != "" {
			delete(wanted, name)
			continue
		}
		value, err := s.seal.open(x.Sealed)
		if err != nil {
			return err
		}
		wanted[name] = string(value)
		given = append(given, name)
	}
	if len(given) == 0 {
		return nil
	}
	slices.Sort(given)
	return tx.AddRecord(ctx, "service", "secrets given", ref(b), map[string]string{"secrets": strings.Join(given, " "), "agent": agent})
}

// Rekey seals all that is kept under a key with another one. No service may run on the database meanwhile.
func Rekey(ctx context.Context, db *database.DB, old, next [32]byte) (int, error) {
	others, err := db.OthersAt(ctx)
	if err != nil {
		return 0, err
	}
	if others > 0 {
		return 0, fault.Conflict("a service runs on this database").Hint("stop every service, change the key, and start them with the new one")
	}
	from, err := newSealer(old)
	if err != nil {
		return 0, err
	}
	to, err := newSealer(next)
	if err != nil {
		return 0, err
	}
	return db.Reseal(ctx, func(sealed []byte) ([]byte, error) {
		plain, err := from.open(sealed)
		if err != nil {
			return nil, fault.Refused("the key does not fit this database: its secrets were sealed with another").Because(err)
		}
		return to.seal(plain)
	})
}
