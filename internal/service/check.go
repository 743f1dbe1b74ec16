package service

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"time"

	"github.com/google/uuid"
	"oskeld.dev/oskeld/internal/core/admit"
	"oskeld.dev/oskeld/internal/core/condition"
	"oskeld.dev/oskeld/internal/core/facts"
	"oskeld.dev/oskeld/internal/core/fault"
	"oskeld.dev/oskeld/internal/core/files"
	"oskeld.dev/oskeld/internal/core/language"
	"oskeld.dev/oskeld/internal/core/plan"
	"oskeld.dev/oskeld/internal/core/version"
	"oskeld.dev/oskeld/internal/core/view"
	"oskeld.dev/oskeld/internal/database"
	"oskeld.dev/oskeld/internal/git"
)

// CheckOptions are a pipeline file to check, and the project in which it is to build; "" for that of
// the pipeline of the file's name. Ref is what the next build would start from, "" for the default
// branch.
type CheckOptions struct {
	File    string
	Text    string
	Project string
	Ref     string
}

// Check tells all that is wrong with a pipeline file, also what only a service can tell: secrets,
// stores, agents, routines and artifacts that are not there, and a version that is taken.
func (s *Service) Check(ctx context.Context, a Actor, o CheckOptions) (language.Diagnostics, error) {
	p, found := language.Read(o.File, []byte(o.Text))
	if p == nil {
		return found, nil
	}
	pipeline, err := s.pipelineFor(ctx, a, string(p.Name), BuildIt)
	known := err == nil
	if err != nil && (o.Project == "" || !fault.Is(err, fault.KindMissing)) {
		return nil, fault.Missing("this service has no pipeline %q", p.Name).Because(err).Hint("say which project it is to build in: --project NAME")
	}
	if !known {
		project, err := s.project(ctx, a, o.Project, BuildIt)
		if err != nil {
			return nil, err
		}
		pipeline = database.Pipeline{Name: string(p.Name), Project: project.ID, ProjectName: project.Name}
	}
	c := &checker{s: s, m: language.NewMarker(o.File, []byte(o.Text), found), of: p, pipeline: pipeline}
	for _, check := range []func(context.Context) error{c.secrets, c.stores, c.steps, c.starts, c.agents} {
		if err := check(ctx); err != nil {
			return nil, err
		}
	}
	if known && c.m.Diagnostics().Errors() == 0 {
		if err := c.version(ctx, o.Ref); err != nil {
			return nil, err
		}
	}
	return c.m.Diagnostics(), nil
}

// checker compares a file with what the service has.
type checker struct {
	s        *Service
	m        *language.Marker
	of       *language.Pipeline
	pipeline database.Pipeline
}

func (c *checker) secrets(ctx context.Context) error {
	have, err := c.s.DB.SecretsFor(ctx, c.pipeline.Project, c.pipeline.ID)
	if err != nil {
		return err
	}
	for _, name := range c.of.Secrets {
		if _, ok := have[name]; !ok {
			c.m.Mark("S201", []string{"secrets", name}, "oskeld secret set "+name+" --project "+c.pipeline.ProjectName, "project %s has no secret %q", c.pipeline.ProjectName, name)
		}
	}
	return nil
}

func (c *checker) stores(ctx context.Context) error {
	stores, err := c.s.DB.Stores(ctx, []uuid.UUID{c.pipeline.Project})
	if err != nil {
		return err
	}
	known := mapped(stores, func(x database.Store) string { return x.Name })
	for _, stage := range c.of.Stages {
		for i, a := range stage.Artifacts {
			if slices.Contains(known, string(a.Store)) {
				continue
			}
			advice := "oskeld store add " + string(a.Store) + " --project " + c.pipeline.ProjectName
			if near := files.Closest(string(a.Store), known); near != "" {
				advice = fmt.Sprintf("did you mean %q?", near)
			}
			c.m.Mark("S202", []string{"stage", string(stage.Name), "artifact", strconv.Itoa(i), "store"}, advice, "project %s has no store %q", c.pipeline.ProjectName, a.Store)
		}
	}
	return nil
}

// steps looks for routines, fetched artifacts and outlets.
func (c *checker) steps(ctx context.Context) error {
	for _, stage := range c.of.Stages {
		for i, step := range stage.Steps {
			path := []string{"stage", string(stage.Name), "step", strconv.Itoa(i)}
			switch {
			case step.Routine != nil:
				one := &language.Pipeline{Stages: []language.Stage{{Steps: []language.Step{step}}}}
				if _, err := c.s.expand(ctx, c.pipeline.Project, one); err != nil {
					c.m.Mark("S204", append(path, "routine", "use"), adviceOf(err), "%s", err)
				}
			case step.Fetch != nil:
				if _, err := condition.Fill(step.Fetch.Artifact, nil); err != nil {
					continue // it depends on values that a build has
				}
				if _, err := c.s.wantedFor(ctx, c.pipeline.Project, step.Fetch.Artifact); err != nil {
					c.m.Mark("S206", append(path, "fetch", "artifact"), adviceOf(err), "%s", err)
				}
			case step.Send != nil:
				c.m.Mark("S207", append(path, "send", "to"), "take the step out, or say off = true", "there is no outlet %q", step.Send.Outlet)
			}
		}
	}
	return nil
}

func (c *checker) starts(ctx context.Context) error {
	for i, rule := range c.of.Starts {
		if rule.After == "" {
			continue
		}
		_, err := c.s.DB.Pipeline(ctx, string(rule.After))
		if fault.Is(err, fault.KindMissing) {
			c.m.Mark("S207", []string{"start", strconv.Itoa(i), "after"}, "oskeld pipeline list shows what there is", "there is no pipeline %q", rule.After)
		} else if err != nil {
			return err
		}
	}
	return nil
}

// agents looks for one that fits each chain, with the usual values of asks.
func (c *checker) agents(ctx context.Context) error {
	seen, err := c.s.DB.AgentsSeen(ctx)
	if err != nil {
		return err
	}
	agents := mapped(seen, func(x database.AgentSeen) facts.Agent { // of which ref a build will be is not known
		only := admit.List{Pipelines: x.Admits.Pipelines}
		return facts.Agent{Name: x.Name, Facts: x.Facts, Closed: only.Refuses(c.pipeline.Name, "", "")}
	})
	made, err := c.plan()
	if err != nil {
		return err
	}
	if err := c.s.findTools(ctx, &made, c.pipeline.Name, "", ""); err != nil {
		return err
	}
	told := map[string]bool{}
	for _, chain := range made.Chains {
		run := made.Runs[chain.Runs[0]]
		need := chain.Need()
		fits := slices.ContainsFunc(agents, func(a facts.Agent) bool { return a.Takes(need) })
		if fits || told[string(run.Stage.Name)] {
			continue
		}
		told[string(run.Stage.Name)] = true
		c.m.Mark("S203", []string{"stage", string(run.Stage.Name), "facts"}, "start an agent that has it, or change `facts`",
			"no agent can run stage %q: it needs %s; %s", run.Title(), chain.Demand, need.Nearest(agents))
	}
	return nil
}

// version looks whether the next build's version is free wherever it delivers.
func (c *checker) version(ctx context.Context, ref string) error {
	st := &start{pipeline: c.pipeline, ref: ref}
	source, err := c.s.fetchSource(ctx, st)
	if err != nil {
		return err
	}
	if err := c.s.versionFacts(ctx, source, st, c.of); err != nil {
		return err
	}
	st.facts.Number, st.facts.At = c.pipeline.Last+1, time.Now()
	next, why, err := st.rules.Settle(st.facts)
	if err != nil {
		c.m.Mark("S122", []string{"version"}, adviceOf(err), "%s", err)
		return nil
	}
	b := database.Build{PipelineName: c.pipeline.Name, Number: c.pipeline.Last + 1, Commit: st.at.Commit, Branch: st.at.Branch, Tag: st.at.Tag, Version: string(next), CreatedAt: st.facts.At}
	made, err := c.plan()
	if err != nil {
		return err
	}
	settled, err := made.Settle(scopeOf(b), braceValues(b))
	if err != nil {
		return err
	}
	told := map[plan.Target]bool{}
	for _, run := range settled.Runs {
		for i, a := range run.Stage.Artifacts {
			target := plan.Target{Store: a.Store, Name: a.Name}
			if told[target] || run.Skip != "" {
				continue
			}
			told[target] = true
			store, err := c.s.DB.StoreBrief(ctx, string(a.Store))
			if err != nil {
				return err
			}
			holder, taken, err := c.s.DB.Holding(ctx, store.ID, string(a.Name), string(next))
			if err != nil {
				return err
			}
			if taken && store.Rewrite != "always" && !again(store, holder, b) {
				c.m.Mark("S205", []string{"stage", string(run.Stage.Name), "artifact", strconv.Itoa(i), "name"}, "push a new tag, or change [version]", "%s; the next build would be %s", takenBy(holder), why)
			}
		}
	}
	return nil
}

// plan plans the file with the usual values of its asks.
func (c *checker) plan() (plan.Plan, error) {
	asks, err := language.Choose(c.of.Asks, nil)
	if err != nil {
		return plan.Plan{}, err
	}
	return plan.Make(c.of, asks)
}

// Version tells what version a build of a ref would have, without starting one.
func (s *Service) Version(ctx context.Context, a Actor, pipeline, ref string) (view.NextVersion, error) {
	p, err := s.pipelineFor(ctx, a, pipeline, Read)
	if err != nil {
		return view.NextVersion{}, err
	}
	st := &start{pipeline: p, ref: ref}
	source, err := s.fetchSource(ctx, st)
	if err != nil {
		return view.NextVersion{}, err
	}
	read, err := s.readFile(ctx, source, st)
	if err != nil {
		return view.NextVersion{}, err
	}
	if err := s.versionFacts(ctx, source, st, read); err != nil {
		return view.NextVersion{}, err
	}
	st.facts.Number, st.facts.At = p.Last+1, time.Now()
	next, why, err := st.rules.Settle(st.facts)
	return view.NextVersion{Version: string(next), Derivation: why, Commit: st.at.Commit, Semantic: version.Semantic(string(next))}, err
}

// fetchSource brings the source's copy up to date and finds the commit of the ref.
func (s *Service) fetchSource(ctx context.Context, st *start) (git.Copy, error) {
	src, err := s.DB.Source(ctx, st.pipeline.SourceName)
	if err != nil {
		return git.Copy{}, err
	}
	source, _, err := s.source(src)
	if err != nil {
		return source, err
	}
	st.trust = src.Trusted
	if st.moved != nil && source.Has(ctx, st.moved.Commit) {
		st.at = *st.moved
		return source, nil
	}
	fetch, cancel := context.WithTimeout(ctx, 2*time.Minute)
	defer cancel()
	if err := source.Fetch(fetch); err != nil {
		return source, err
	}
	if st.ref == "" {
		refs, err := s.look(ctx, src)
		if err != nil {
			return source, err
		}
		if st.ref = refs.Default; st.ref == "" {
			st.ref = "main"
		}
	}
	st.at, err = source.Resolve(ctx, st.ref)
	return source, err
}
