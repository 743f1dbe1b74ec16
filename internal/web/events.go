package web

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/gofiber/fiber/v3"
	"oskeld.dev/oskeld/internal/core/fault"
	"oskeld.dev/oskeld/internal/core/view"
	"oskeld.dev/oskeld/internal/service"
)

func (s *Server) events() {
	s.add(service.Read, fiber.MethodGet, "/api/v1/builds/:pipeline/:number/follow", s.follow)
	s.add(service.Read, fiber.MethodGet, "/api/v1/builds/:pipeline/:number/runs/:run/text", s.text)
	s.add(service.Known, fiber.MethodGet, "/api/v1/news", s.news)
}

// stream sends Server-Sent Events. A panic inside would end the process, since no middleware
// covers the writer.
func (s *Server) stream(c fiber.Ctx, f func(ctx context.Context, send func(event, id string, data any) error) error) error {
	c.Set(fiber.HeaderContentType, "text/event-stream")
	c.Set(fiber.HeaderCacheControl, "no-store")
	c.Set("X-Accel-Buffering", "no")
	return c.SendStreamWriter(func(w *bufio.Writer) {
		defer func() {
			if r := recover(); r != nil {
				s.log.Error("an event stream panicked", "cause", r)
			}
		}()
		send := func(event, id string, data any) error {
			text, err := json.Marshal(data)
			if err != nil {
				return err
			}
			if event != "" {
				fmt.Fprintf(w, "event: %s\n", event)
			}
			if id != "" {
				fmt.Fprintf(w, "id: %s\n", id)
			}
			fmt.Fprintf(w, "data: %s\n\n", text)
			return w.Flush()
		}
		if err := f(s.base, send); err != nil && s.base.Err() == nil {
			_ = send("problem", "", problemOf(err, s.log, "event stream"))
		}
	})
}

func buildOf(c fiber.Ctx) (pipeline string, number int, err error) {
	if pipeline, err = parameter(c, "pipeline"); err != nil {
		return "", 0, err
	}
	number, err = strconv.Atoi(c.Params("number"))
	if err != nil {
		return "", 0, fault.Missing("no build %s/%s", pipeline, strings.Clone(c.Params("number")))
	}
	return pipeline, number, nil
}

// follow streams a build: "build" events with its state, "lines" with its log, "end" at the end.
// The id of an event is the place to go on from (Last-Event-ID, or ?after=, where "now" leaves out the log so far).
func (s *Server) follow(ctx context.Context, c fiber.Ctx, a service.Actor) error {
	pipeline, number, err := buildOf(c)
	if err != nil {
		return err
	}
	if _, err := s.service.Build(ctx, a, pipeline, number); err != nil {
		return err
	}
	after, _ := strconv.ParseInt(c.Get("Last-Event-ID", c.Query("after")), 10, 64)
	if c.Query("after") == "now" && c.Get("Last-Event-ID") == "" {
		after = service.FromNow
	}
	return s.stream(c, func(ctx context.Context, send func(event, id string, data any) error) error {
		at := after
		err := s.service.Follow(ctx, a, pipeline, number, after, service.Follower{
			Build: func(place int64, d view.BuildDetail) error { return send("build", strconv.FormatInt(place, 10), d) },
			Lines: func(place int64, part view.LogPart) error {
				at = place
				return send("lines", strconv.FormatInt(place, 10), part)
			},
			Beat: func() error { return send("beat", "", time.Now().UTC()) },
		})
		if err != nil {
			return err
		}
		return send("end", strconv.FormatInt(at, 10), done{true})
	})
}

// news streams an event whenever some build moved, for pages that show many.
func (s *Server) news(_ context.Context, c fiber.Ctx, _ service.Actor) error {
	return s.stream(c, func(ctx context.Context, send func(event, id string, data any) error) error {
		news, cancel := s.service.Hub.Subscribe(service.TopicBuilds)
		defer cancel()
		for {
			if err := send("news", "", time.Now().UTC()); err != nil {
				return nil // the follower has gone
			}
			select {
			case <-ctx.Done():
				return nil
			case <-news:
				time.Sleep(100 * time.Millisecond) // many moves, one event
			case <-time.After(15 * time.Second):
			}
		}
	})
}

// text sends a stage run's log as plain text, never as a page.
func (s *Server) text(ctx context.Context, c fiber.Ctx, a service.Actor) error {
	pipeline, number, err := buildOf(c)
	if err != nil {
		return err
	}
	run, err := strconv.Atoi(c.Params("run"))
	if err != nil {
		return fault.Missing("no stage run %q", strings.Clone(c.Params("run")))
	}
	fence := fiber.Query[int64](c, "fence") // of an earlier hand-out; the newest if 0
	if _, err := s.service.Lines(ctx, a, pipeline, number, run, fence, 1, 1); err != nil {
		return err
	}
	c.Set(fiber.HeaderContentType, "text/plain; charset=utf-8")
	c.Set(fiber.HeaderContentDisposition, fmt.Sprintf("attachment; filename=%q", fmt.Sprintf("%s-%d-%d.log", pipeline, number, run)))
	return c.SendStreamWriter(func(w *bufio.Writer) {
		_ = s.service.Text(s.base, a, pipeline, number, run, fence, func(text string) error {
			if _, err := w.WriteString(text); err != nil {
				return err
			}
			return w.Flush()
		})
	})
}
