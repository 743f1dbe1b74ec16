package web

import (
	"context"
	"io"
	"strings"
	"time"

	"github.com/gofiber/fiber/v3"
	"oskeld.dev/oskeld/internal/core/assignment"
	"oskeld.dev/oskeld/internal/core/fault"
	"oskeld.dev/oskeld/internal/core/logtext"
	"oskeld.dev/oskeld/internal/service"
)

// holdCall is how long a call for work or orders is held open.
const holdCall = 25 * time.Second

// mostReport is the largest report of an agent, in bytes: it lists each carried and delivered file.
const mostReport = 64 << 20

// mostSegments is the most of one call that sends segments of logs, in bytes, with their heads.
const mostSegments = max(logtext.MostRaw, assignment.MostSegmentBytes) + assignment.MostSegments*256

// agents is the protocol between agents and the service.
func (s *Server) agents() {
	svc := s.service
	s.add(service.Open, fiber.MethodPost, "/agents/join", func(ctx context.Context, c fiber.Ctx, _ service.Actor) error {
		var in struct {
			Token string `json:"token"`
			Name  string `json:"name"`
			assignment.Call
		}
		if err := readJSON(c, &in); err != nil {
			return err
		}
		token, err := svc.Join(ctx, in.Token, in.Name, in.Call)
		if err != nil {
			return err
		}
		return c.JSON(map[string]string{"token": token})
	})
	s.add(service.AsAgent, fiber.MethodPost, "/agents/take", func(ctx context.Context, c fiber.Ctx, a service.Actor) error {
		var call assignment.Call
		if err := readJSON(c, &call); err != nil {
			return err
		}
		ctx, cancel := context.WithTimeout(ctx, holdCall)
		defer cancel()
		given, err := svc.Take(ctx, *a.Agent, call)
		if err != nil {
			return err
		}
		return c.JSON(given)
	})
	orders := func(hold bool) handler {
		return func(ctx context.Context, c fiber.Ctx, a service.Actor) error {
			var call assignment.Call
			if err := readJSON(c, &call); err != nil {
				return err
			}
			held, cancel := context.WithTimeout(ctx, holdCall)
			defer cancel()
			out, err := svc.Orders(held, *a.Agent, call, hold)
			if err != nil {
				return err
			}
			return c.JSON(out)
		}
	}
	s.add(service.AsAgent, fiber.MethodPost, "/agents/beat", orders(false))
	s.add(service.AsAgent, fiber.MethodPost, "/agents/orders", orders(true))
	s.add(service.AsAgent, fiber.MethodPost, "/agents/leave", func(ctx context.Context, c fiber.Ctx, a service.Actor) error {
		if err := svc.Leave(ctx, *a.Agent); err != nil {
			return err
		}
		return c.JSON(done{true})
	})
	s.add(service.AsAgent, fiber.MethodPost, "/agents/report", func(ctx context.Context, c fiber.Ctx, a service.Actor) error {
		var r assignment.Report
		if err := readJSONOf(c, &r, mostReport); err != nil {
			return err
		}
		if err := svc.Report(ctx, *a.Agent, r); err != nil {
			return err
		}
		return c.JSON(done{true})
	})
	s.add(service.AsAgent, fiber.MethodPost, "/agents/log", func(ctx context.Context, c fiber.Ctx, a service.Actor) error {
		key := assignment.Key{Build: strings.Clone(c.Query("build")), Chain: fiber.Query[int](c, "chain"), Fence: fiber.Query[int64](c, "fence")}
		segments, err := segmentsOf(c)
		if err != nil {
			return err
		}
		if err := svc.AddSegments(ctx, *a.Agent, key, segments); err != nil {
			return err
		}
		return c.JSON(done{true})
	})
}

// segmentsOf reads the segments of a call. Agents of 0.1.0 send one at a time, its head in the query.
func segmentsOf(c fiber.Ctx) ([]assignment.Segment, error) {
	seq := fiber.Query[int64](c, "seq")
	if seq == 0 {
		return assignment.ReadSegments(limited(bodyOf(c), mostSegments))
	}
	one := assignment.Segment{Run: fiber.Query[int](c, "run"), Seq: seq, First: fiber.Query[int64](c, "first"), Lines: fiber.Query[int](c, "lines")}
	var err error
	if one.Body, err = io.ReadAll(limited(bodyOf(c), logtext.MostRaw)); err != nil {
		return nil, fault.Invalid("the segment broke off").Because(err)
	}
	return []assignment.Segment{one}, nil
}
