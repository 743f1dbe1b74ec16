package web

import (
	"context"
	"encoding/base64"
	"net/url"
	"strings"

	"github.com/gofiber/fiber/v3"
	"oskeld.dev/oskeld/internal/core/fault"
	"oskeld.dev/oskeld/internal/service"
)

// Route is one route with the right that it needs at least; what belongs to a project is checked
// again by the service, against the project.
type Route struct {
	Method, Path string
	Right        service.Right
}

// handler answers for an actor. ctx ends when the server stops.
type handler func(ctx context.Context, c fiber.Ctx, a service.Actor) error

// add registers a route. There is no other way to the router, so no route is without its right.
func (s *Server) add(right service.Right, method, path string, h handler) {
	s.Routes = append(s.Routes, Route{method, path, right})
	s.app.Add([]string{method}, path, func(c fiber.Ctx) error {
		actor, err := s.actor(c, right)
		if err != nil {
			return err
		}
		return h(s.base, c, actor)
	})
}

const cookieName = "oskeld_session"

// actor finds who calls and checks what needs no look at a project.
func (s *Server) actor(c fiber.Ctx, right service.Right) (service.Actor, error) {
	if right == service.Open {
		return service.Actor{}, nil
	}
	token, fromCookie := tokenOf(c)
	if token == "" {
		return service.Actor{}, fault.Unknown("sign in first").Hint("oskeld login, or send a token: Authorization: Bearer …")
	}
	actor, err := s.service.Actor(s.base, token)
	if err != nil {
		return actor, err
	}
	if fromCookie {
		if err := sameOrigin(c); err != nil {
			return actor, err
		}
	}
	switch {
	case right == service.AsAgent && actor.Agent == nil:
		return actor, fault.Refused("only an agent may call this")
	case right != service.AsAgent && actor.Agent != nil:
		return actor, fault.Refused("an agent may not call this")
	case right > service.Read && right < service.AsAgent && actor.Stage != nil:
		return actor, fault.Refused("a stage run may read, and nothing else")
	case right == service.AsStage && actor.IsPerson() && actor.Scope == "read":
		return actor, fault.Refused("this token may only read")
	case right == service.Own && !actor.Owner:
		return actor, fault.Refused("only an owner of this service may do this")
	}
	return actor, nil
}

// tokenOf takes the token from Bearer, from Basic (as its password) or from the session's cookie.
func tokenOf(c fiber.Ctx) (token string, fromCookie bool) {
	kind, value, _ := strings.Cut(c.Get(fiber.HeaderAuthorization), " ")
	switch strings.ToLower(kind) {
	case "bearer":
		return strings.Clone(strings.TrimSpace(value)), false
	case "basic":
		if text, err := base64.StdEncoding.DecodeString(strings.TrimSpace(value)); err == nil {
			_, password, _ := strings.Cut(string(text), ":")
			return password, false
		}
	}
	return strings.Clone(c.Cookies(cookieName)), true
}

// sameOrigin keeps other sites from acting with a session's cookie: a call that changes something
// must come from our own pages, which the browser attests.
func sameOrigin(c fiber.Ctx) error {
	if c.Method() == fiber.MethodGet || c.Method() == fiber.MethodHead {
		return nil
	}
	origin, err := url.Parse(c.Get(fiber.HeaderOrigin))
	if err != nil || origin.Host == "" || origin.Host != c.Host() {
		return fault.Refused("the call came from another site").Hint("use a token instead of the console's session")
	}
	return nil
}

// parameter gives a path parameter unescaped, in memory of its own.
func parameter(c fiber.Ctx, name string) (string, error) {
	text, err := url.PathUnescape(c.Params(name))
	if err != nil {
		return "", fault.Invalid("%q is not escaped as an address demands", c.Params(name)).On(name)
	}
	return strings.Clone(text), nil
}

// pathParameter gives the rest of a path, each segment unescaped by itself: an escaped slash is
// part of a name, and names have none.
func pathParameter(c fiber.Ctx) (string, error) {
	parts := strings.Split(c.Params("*"), "/")
	for i, part := range parts {
		text, err := url.PathUnescape(part)
		if err != nil || strings.Contains(text, "/") {
			return "", fault.Invalid("%q is not a segment of a path", part).On("path").Hint("a name, a version and a file's name hold no slash")
		}
		parts[i] = text
	}
	return strings.Join(parts, "/"), nil
}
