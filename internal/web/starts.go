package web

import (
	"context"
	"io"
	"net/http"
	"strings"

	"github.com/gofiber/fiber/v3"
	"oskeld.dev/oskeld/internal/core/signature"
	"oskeld.dev/oskeld/internal/core/view"
	"oskeld.dev/oskeld/internal/service"
)

// mostCall is the largest body of a signed call, in bytes.
const mostCall = 64 << 10

// starts are the operations about what starts builds without a person.
func (s *Server) starts(ops operations) {
	svc := s.service
	type occurrences struct {
		ByName
		Most int `query:"most" default:"20" minimum:"1" maximum:"200"`
	}
	operate(ops, service.Read, http.MethodGet, "/pipelines/{name}/starts", "starts", "List what could start a pipeline lately, and what came of it",
		func(ctx context.Context, a service.Actor, in *occurrences) (listed[view.Occurrence], error) {
			return all(svc.Occurrences(ctx, a, in.Name, in.Most))
		})
	type setPipeline struct {
		ByName
		Body struct {
			Resting bool `json:"resting" doc:"let the start rules rest"`
		}
	}
	operate(ops, service.BuildIt, http.MethodPut, "/pipelines/{name}", "pipeline-set", "Let a pipeline's start rules rest, or wake them",
		func(ctx context.Context, a service.Actor, in *setPipeline) (view.Pipeline, error) {
			return svc.SetResting(ctx, a, in.Name, in.Body.Resting)
		})
	type shownKey struct {
		Key string `json:"key" doc:"shown this once"`
	}
	operate(ops, service.Manage, http.MethodPost, "/sources/{name}/key", "source-key", "Make the key with which calls about a source are signed; an earlier one ends",
		func(ctx context.Context, a service.Actor, in *ByName) (shownKey, error) {
			key, err := svc.NewCallKey(ctx, a, in.Name)
			return shownKey{key}, err
		})
	// Whoever calls proves himself by the signature alone.
	s.add(service.Open, fiber.MethodPost, "/start/:pipeline", func(ctx context.Context, c fiber.Ctx, _ service.Actor) error {
		pipeline, err := parameter(c, "pipeline")
		if err != nil {
			return err
		}
		body, err := io.ReadAll(limited(bodyOf(c), mostCall))
		if err != nil {
			return err
		}
		looking, err := svc.SignedCall(ctx, pipeline, strings.Clone(c.Get(signature.TimeHeader)), strings.Clone(c.Get(signature.Header)), body)
		if err != nil {
			return err
		}
		return c.Status(fiber.StatusAccepted).JSON(looking)
	})
}
