package web

import (
	"context"
	"errors"
	"io/fs"
	"log/slog"
	"net"
	"strings"
	"time"

	"github.com/gofiber/fiber/v3"
	"github.com/gofiber/fiber/v3/middleware/recover"
	"github.com/gofiber/fiber/v3/middleware/requestid"
	"oskeld.dev/oskeld/internal/service"
)

// Options for New. Console holds the built console; nil serves none.
type Options struct {
	Console fs.FS
	Log     *slog.Logger
}

// Server serves one Service.
type Server struct {
	Routes  []Route
	app     *fiber.App
	service *service.Service
	log     *slog.Logger
	base    context.Context // ends when the server stops, and with it calls that are held
	stop    context.CancelFunc
}

// New registers all routes.
func New(s *service.Service, o Options) *Server {
	log := o.Log
	if log == nil {
		log = slog.Default()
	}
	server := &Server{service: s, log: log}
	server.base, server.stop = context.WithCancel(context.Background())
	server.app = fiber.New(fiber.Config{
		AppName: "oskeld", StreamRequestBody: true, DisablePreParseMultipartForm: true, ReadBufferSize: 16384,
		BodyLimit:     1 << 20, // beyond it bodies are streamed; limits stand at each route
		CaseSensitive: true, StrictRouting: true, UnescapePath: false,
		ErrorHandler: onError(log), ReduceMemoryUsage: false, IdleTimeout: 2 * time.Minute,
	})
	server.app.Use(guardBody, requestid.New(), logged(log), recover.New(), headers)
	server.health()
	server.api()
	server.events()
	server.agents()
	server.blobs()
	server.files()
	server.console(o.Console)
	return server
}

// logged writes one line a request, without query and body, which may hold what nobody should read.
func logged(log *slog.Logger) fiber.Handler {
	return func(c fiber.Ctx) error {
		began := time.Now()
		err := c.Next()
		if err != nil { // answer here, so that the line has the status
			if err := c.App().ErrorHandler(c, err); err != nil {
				return err
			}
		}
		level := slog.LevelDebug
		if c.Response().StatusCode() >= 500 {
			level = slog.LevelWarn
		}
		log.Log(context.Background(), level, "request", "method", c.Method(), "path", strings.Clone(c.Path()), "status", c.Response().StatusCode(),
			"ms", time.Since(began).Milliseconds(), "id", requestid.FromContext(c))
		return nil
	}
}

// policy lets the console load what the service itself serves and nothing else.
const policy = "default-src 'none'; script-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; font-src 'self'; connect-src 'self'; base-uri 'none'; form-action 'self'; frame-ancestors 'none'"

func headers(c fiber.Ctx) error {
	c.Set(fiber.HeaderContentSecurityPolicy, policy)
	c.Set(fiber.HeaderXContentTypeOptions, "nosniff")
	c.Set(fiber.HeaderReferrerPolicy, "same-origin")
	c.Set(fiber.HeaderXFrameOptions, "DENY")
	return c.Next()
}

// Serve answers on a TCP listener until ctx ends, then lets running requests end for ten seconds.
func (s *Server) Serve(ctx context.Context, l net.Listener) error {
	tcp, ok := l.(*net.TCPListener)
	if !ok {
		return errors.New("the server listens on TCP alone")
	}
	ended := make(chan error, 1)
	go func() { ended <- s.app.Listener(watchedListener{tcp}, fiber.ListenConfig{DisableStartupMessage: true}) }()
	select {
	case err := <-ended:
		return err
	case <-ctx.Done():
	}
	s.stop()
	limit, cancel := context.WithTimeout(context.Background(), 10*time.Second)
	defer cancel()
	return s.app.ShutdownWithContext(limit)
}

func (s *Server) health() {
	s.add(service.Open, fiber.MethodGet, "/health/live", func(_ context.Context, c fiber.Ctx, _ service.Actor) error {
		return c.SendString("live\n")
	})
	s.add(service.Open, fiber.MethodGet, "/health/ready", func(ctx context.Context, c fiber.Ctx, _ service.Actor) error {
		if err := s.service.Ready(ctx); err != nil {
			return err
		}
		return c.SendString("ready\n")
	})
}
