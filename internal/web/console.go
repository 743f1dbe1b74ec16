package web

import (
	"context"
	"errors"
	"io/fs"
	"mime"
	"path"
	"strings"

	"github.com/gofiber/fiber/v3"
	"oskeld.dev/oskeld/internal/service"
)

// console serves the built console: its files under /assets and the page itself for every other
// address that is no API's.
func (s *Server) console(files fs.FS) {
	if files == nil {
		return
	}
	s.add(service.Open, fiber.MethodGet, "/assets/*", func(_ context.Context, c fiber.Ctx, _ service.Actor) error {
		name, err := parameter(c, "*")
		if err != nil || !fs.ValidPath("assets/"+name) {
			return fiber.ErrNotFound
		}
		if err := sendEmbedded(c, files, "assets/"+name); err != nil {
			return err
		}
		c.Set(fiber.HeaderCacheControl, "public, max-age=31536000, immutable") // their names hold their digests
		return nil
	})
	s.add(service.Open, fiber.MethodGet, "/*", func(_ context.Context, c fiber.Ctx, _ service.Actor) error {
		for _, prefix := range []string{"/api/", "/agents/", "/blobs/", "/files/", "/health/"} {
			if strings.HasPrefix(c.Path(), prefix) && c.Path() != "/agents/" {
				return fiber.ErrNotFound
			}
		}
		c.Set(fiber.HeaderCacheControl, "no-cache")
		if name := strings.TrimPrefix(c.Path(), "/"); name == "favicon.svg" {
			return sendEmbedded(c, files, name)
		}
		return sendEmbedded(c, files, "index.html")
	})
}

func sendEmbedded(c fiber.Ctx, files fs.FS, name string) error {
	data, err := fs.ReadFile(files, name)
	if errors.Is(err, fs.ErrNotExist) {
		return fiber.ErrNotFound
	}
	if err != nil {
		return err
	}
	kind := mime.TypeByExtension(path.Ext(name))
	if path.Ext(name) == ".woff2" {
		kind = "font/woff2"
	}
	c.Set(fiber.HeaderContentType, kind)
	return c.Send(data)
}
