package demo

import (
	"context"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"time"

	"oskeld.dev/oskeld/internal/client"
	"oskeld.dev/oskeld/internal/core/artifact"
	"oskeld.dev/oskeld/internal/core/fault"
	"oskeld.dev/oskeld/internal/core/progress"
	"oskeld.dev/oskeld/internal/core/view"
)

// Project, people and how they sign in.
const (
	Project  = "heath"
	Password = "heather-and-honey"
)

// People of the cooperative's software team, with their roles in the project.
var People = []struct{ Name, Shown, Role string }{{"ida", "Ida Roan", "manage"}, {"per", "Per Voss", "build"}, {"nell", "Nell Thorpe", "promote"}}

// Stores, lowest first, as their TOML files.
var Stores = []string{`store   = "heath-go"
summary = "packages for our own programs"
rewrite = "never"
rank    = 0
`, `store   = "toolshed"
summary = "tools that agents are equipped with"
rewrite = "never"
rank    = 0
tools   = true
`, `store   = "intake"
summary = "all that passed"
rank    = 1
`, `store   = "proving"
summary = "what keepers try"
rewrite = "never"
rank    = 2
from    = ["intake"]

[[rule]]
say  = "Tests ran and none failed"
that = "tests.total > 0 && tests.failed == 0 && tests.complete"

[[rule]]
say  = "Built from main or a tag"
that = "source.branch == 'main' || source.tag != ''"
`, `store   = "shelf"
summary = "released"
rewrite = "never"
rank    = 3
from    = ["proving"]

[[rule]]
say  = "Tests ran and none failed"
that = "tests.total > 0 && tests.failed == 0 && tests.complete"

[[rule]]
say  = "A version that a tag gave"
that = "source.tag != '' && !version.contains('-')"
`}

// deed is one thing that happens, and how it must come out.
type deed struct {
	say  string
	do   func(ctx context.Context, s *Story) (string, error)
	want string
}

// Story plays the scenario through the API.
type Story struct {
	As     map[string]*client.Client // by person
	Say    func(format string, args ...any)
	Dir    string                   // where the sources are
	Cut    func(agent string) error // ends an agent as a power cut does, and starts it anew
	repos  map[string]Repository
	made   map[string]int    // commits of each source
	newest map[string]Commit // of each source
}

// deeds are what happened on the heath: not only its successes.
var deeds = []deed{
	{"nectar v1.0.0 is tagged and built", built("per", "nectar", "v1.0.0", 0), "passed 1.0.0"},
	{"hivebook v1.3.2 wants a secret that nobody set", built("per", "hivebook", "v1.3.2", 0), "refused: secret SIGNING_KEY is missing, and stage \"package\" needs it"},
	{"Ida sets it", secret("ida", "SIGNING_KEY", "bees-know-the-way-home"), "set"},
	{"hivebook v1.3.2 is built", built("per", "hivebook", "v1.3.2", 0), "passed 1.3.2"},
	{"1.3.2 is promoted to proving", promoted("nell", "intake/hivebook@1.3.2", "proving", "beta"), "accepted"},
	{"1.3.2 is released", promoted("nell", "proving/hivebook@1.3.2", "shelf", "stable"), "accepted"},
	{"Per changes how frost counts in nectar: a test fails", built("per", "nectar", "main", 1), "failed 1.0.1-main.2: 1 new"},
	{"Ida mends it", built("ida", "nectar", "main", 1), "passed 1.0.1-main.3"},
	{"nectar v1.1.0 is built from its tag", built("ida", "nectar", "v1.1.0", 0), "passed 1.1.0"},
	{"nectar v1.1.0 again: the version is taken", built("per", "nectar", "v1.1.0", 0), "refused: version 1.1.0 of nectar in store heath-go is taken: build nectar/4"},
	{"hivebook counts brood frames", built("ida", "hivebook", "main", 1), "passed 1.3.3-main.2"},
	{"that goes to proving", promoted("nell", "intake/hivebook@1.3.3-main.2", "proving", "beta"), "accepted"},
	{"and may not be released: no tag gave its version", promoted("nell", "proving/hivebook@1.3.3-main.2", "shelf", ""), "refused: not met: A version that a tag gave"},
	{"Nell shows the outlook, and begins the season too late", built("nell", "hivebook", "main", 1), "failed 1.3.3-main.3: 1 new"},
	{"she mends it", built("nell", "hivebook", "main", 1), "passed 1.3.3-main.4"},
	{"hivebook v1.4.0 is built from its tag", built("nell", "hivebook", "v1.4.0", 0), "passed 1.4.0"},
	{"1.4.0 is promoted to proving", promoted("nell", "intake/hivebook@1.4.0", "proving", "beta"), "accepted"},
	{"1.4.0 is released", promoted("nell", "proving/hivebook@1.4.0", "shelf", "stable"), "accepted"},
	{"the bloom calendar v1.0.0 shows the heath", built("nell", "bloom-calendar", "v1.0.0", 0), "passed 1.0.0"},
	{"Ida asks for the coast, with clover, as a draft", asked("ida", "bloom-calendar", "main", 1, "region=coast", "draft=true"), "passed 1.0.1-main.2"},
	{"Per asks for the moon", asked("per", "bloom-calendar", "main", 0, "region=moon"), "refused: \"moon\" cannot be picked for ask \"region\""},
	{"hive-scale wants a tool that no agent and no store has", built("per", "hive-scale", "v0.9.0", 0), "refused: no agent can run stage \"note\": it needs sizeline ^1"},
	{"Per puts it into the toolshed", delivered("per", "toolshed", "sizeline", "1.0.2", sizeline), "sealed"},
	{"hive-scale v0.9.0 is compiled in two variants", built("per", "hive-scale", "v0.9.0", 0), "passed 0.9.0"},
	{"a year of readings does not fit into the scale", built("per", "hive-scale", "main", 1), "failed 0.9.1-main.2: 0 new, fits"},
	{"a week of readings does", built("ida", "hive-scale", "main", 1), "passed 0.9.1-main.3"},
	{"smoker v0.1.0: a test is flaky, and passes on its second try", built("ida", "smoker", "v0.1.0", 0), "passed 0.1.0"},
	{"an agent loses its power in the middle of a slow stage", cut("per", "smoker", "season"), "passed 0.1.1-dev.2: season ran again"},
	{"from now on start rules answer to pushes, clocks and passed builds", awake("ida"), "awake"},
	{"Per names the scale's parts: a push of words alone", pushed("hive-scale"), "nothing: it touches only README.md"},
	{"Ida's push about rain starts a build by itself", pushed("hive-scale"), "passed 0.9.1-main.4"},
}

// SetUp makes project, people, sources, stores and pipelines, the first commits with them.
func (s *Story) SetUp(ctx context.Context) error {
	owner := s.As["ida"]
	post := func(path string, body any) error { return owner.Call(ctx, http.MethodPost, "/api/v1"+path, body, nil) }
	if err := post("/projects", map[string]string{"name": Project, "summary": "Heatherfield Beekeepers' Cooperative"}); err != nil {
		return err
	}
	for _, p := range People {
		if p.Name != "ida" {
			if err := post("/people", map[string]string{"name": p.Name, "shown": p.Shown, "password": Password}); err != nil {
				return err
			}
		}
		if err := owner.Call(ctx, http.MethodPut, "/api/v1/projects/"+Project+"/members", map[string]string{"person": p.Name, "role": p.Role}, nil); err != nil {
			return err
		}
	}
	for _, file := range Stores {
		if err := post("/stores", map[string]string{"project": Project, "file": file}); err != nil {
			return err
		}
	}
	s.repos, s.made, s.newest = map[string]Repository{}, map[string]int{}, map[string]Commit{}
	for _, name := range Sources() {
		repo, err := NewRepository(ctx, s.Dir, name)
		if err != nil {
			return err
		}
		s.repos[name] = repo
		if err := s.nextCommit(ctx, name); err != nil { // a source is bound with what it holds
			return err
		}
		if err := post("/sources", map[string]any{"project": Project, "name": name, "url": repo.Dir, "poll_s": 0}); err != nil {
			return err
		}
		if err := post("/pipelines", map[string]string{"name": name, "source": name}); err != nil {
			return err
		}
		if err := s.rest(ctx, "ida", name, true); err != nil { // until all that people started has been told
			return err
		}
	}
	return nil
}

// nextCommit adds the next commit of a source.
func (s *Story) nextCommit(ctx context.Context, source string) error {
	n := 0
	for _, c := range Commits {
		if c.Source != source {
			continue
		}
		if n == s.made[source] {
			s.made[source]++
			s.newest[source] = c
			return s.repos[source].Add(ctx, c)
		}
		n++
	}
	return fmt.Errorf("the scenario has no commit %d of %s", n+1, source)
}

// tag tags the newest commit of a source when that is what a build is asked for.
func (s *Story) tag(ctx context.Context, source, ref string) error {
	c := s.newest[source]
	if c.Tag != ref {
		return nil
	}
	s.newest[source] = Commit{} // once
	return s.repos[source].Tag(ctx, c)
}

// Play does all deeds in order. It stops at the first that comes out otherwise than it must.
func (s *Story) Play(ctx context.Context) error {
	for i, d := range deeds {
		got, err := d.do(ctx, s)
		if err != nil {
			return fmt.Errorf("%s: %w", d.say, err)
		}
		if !strings.HasPrefix(got, d.want) {
			return fmt.Errorf("%s: came out as %q, and the scenario says %q", d.say, got, d.want)
		}
		s.Say("%2d/%d  %-62s %s", i+1, len(deeds), d.say, strings.SplitN(got, ":", 2)[0])
	}
	return nil
}

// built adds commits to the pipeline's source, starts a build of a ref and waits for its end.
func built(by, pipeline, ref string, commits int) func(context.Context, *Story) (string, error) {
	return asked(by, pipeline, ref, commits)
}

// asked is built with values for asks, as NAME=VALUE.
func asked(by, pipeline, ref string, commits int, asks ...string) func(context.Context, *Story) (string, error) {
	return func(ctx context.Context, s *Story) (string, error) {
		for range commits {
			if err := s.nextCommit(ctx, pipeline); err != nil {
				return "", err
			}
		}
		if err := s.tag(ctx, pipeline, ref); err != nil {
			return "", err
		}
		chosen := map[string]string{}
		for _, ask := range asks {
			name, value, _ := strings.Cut(ask, "=")
			chosen[name] = value
		}
		var b view.Build
		err := s.As[by].Call(ctx, http.MethodPost, "/api/v1/pipelines/"+pipeline+"/builds", map[string]any{"ref": ref, "asks": chosen}, &b)
		if fault.Is(err, fault.KindRefused) || fault.Is(err, fault.KindConflict) || fault.Is(err, fault.KindInvalid) {
			return "refused: " + err.Error(), nil
		}
		if err != nil {
			return "", err
		}
		d, err := await(ctx, s.As[by], b)
		if err != nil {
			return "", err
		}
		out := fmt.Sprintf("%s %s", d.State, d.Version)
		if d.State == progress.Failed {
			out += fmt.Sprintf(": %d new", len(d.Failed))
			if len(d.Failed) == 0 {
				out += ", " + d.Cause
			}
		}
		return out, nil
	}
}

func (s *Story) rest(ctx context.Context, by, pipeline string, resting bool) error {
	return s.As[by].Call(ctx, http.MethodPut, "/api/v1/pipelines/"+pipeline, map[string]bool{"resting": resting}, nil)
}

// awake wakes the start rules and has the sources looked at; what they hold already is no push.
func awake(by string) func(context.Context, *Story) (string, error) {
	return func(ctx context.Context, s *Story) (string, error) {
		for _, name := range Sources() {
			if err := s.As[by].Call(ctx, http.MethodPut, "/api/v1/sources/"+name, map[string]int{"poll_s": 60}, nil); err != nil {
				return "", err
			}
			if err := s.rest(ctx, by, name, false); err != nil {
				return "", err
			}
			if err := until(ctx, func() (bool, error) {
				var look view.SourceLook
				err := s.As[by].Call(ctx, http.MethodGet, "/api/v1/sources/"+name, nil, &look)
				return look.LookedAt != nil, err
			}); err != nil {
				return "", err
			}
		}
		return "awake", nil
	}
}

// pushed adds a commit to a source, calls as its hook would, and waits for what comes of it.
func pushed(pipeline string) func(context.Context, *Story) (string, error) {
	return func(ctx context.Context, s *Story) (string, error) {
		c := s.As["ida"]
		before, err := client.Get[view.Occurrence](ctx, c, "/api/v1/pipelines/"+pipeline+"/starts")
		if err != nil {
			return "", err
		}
		if err := s.nextCommit(ctx, pipeline); err != nil {
			return "", err
		}
		var made struct {
			Key string `json:"key"`
		}
		if err := c.Call(ctx, http.MethodPost, "/api/v1/sources/"+pipeline+"/key", nil, &made); err != nil {
			return "", err
		}
		if err := c.SignedCall(ctx, pipeline, []byte(made.Key)); err != nil {
			return "", err
		}
		var list []view.Occurrence
		if err := until(ctx, func() (bool, error) {
			list, err = client.Get[view.Occurrence](ctx, c, "/api/v1/pipelines/"+pipeline+"/starts")
			return len(list) > len(before), err
		}); err != nil {
			return "", err
		}
		o := list[0] // the newest
		if o.Outcome != "started" {
			return o.Outcome + ": " + o.Cause, nil
		}
		d, err := await(ctx, c, view.Build{Pipeline: pipeline, Number: o.Number})
		return fmt.Sprintf("%s %s", d.State, d.Version), err
	}
}

// until asks again until something is so, for a minute at most.
func until(ctx context.Context, so func() (bool, error)) error {
	ctx, cancel := context.WithTimeout(ctx, time.Minute)
	defer cancel()
	for {
		if ok, err := so(); ok || err != nil {
			return err
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(50 * time.Millisecond):
		}
	}
}

// await follows a build to its end.
func await(ctx context.Context, c *client.Client, b view.Build) (d view.BuildDetail, err error) {
	path := fmt.Sprintf("/api/v1/builds/%s/%d", b.Pipeline, b.Number)
	err = c.Events(ctx, path+"/follow", "", func(e client.Event) (bool, error) { return e.Name != "end", nil })
	if err != nil {
		return d, err
	}
	return d, c.Call(ctx, http.MethodGet, path, nil, &d)
}

// sizeline is a small tool: it draws sizes given as NAME=BYTES as lines, a mark for 512 bytes.
const sizeline = `#!/bin/sh
for pair in "$@"; do
  bytes=${pair#*=}
  printf '%-8s %6d ' "${pair%%=*}" "$bytes"
  n=$((bytes / 512)); while [ $n -gt 0 ]; do printf '|'; n=$((n - 1)); done
  echo
done
`

// delivered puts a program into a store.
func delivered(by, store, name, version, program string) func(context.Context, *Story) (string, error) {
	return func(ctx context.Context, s *Story) (string, error) {
		dir, err := os.MkdirTemp("", "oskeld-demo-")
		if err != nil {
			return "", err
		}
		defer os.RemoveAll(dir)
		path := filepath.Join(dir, name)
		if err := os.WriteFile(path, []byte(program), 0o755); err != nil {
			return "", err
		}
		file, err := s.As[by].Send(ctx, path, func(int64) {})
		if err != nil {
			return "", err
		}
		var a view.Artifact
		in := map[string]any{"store": store, "name": name, "version": version, "files": []artifact.File{file}}
		err = s.As[by].Call(ctx, http.MethodPost, "/api/v1/deliveries", in, &a)
		return a.State, err
	}
}

func secret(by, name, value string) func(context.Context, *Story) (string, error) {
	return func(ctx context.Context, s *Story) (string, error) {
		return "set", s.As[by].Call(ctx, http.MethodPut, "/api/v1/projects/"+Project+"/secrets/"+name, map[string]string{"value": value}, nil)
	}
}

func promoted(by, from, to, mark string) func(context.Context, *Story) (string, error) {
	return func(ctx context.Context, s *Story) (string, error) {
		var p view.Promotion
		body := map[string]string{"from": from, "to": to, "mark": mark}
		if err := s.As[by].Call(ctx, http.MethodPost, "/api/v1/promotions", body, &p); err != nil {
			return "", err
		}
		if p.Accepted {
			return "accepted", nil
		}
		return "refused: " + p.Cause, nil
	}
}

// cut adds a commit, and lets the agent that runs a stage of its build lose its power in the middle.
func cut(by, pipeline, stage string) func(context.Context, *Story) (string, error) {
	return func(ctx context.Context, s *Story) (string, error) {
		if err := s.nextCommit(ctx, pipeline); err != nil {
			return "", err
		}
		c := s.As[by]
		var b view.Build
		if err := c.Call(ctx, http.MethodPost, "/api/v1/pipelines/"+pipeline+"/builds", map[string]string{"ref": "main"}, &b); err != nil {
			return "", err
		}
		agent := ""
		if err := until(ctx, func() (bool, error) {
			var d view.BuildDetail
			err := c.Call(ctx, http.MethodGet, fmt.Sprintf("/api/v1/builds/%s/%d", b.Pipeline, b.Number), nil, &d)
			for _, r := range d.Runs {
				if r.Name == stage && r.State == progress.Running && r.Lines > 3 {
					agent = r.Agent
				}
			}
			return agent != "" || d.State.Over(), err
		}); err != nil || agent == "" {
			return "no agent was there to be cut", err
		}
		if err := s.Cut(agent); err != nil {
			return "", err
		}
		d, err := await(ctx, c, b)
		if err != nil {
			return "", err
		}
		records, err := client.Get[view.Record](ctx, s.As["ida"], "/api/v1/records?most=100")
		out := fmt.Sprintf("%s %s", d.State, d.Version)
		for _, r := range records {
			if r.Did == "agent lost" && r.Thing == fmt.Sprintf("%s/%d", b.Pipeline, b.Number) {
				return out + ": " + stage + " ran again", nil
			}
		}
		return out + ": no agent was lost", err
	}
}

// Summary is what the demo ran, as the service tells it.
type Summary struct {
	Builds     []view.Build
	Artifacts  []view.Artifact
	Promotions []view.Promotion
	Refused    []view.Record
}

// Sum reads the summary and checks it against the scenario: every build, artifact and promotion
// that the deeds tell of is there, with its outcome.
func Sum(ctx context.Context, c *client.Client) (s Summary, err error) {
	for _, pipeline := range Sources() {
		list, err := client.Get[view.Build](ctx, c, "/api/v1/pipelines/"+pipeline+"/builds")
		if err != nil {
			return s, err
		}
		s.Builds = append(s.Builds, list...)
	}
	for _, at := range []string{"heath-go/nectar", "intake/hivebook", "intake/bloom", "intake/hive-scale", "intake/smoker"} {
		store, name, _ := strings.Cut(at, "/")
		var l view.Ladder
		if err := c.Call(ctx, http.MethodGet, "/api/v1/stores/"+store+"/ladder/"+name, nil, &l); err != nil {
			return s, err
		}
		s.Artifacts = append(s.Artifacts, l.Artifacts...)
		s.Promotions = append(s.Promotions, l.Promotions...)
	}
	records, err := client.Get[view.Record](ctx, c, "/api/v1/records?most=500")
	if err != nil {
		return s, err
	}
	for _, r := range records {
		if r.Did == "start refused" {
			s.Refused = append(s.Refused, r)
		}
	}
	return s, s.check()
}

func (s Summary) check() error {
	want := map[string]int{"passed": 0, "failed": 0, "refused": 0, "accepted": 0, "promotion refused": 0}
	for _, d := range deeds {
		word, _, _ := strings.Cut(d.want, " ")
		word = strings.TrimSuffix(word, ":")
		if strings.Contains(d.want, "not met") {
			word = "promotion refused"
		}
		want[word]++
	}
	got := map[string]int{}
	for _, b := range s.Builds {
		got[string(b.State)]++
	}
	for _, p := range s.Promotions {
		if p.Accepted {
			got["accepted"]++
		} else {
			got["promotion refused"]++
		}
	}
	got["refused"] = len(s.Refused)
	for _, word := range []string{"passed", "failed", "refused", "accepted", "promotion refused"} {
		if got[word] < want[word] {
			return fmt.Errorf("%d came out as %q, and the scenario says %d", got[word], word, want[word])
		}
	}
	sealed := 0
	for _, a := range s.Artifacts {
		if a.State == "sealed" {
			sealed++
		}
	}
	if least := want["passed"] + want["accepted"]; sealed < least {
		return fmt.Errorf("%d artifacts are sealed, and the scenario says %d", sealed, least)
	}
	return nil
}
