package web

import (
	"context"
	"net/http"
	"strings"

	"oskeld.dev/oskeld/internal/core/language"
	"oskeld.dev/oskeld/internal/core/view"
	"oskeld.dev/oskeld/internal/service"
)

// pipelineFiles are the operations about the file itself: checked, read, proposed, described.
func (s *Server) pipelineFiles(ops operations) {
	svc := s.service
	type check struct {
		Body struct {
			File    string `json:"file" maxLength:"300" doc:"its name, for the diagnostics"`
			Text    string `json:"text" doc:"the file itself"`
			Project string `json:"project,omitempty" maxLength:"100" doc:"where it is to build; usually that of the pipeline of the same name"`
			Ref     string `json:"ref,omitempty" maxLength:"300" doc:"what the next build would start from; the default branch if empty"`
		}
	}
	operate(ops, service.BuildIt, http.MethodPost, "/checks", "check", "Tell all that is wrong with a pipeline file, also against what this service has",
		func(ctx context.Context, a service.Actor, in *check) (listed[language.Diagnostic], error) {
			return all(svc.Check(ctx, a, service.CheckOptions{File: in.Body.File, Text: in.Body.Text, Project: in.Body.Project, Ref: in.Body.Ref}))
		})
	type atRef struct {
		ByName
		Ref string `query:"ref" maxLength:"300" doc:"branch, tag or commit; the default branch if empty"`
	}
	operate(ops, service.Read, http.MethodGet, "/pipelines/{name}/version", "version", "Tell what version the next build of a ref would have",
		func(ctx context.Context, a service.Actor, in *atRef) (view.NextVersion, error) {
			return svc.Version(ctx, a, in.Name, in.Ref)
		})
	operate(ops, service.Read, http.MethodGet, "/pipelines/{name}/file", "pipeline-file", "Read a pipeline's file, with its diagnostics, asks and start rules",
		func(ctx context.Context, a service.Actor, in *atRef) (view.PipelineFile, error) {
			return svc.PipelineFile(ctx, a, in.Name, in.Ref)
		})
	type propose struct {
		ByName
		Ref    string   `query:"ref" maxLength:"300" doc:"branch, tag or commit; the default branch if empty"`
		Answer []string `query:"answer,explode" maxItems:"50" doc:"KEY=VALUE for a question of the proposal; may be repeated"`
	}
	operate(ops, service.Read, http.MethodGet, "/sources/{name}/proposal", "proposal", "Propose a pipeline file for what a source holds",
		func(ctx context.Context, a service.Actor, in *propose) (view.SourceProposal, error) {
			answers := map[string]string{}
			for _, text := range in.Answer {
				key, value, _ := strings.Cut(text, "=")
				answers[key] = value
			}
			return svc.Propose(ctx, a, in.Name, in.Ref, answers)
		})
	operate(ops, service.Open, http.MethodGet, "/schema", "schema", "The JSON Schema of oskeld.toml, for editors",
		func(context.Context, service.Actor, *none) (map[string]any, error) {
			return language.Schema(language.PipelineShape), nil
		})
}
