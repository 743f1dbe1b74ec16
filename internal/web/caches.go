package web

import (
	"context"
	"net/http"

	"github.com/gofiber/fiber/v3"
	"oskeld.dev/oskeld/internal/core/admit"
	"oskeld.dev/oskeld/internal/core/cache"
	"oskeld.dev/oskeld/internal/core/view"
	"oskeld.dev/oskeld/internal/service"
)

// caches are the operations about directories kept between builds.
func (s *Server) caches(ops operations) {
	svc := s.service
	s.add(service.AsStage, fiber.MethodPost, "/caches/find", func(ctx context.Context, c fiber.Ctx, a service.Actor) error {
		var basis cache.Basis
		if err := readJSON(c, &basis); err != nil {
			return err
		}
		found, err := svc.FindCache(ctx, a, basis)
		if err != nil {
			return err
		}
		return c.JSON(found)
	})
	operate(ops, service.Read, http.MethodGet, "/projects/{name}/caches", "caches", "List what a project's caches hold, the last used first",
		func(ctx context.Context, a service.Actor, in *ByName) (view.Caches, error) {
			return svc.Caches(ctx, a, in.Name)
		})
	type setCaches struct {
		ByName
		Body struct {
			Bytes  int64      `json:"bytes" minimum:"0" doc:"beyond it the longest unused caches go"`
			Days   int        `json:"days" minimum:"1" maximum:"3650" doc:"caches that nobody used for so long go"`
			Admits admit.List `json:"admits,omitempty" doc:"the pipelines and refs whose builds find and save them; empty for all"`
		}
	}
	operate(ops, service.Manage, http.MethodPut, "/projects/{name}/caches", "caches-set", "Set a project's quota of caches, and how long unused ones are kept",
		func(ctx context.Context, a service.Actor, in *setCaches) (done, error) {
			return done{true}, svc.SetCaches(ctx, a, in.Name, in.Body.Bytes, in.Body.Days, in.Body.Admits)
		})
	type cacheAt struct {
		ByName
		Cache string `path:"cache" maxLength:"100"`
	}
	operate(ops, service.Manage, http.MethodDelete, "/projects/{name}/caches/{cache}", "cache-remove", "Remove a cache; builds save it anew",
		func(ctx context.Context, a service.Actor, in *cacheAt) (done, error) {
			return done{true}, svc.RemoveCache(ctx, a, in.Name, in.Cache)
		})
}
