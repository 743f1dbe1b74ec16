package web

import (
	"context"
	"encoding/json"
	"log/slog"
	"net/http"
	"os"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/gofiber/fiber/v3"
	"oskeld.dev/oskeld/internal/core/artifact"
	"oskeld.dev/oskeld/internal/core/fault"
	"oskeld.dev/oskeld/internal/core/provenance"
	"oskeld.dev/oskeld/internal/core/view"
	"oskeld.dev/oskeld/internal/service"
)

type reply[T any] struct{ Body T }

// operations registers operations of the API.
type operations struct {
	server *Server
	api    huma.API
}

// operate registers one operation under /api/v1 with its right. I holds parameters and body as
// huma reads them.
func operate[I, O any](ops operations, right service.Right, method, path, id, summary string, f func(context.Context, service.Actor, *I) (O, error)) {
	log := ops.server.log
	huma.Register(ops.api, huma.Operation{
		OperationID: id, Method: method, Path: "/api/v1" + path, Summary: summary, Metadata: map[string]any{rightKey: right},
		Description: "Needs the right: " + right.String() + ".", MaxBodyBytes: mostJSON,
		Tags:   []string{strings.SplitN(path, "/", 3)[1]},
		Errors: []int{http.StatusUnauthorized, http.StatusForbidden, http.StatusNotFound, http.StatusConflict, http.StatusUnprocessableEntity, http.StatusServiceUnavailable},
	}, func(ctx context.Context, in *I) (*reply[O], error) {
		actor, _ := ctx.Value(actorKey{}).(service.Actor)
		out, err := f(ctx, actor, in)
		if err != nil {
			return nil, problemOf(err, log, id)
		}
		return &reply[O]{out}, nil
	})
}

// Describe gives the OpenAPI 3.1 document of the API, indented.
func Describe() ([]byte, error) {
	s := &Server{app: fiber.New(), log: slog.Default()}
	return json.MarshalIndent(s.api().OpenAPI(), "", " ")
}

// Routes lists every route with its right.
func Routes() []Route { return New(nil, Options{Console: os.DirFS("/nonexistent")}).Routes }

type none struct{}

type done struct {
	Done bool `json:"done"`
}

type listed[T any] struct {
	List []T    `json:"list"`
	Next string `json:"next,omitempty" doc:"cursor of the next page; empty at the end"`
}

func all[T any](list []T, err error) (listed[T], error) { return listed[T]{List: list}, err }

type ByName struct {
	Name string `path:"name" maxLength:"100"`
}

type ByBuild struct {
	Pipeline string `path:"pipeline" maxLength:"100"`
	Number   int    `path:"number" minimum:"1"`
}

func (s *Server) api() huma.API {
	config := huma.DefaultConfig("Oskeld", service.Version)
	config.OpenAPIPath, config.DocsPath, config.SchemasPath = "", "", ""
	config.CreateHooks = nil
	config.Info.Description = "Pipelines, builds, artifacts and their trace. Errors are application/problem+json. Sign in with Authorization: Bearer TOKEN."
	api := huma.NewAPI(config, adapter{s})
	ops := operations{s, api}
	s.sessions(ops)
	s.setup(ops)
	s.manageAgents(ops)
	s.builds(ops)
	s.pipelineFiles(ops)
	s.starts(ops)
	s.caches(ops)
	s.stores(ops)
	s.add(service.Open, fiber.MethodGet, "/api/v1/openapi.json", func(_ context.Context, c fiber.Ctx, _ service.Actor) error {
		text, err := json.Marshal(api.OpenAPI())
		if err != nil {
			return err
		}
		c.Set(fiber.HeaderContentType, "application/json")
		return c.Send(text)
	})
	s.add(service.Open, fiber.MethodGet, "/api/v1/", func(_ context.Context, c fiber.Ctx, _ service.Actor) error {
		return describe(c, api.OpenAPI())
	})
	return api
}

func (s *Server) sessions(ops operations) {
	svc := s.service
	type credentials struct {
		Name     string `json:"name" maxLength:"100"`
		Password string `json:"password" maxLength:"200"`
	}
	// Signing in sets a cookie, which huma's replies have no room for.
	s.add(service.Open, fiber.MethodPost, "/api/v1/session", func(ctx context.Context, c fiber.Ctx, _ service.Actor) error {
		var in credentials
		if err := readJSON(c, &in); err != nil {
			return err
		}
		token, err := svc.SignIn(ctx, in.Name, in.Password, strings.Clone(c.IP()))
		if err != nil {
			return err
		}
		c.Cookie(&fiber.Cookie{Name: cookieName, Value: token, HTTPOnly: true, SameSite: fiber.CookieSameSiteStrictMode, Secure: c.Secure(), Path: "/", MaxAge: 12 * 3600})
		return c.JSON(map[string]string{"token": token})
	})
	s.add(service.Known, fiber.MethodDelete, "/api/v1/session", func(ctx context.Context, c fiber.Ctx, a service.Actor) error {
		c.Cookie(&fiber.Cookie{Name: cookieName, Value: "", HTTPOnly: true, SameSite: fiber.CookieSameSiteStrictMode, Path: "/", MaxAge: -1})
		if err := svc.SignOut(ctx, a); err != nil {
			return err
		}
		return c.JSON(done{true})
	})
	status := func(a service.Actor) (view.Status, error) {
		key, err := provenance.EncodeKey(svc.PublicKey())
		return view.Status{Service: service.Version, Person: a.Name, Owner: a.Owner, Scope: a.Scope, PublicKey: string(key)}, err
	}
	// The console asks whether somebody has signed in; that nobody has is no error.
	s.add(service.Open, fiber.MethodGet, "/api/v1/session", func(ctx context.Context, c fiber.Ctx, _ service.Actor) error {
		token, _ := tokenOf(c)
		a, err := svc.Actor(ctx, token)
		if fault.Is(err, fault.KindUnknown) {
			return c.JSON(nil)
		}
		if err != nil {
			return err
		}
		out, err := status(a)
		if err != nil {
			return err
		}
		return c.JSON(out)
	})
	operate(ops, service.Known, http.MethodGet, "/status", "status", "Who you are, and the service's version and public key",
		func(_ context.Context, a service.Actor, _ *none) (view.Status, error) { return status(a) })
	operate(ops, service.Own, http.MethodGet, "/people", "people", "List the accounts",
		func(ctx context.Context, a service.Actor, _ *none) (listed[view.Person], error) {
			return all(svc.People(ctx, a))
		})
	type newPerson struct {
		Body struct {
			Name     string `json:"name"`
			Shown    string `json:"shown,omitempty"`
			Password string `json:"password" minLength:"10" maxLength:"200"`
			Owner    bool   `json:"owner,omitempty"`
		}
	}
	operate(ops, service.Own, http.MethodPost, "/people", "person-add", "Make an account",
		func(ctx context.Context, a service.Actor, in *newPerson) (done, error) {
			return done{true}, svc.AddPerson(ctx, a, in.Body.Name, in.Body.Shown, in.Body.Password, in.Body.Owner)
		})
	type newPassword struct {
		Body struct {
			Old string `json:"old" maxLength:"200"`
			New string `json:"new" minLength:"10" maxLength:"200"`
		}
	}
	operate(ops, service.Known, http.MethodPut, "/password", "password", "Change your password; your other sessions end",
		func(ctx context.Context, a service.Actor, in *newPassword) (done, error) {
			return done{true}, svc.SetPassword(ctx, a, in.Body.Old, in.Body.New)
		})
	operate(ops, service.Known, http.MethodGet, "/tokens", "tokens", "List your tokens",
		func(ctx context.Context, a service.Actor, _ *none) (listed[view.Token], error) {
			return all(svc.Tokens(ctx, a))
		})
	type newToken struct {
		Body struct {
			Name  string `json:"name"`
			Scope string `json:"scope" enum:"read,build,all"`
			Hours int    `json:"hours" minimum:"1" maximum:"8784"`
		}
	}
	type shownToken struct {
		Text string     `json:"token" doc:"shown this once"`
		Of   view.Token `json:"of"`
	}
	operate(ops, service.BuildIt, http.MethodPost, "/tokens", "token-add", "Make a token for your programs",
		func(ctx context.Context, a service.Actor, in *newToken) (shownToken, error) {
			text, t, err := svc.AddToken(ctx, a, in.Body.Name, in.Body.Scope, time.Duration(in.Body.Hours)*time.Hour)
			return shownToken{text, t}, err
		})
	operate(ops, service.Known, http.MethodDelete, "/tokens/{name}", "token-remove", "End a token of yours, by its id",
		func(ctx context.Context, a service.Actor, in *ByName) (done, error) {
			return done{true}, svc.EndToken(ctx, a, in.Name)
		})
	type recordsOf struct {
		Thing string `query:"thing" maxLength:"300"`
		Below int64  `query:"below"`
		Most  int    `query:"most" default:"100" minimum:"1" maximum:"500"`
	}
	operate(ops, service.Own, http.MethodGet, "/records", "records", "Read the journal, newest first",
		func(ctx context.Context, a service.Actor, in *recordsOf) (listed[view.Record], error) {
			return all(svc.Records(ctx, a, in.Thing, in.Below, in.Most))
		})
	type find struct {
		Text string `query:"text" maxLength:"200"`
	}
	operate(ops, service.Known, http.MethodGet, "/find", "find", "Find a pipeline, build, store, artifact or digest",
		func(ctx context.Context, a service.Actor, in *find) (listed[view.Found], error) {
			return all(svc.Find(ctx, a, in.Text))
		})
}

func readJSON(c fiber.Ctx, into any) error { return readJSONOf(c, into, mostJSON) }

func readJSONOf(c fiber.Ctx, into any, most int64) error {
	d := json.NewDecoder(limited(bodyOf(c), most))
	d.DisallowUnknownFields()
	if err := d.Decode(into); err != nil {
		return fault.Invalid("the body is not the JSON that is wanted: %v", err)
	}
	return nil
}

func (s *Server) setup(ops operations) {
	svc := s.service
	operate(ops, service.Known, http.MethodGet, "/projects", "projects", "List projects",
		func(ctx context.Context, a service.Actor, _ *none) (listed[view.Project], error) {
			return all(svc.Projects(ctx, a))
		})
	type newProject struct {
		Body struct {
			Name    string `json:"name"`
			Summary string `json:"summary,omitempty" maxLength:"200"`
		}
	}
	operate(ops, service.Own, http.MethodPost, "/projects", "project-add", "Make a project",
		func(ctx context.Context, a service.Actor, in *newProject) (view.Project, error) {
			return svc.AddProject(ctx, a, in.Body.Name, in.Body.Summary)
		})
	type setProject struct {
		ByName
		Body struct {
			MostPlaces int `json:"most_places" minimum:"0" maximum:"100000" doc:"how many places its builds may have at a time; 0: no limit"`
		}
	}
	operate(ops, service.Own, http.MethodPut, "/projects/{name}", "project-set", "Limit how many places a project's builds may have at a time",
		func(ctx context.Context, a service.Actor, in *setProject) (view.Project, error) {
			return svc.SetMostPlaces(ctx, a, in.Name, in.Body.MostPlaces)
		})
	operate(ops, service.Read, http.MethodGet, "/projects/{name}/members", "members", "List a project's people",
		func(ctx context.Context, a service.Actor, in *ByName) (listed[view.Member], error) {
			return all(svc.Members(ctx, a, in.Name))
		})
	type setMember struct {
		ByName
		Body struct {
			Person string `json:"person"`
			Role   string `json:"role"`
		}
	}
	operate(ops, service.Manage, http.MethodPut, "/projects/{name}/members", "member-set", "Give a person a role in a project, or take it (none)",
		func(ctx context.Context, a service.Actor, in *setMember) (done, error) {
			return done{true}, svc.SetMember(ctx, a, in.Name, in.Body.Person, in.Body.Role)
		})
	type sourceBody struct {
		Project  string   `json:"project,omitempty"`
		Name     string   `json:"name,omitempty"`
		URL      string   `json:"url,omitempty"`
		User     string   `json:"user,omitempty"`
		Password string   `json:"password,omitempty"`
		Key      string   `json:"key,omitempty" doc:"SSH private key"`
		Open     bool     `json:"open,omitempty" doc:"forget the credential"`
		Trusted  []string `json:"trusted,omitempty"`
		PollS    *int     `json:"poll_s,omitempty" minimum:"0" maximum:"86400" doc:"how often it is looked at for pushes, in seconds; 0: only after signed calls"`
	}
	options := func(b sourceBody) service.SourceOptions {
		o := service.SourceOptions{URL: b.URL, Trusted: b.Trusted}
		if b.PollS != nil {
			poll := time.Duration(*b.PollS) * time.Second
			o.Poll = &poll
		}
		if b.Open || b.Password != "" || b.Key != "" {
			o.Credential = &service.Credential{User: b.User, Password: b.Password, Key: b.Key}
		}
		return o
	}
	operate(ops, service.Known, http.MethodGet, "/sources", "sources", "List sources",
		func(ctx context.Context, a service.Actor, _ *none) (listed[view.Source], error) {
			return all(svc.Sources(ctx, a))
		})
	operate(ops, service.Manage, http.MethodPost, "/sources", "source-add", "Bind a git repository, after asking it what it has",
		func(ctx context.Context, a service.Actor, in *struct{ Body sourceBody }) (view.SourceLook, error) {
			return svc.AddSource(ctx, a, in.Body.Project, in.Body.Name, options(in.Body))
		})
	type setSource struct {
		ByName
		Body sourceBody
	}
	operate(ops, service.Manage, http.MethodPut, "/sources/{name}", "source-set", "Change a source",
		func(ctx context.Context, a service.Actor, in *setSource) (view.SourceLook, error) {
			return svc.SetSource(ctx, a, in.Name, options(in.Body))
		})
	operate(ops, service.Read, http.MethodGet, "/sources/{name}", "source", "Ask a source which branches and tags it has",
		func(ctx context.Context, a service.Actor, in *ByName) (view.SourceLook, error) {
			return svc.LookAtSource(ctx, a, in.Name)
		})
	type SecretAt struct {
		ByName
		Secret string `path:"secret" maxLength:"100"`
	}
	type setSecret struct {
		SecretAt
		Body struct {
			Value          string   `json:"value" maxLength:"65536"`
			Pipeline       string   `json:"pipeline,omitempty" maxLength:"100" doc:"keep it for this pipeline alone"`
			AdmitPipelines []string `json:"admit_pipelines,omitempty" maxItems:"100" doc:"none named: all of the project"`
			AdmitRefs      []string `json:"admit_refs,omitempty" maxItems:"100" doc:"patterns of branches and tags; none named: all that its source trusts"`
		}
	}
	operate(ops, service.BuildIt, http.MethodGet, "/projects/{name}/secrets", "secrets", "List the secrets of a project and of its pipelines, without values",
		func(ctx context.Context, a service.Actor, in *ByName) (listed[view.Secret], error) {
			return all(svc.Secrets(ctx, a, in.Name))
		})
	operate(ops, service.Manage, http.MethodPut, "/projects/{name}/secrets/{secret}", "secret-set", "Keep a secret",
		func(ctx context.Context, a service.Actor, in *setSecret) (done, error) {
			return done{true}, svc.SetSecret(ctx, a, in.Name, in.Secret, in.Body.Value,
				service.SecretOptions{Pipeline: in.Body.Pipeline, AdmitPipelines: in.Body.AdmitPipelines, AdmitRefs: in.Body.AdmitRefs})
		})
	operate(ops, service.Manage, http.MethodDelete, "/projects/{name}/secrets/{secret}", "secret-remove", "Forget a secret",
		func(ctx context.Context, a service.Actor, in *struct {
			SecretAt
			Pipeline string `query:"pipeline" maxLength:"100" doc:"the one that is kept for this pipeline alone"`
		}) (done, error) {
			return done{true}, svc.RemoveSecret(ctx, a, in.Name, in.Pipeline, in.Secret)
		})
}

func (s *Server) builds(ops operations) {
	svc := s.service
	operate(ops, service.Known, http.MethodGet, "/pipelines", "pipelines", "List pipelines, each with its newest build",
		func(ctx context.Context, a service.Actor, _ *none) (listed[view.Pipeline], error) {
			return all(svc.Pipelines(ctx, a))
		})
	type newPipeline struct {
		Body struct {
			Name   string `json:"name"`
			Source string `json:"source"`
			File   string `json:"file,omitempty"`
		}
	}
	operate(ops, service.Manage, http.MethodPost, "/pipelines", "pipeline-add", "Bind a pipeline file of a source",
		func(ctx context.Context, a service.Actor, in *newPipeline) (view.Pipeline, error) {
			return svc.AddPipeline(ctx, a, in.Body.Name, in.Body.Source, in.Body.File)
		})
	operate(ops, service.Read, http.MethodGet, "/pipelines/{name}", "pipeline", "Show a pipeline",
		func(ctx context.Context, a service.Actor, in *ByName) (view.Pipeline, error) {
			return svc.Pipeline(ctx, a, in.Name)
		})
	type startBuild struct {
		ByName
		Body struct {
			Ref   string            `json:"ref,omitempty" maxLength:"300" doc:"branch, tag or commit; the default branch if empty"`
			Asks  map[string]string `json:"asks,omitempty" doc:"values for the file's asks, by name; a flag is true or false"`
			Fresh bool              `json:"fresh,omitempty" doc:"take nothing over from earlier builds"`
		}
	}
	operate(ops, service.BuildIt, http.MethodPost, "/pipelines/{name}/builds", "start", "Start a build",
		func(ctx context.Context, a service.Actor, in *startBuild) (view.Build, error) {
			return svc.Start(ctx, a, in.Name, service.StartOptions{Ref: in.Body.Ref, Asks: in.Body.Asks, Fresh: in.Body.Fresh})
		})
	type builds struct {
		ByName
		Below int `query:"below" doc:"cursor: builds with a lower number"`
		Most  int `query:"most" default:"60" minimum:"1" maximum:"200"`
	}
	operate(ops, service.Read, http.MethodGet, "/pipelines/{name}/builds", "builds", "List a pipeline's builds, newest first",
		func(ctx context.Context, a service.Actor, in *builds) (listed[view.Build], error) {
			below := in.Below
			if below <= 0 {
				below = 1 << 30
			}
			return all(svc.Builds(ctx, a, in.Name, below, in.Most))
		})
	operate(ops, service.Known, http.MethodGet, "/builds", "recent-builds", "List the newest builds of all, running ones first",
		func(ctx context.Context, a service.Actor, in *struct {
			Most int `query:"most" default:"30" minimum:"1" maximum:"200"`
		}) (listed[view.Build], error) {
			return all(svc.RecentBuilds(ctx, a, in.Most))
		})
	operate(ops, service.Read, http.MethodGet, "/builds/{pipeline}/{number}", "build", "Show a build with all that belongs to it",
		func(ctx context.Context, a service.Actor, in *ByBuild) (view.BuildDetail, error) {
			return svc.Build(ctx, a, in.Pipeline, in.Number)
		})
	operate(ops, service.BuildIt, http.MethodPost, "/builds/{pipeline}/{number}/stop", "stop", "Stop a build",
		func(ctx context.Context, a service.Actor, in *ByBuild) (view.Build, error) {
			return svc.Stop(ctx, a, in.Pipeline, in.Number)
		})
	operate(ops, service.BuildIt, http.MethodPost, "/builds/{pipeline}/{number}/again", "again", "Start a new build as this one was started: the same commit, the same asks",
		func(ctx context.Context, a service.Actor, in *struct {
			ByBuild
			Fresh bool `query:"fresh" doc:"take nothing over from earlier builds"`
		}) (view.Build, error) {
			return svc.Again(ctx, a, in.Pipeline, in.Number, in.Fresh)
		})
	operate(ops, service.BuildIt, http.MethodPost, "/builds/{pipeline}/{number}/round", "renew", "Have another go at what did not pass: a new round of the same build",
		func(ctx context.Context, a service.Actor, in *ByBuild) (view.Build, error) {
			return svc.Renew(ctx, a, in.Pipeline, in.Number)
		})
	type lines struct {
		ByBuild
		Run   int   `path:"run" minimum:"0"`
		First int64 `query:"first" default:"1" minimum:"1"`
		Most  int   `query:"most" default:"5000" minimum:"1" maximum:"20000"`
		Fence int64 `query:"fence" doc:"an earlier hand-out; the newest if 0"`
	}
	operate(ops, service.Read, http.MethodGet, "/builds/{pipeline}/{number}/runs/{run}/lines", "lines", "Read lines of a stage run's log",
		func(ctx context.Context, a service.Actor, in *lines) (view.LogPart, error) {
			return svc.Lines(ctx, a, in.Pipeline, in.Number, in.Run, in.Fence, in.First, in.Most)
		})
	type find struct {
		ByBuild
		Run   int    `path:"run" minimum:"0"`
		Text  string `query:"text" required:"true" minLength:"1" maxLength:"1000" doc:"upper and lower case alike"`
		First int64  `query:"first" default:"1" minimum:"1"`
		Most  int    `query:"most" default:"1000" minimum:"1" maximum:"20000"`
		Fence int64  `query:"fence" doc:"an earlier hand-out; the newest if 0"`
	}
	operate(ops, service.Read, http.MethodGet, "/builds/{pipeline}/{number}/runs/{run}/find", "log-find", "Find the lines of a stage run's log that hold a text",
		func(ctx context.Context, a service.Actor, in *find) (view.LogFound, error) {
			return svc.FindInLog(ctx, a, in.Pipeline, in.Number, in.Run, in.Fence, in.First, in.Text, in.Most)
		})
}

func (s *Server) stores(ops operations) {
	svc := s.service
	type storeBody struct {
		Project string `json:"project,omitempty"`
		File    string `json:"file" doc:"the store's settings as TOML"`
	}
	operate(ops, service.Known, http.MethodGet, "/stores", "stores", "List stores, lowest first",
		func(ctx context.Context, a service.Actor, _ *none) (listed[view.Store], error) {
			return all(svc.Stores(ctx, a))
		})
	operate(ops, service.Manage, http.MethodPost, "/stores", "store-add", "Make a store",
		func(ctx context.Context, a service.Actor, in *struct{ Body storeBody }) (view.Store, error) {
			name, o, err := service.ReadStoreFile([]byte(in.Body.File))
			if err != nil {
				return view.Store{}, err
			}
			return svc.AddStore(ctx, a, in.Body.Project, name, o)
		})
	type setStore struct {
		ByName
		Body storeBody
	}
	operate(ops, service.Manage, http.MethodPut, "/stores/{name}", "store-set", "Replace a store's settings",
		func(ctx context.Context, a service.Actor, in *setStore) (view.Store, error) {
			_, o, err := service.ReadStoreFile([]byte(in.Body.File))
			if err != nil {
				return view.Store{}, err
			}
			return svc.SetStore(ctx, a, in.Name, o)
		})
	operate(ops, service.Read, http.MethodGet, "/stores/{name}", "store", "Show a store",
		func(ctx context.Context, a service.Actor, in *ByName) (view.Store, error) {
			return svc.Store(ctx, a, in.Name)
		})
	operate(ops, service.Read, http.MethodGet, "/stores/{name}/names", "names", "List the names in a store",
		func(ctx context.Context, a service.Actor, in *ByName) (listed[view.ArtifactName], error) {
			return all(svc.Names(ctx, a, in.Name))
		})
	operate(ops, service.Read, http.MethodGet, "/stores/{name}/artifacts", "artifacts", "List what a store holds, newest first",
		func(ctx context.Context, a service.Actor, in *ByName) (listed[view.Artifact], error) {
			return all(svc.Artifacts(ctx, a, in.Name))
		})
	type inStore struct {
		ByName
		Artifact string `path:"artifact" maxLength:"100"`
	}
	operate(ops, service.Read, http.MethodGet, "/stores/{name}/ladder/{artifact}", "ladder", "Show a name across the stores of its project",
		func(ctx context.Context, a service.Actor, in *inStore) (view.Ladder, error) {
			return svc.Ladder(ctx, a, in.Name, in.Artifact)
		})
	type byRef struct {
		Ref string `query:"ref" required:"true" maxLength:"400" doc:"STORE/NAME@VERSION, STORE/NAME@RANGE or STORE/NAME:MARK"`
	}
	operate(ops, service.Read, http.MethodGet, "/artifact", "artifact", "Show an artifact with its files and how it got there",
		func(ctx context.Context, a service.Actor, in *byRef) (view.ArtifactDetail, error) {
			return svc.Artifact(ctx, a, in.Ref)
		})
	operate(ops, service.Read, http.MethodGet, "/statements", "statements", "The signed statements about an artifact, as DSSE envelopes",
		func(ctx context.Context, a service.Actor, in *byRef) (listed[json.RawMessage], error) {
			ref, err := artifact.ParseRef(in.Ref)
			if err != nil {
				return listed[json.RawMessage]{}, err
			}
			list, err := svc.Statements(ctx, a, ref)
			out := listed[json.RawMessage]{List: []json.RawMessage{}}
			for _, e := range list {
				out.List = append(out.List, e)
			}
			return out, err
		})
	type promote struct {
		Body struct {
			From   string `json:"from" maxLength:"400"`
			To     string `json:"to" maxLength:"100"`
			Mark   string `json:"mark,omitempty" maxLength:"100"`
			Note   string `json:"note,omitempty" maxLength:"65536"`
			DryRun bool   `json:"dry_run,omitempty" doc:"judge the rules and change nothing"`
		}
	}
	operate(ops, service.Read, http.MethodPost, "/promotions", "promote", "Promote an artifact, or judge whether it may be; the answer says whether it was accepted",
		func(ctx context.Context, a service.Actor, in *promote) (view.Promotion, error) {
			ref, err := artifact.ParseRef(in.Body.From)
			if err != nil {
				return view.Promotion{}, err
			}
			return svc.Promote(ctx, a, service.PromoteOptions{From: ref, To: in.Body.To, Mark: in.Body.Mark, Note: in.Body.Note, DryRun: in.Body.DryRun})
		})
	type trace struct {
		Digest string `path:"digest" maxLength:"80"`
	}
	operate(ops, service.Read, http.MethodGet, "/trace/{digest}", "trace", "What is known of a file or content by its SHA-256",
		func(ctx context.Context, a service.Actor, in *trace) (view.Trace, error) {
			digest, err := artifact.ParseDigest(in.Digest)
			if err != nil {
				return view.Trace{}, err
			}
			return svc.Trace(ctx, a, digest)
		})
	type deliver struct {
		Body struct {
			Store   string          `json:"store"`
			Name    string          `json:"name"`
			Version string          `json:"version"`
			Files   []artifact.File `json:"files"`
		}
	}
	operate(ops, service.BuildIt, http.MethodPost, "/deliveries", "deliver", "Admit files whose bytes were sent before",
		func(ctx context.Context, a service.Actor, in *deliver) (view.Artifact, error) {
			for _, f := range in.Body.Files {
				if _, err := artifact.ParseDigest(string(f.Digest)); err != nil {
					return view.Artifact{}, err
				}
			}
			return svc.Deliver(ctx, a, in.Body.Store, in.Body.Name, in.Body.Version, in.Body.Files)
		})
}
