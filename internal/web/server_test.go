package web

import (
	"context"
	"io"
	"log/slog"
	"net"
	"net/http"
	"strings"
	"testing"

	"github.com/gofiber/fiber/v3"
	"oskeld.dev/oskeld/internal/core/fault"
	"oskeld.dev/oskeld/internal/service"
)

// serve runs a server without a service, with routes of the test's own before the others.
func serve(t *testing.T, routes func(s *Server)) string {
	t.Helper()
	s := New(nil, Options{Log: slog.New(slog.DiscardHandler)})
	routes(s)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	ctx, cancel := context.WithCancel(context.Background())
	ended := make(chan error, 1)
	go func() { ended <- s.Serve(ctx, l) }()
	t.Cleanup(func() {
		cancel()
		if err := <-ended; err != nil {
			t.Error(err)
		}
	})
	return "http://" + l.Addr().String()
}

func get(t *testing.T, url string) (int, string, string) {
	t.Helper()
	r, err := http.Get(url)
	if err != nil {
		t.Fatal(err)
	}
	defer r.Body.Close()
	text, _ := io.ReadAll(r.Body)
	return r.StatusCode, r.Header.Get("Content-Type"), string(text)
}

// A panic is a problem, tells nobody its cause, and ends nothing; also within an event stream.
func TestPanics(t *testing.T) {
	address := serve(t, func(s *Server) {
		s.add(service.Open, fiber.MethodGet, "/panics", func(context.Context, fiber.Ctx, service.Actor) error { panic("the inner secret") })
		s.add(service.Open, fiber.MethodGet, "/streams", func(_ context.Context, c fiber.Ctx, _ service.Actor) error {
			return s.stream(c, func(context.Context, func(event, id string, data any) error) error { panic("the inner secret") })
		})
		s.add(service.Open, fiber.MethodGet, "/conflicts", func(context.Context, fiber.Ctx, service.Actor) error {
			return fault.Conflict("it is there").On("name").Hint("take another")
		})
	})
	for range 2 {
		status, kind, text := get(t, address+"/panics")
		if status != 500 || kind != problemType || strings.Contains(text, "secret") {
			t.Errorf("%d %s %s", status, kind, text)
		}
		get(t, address+"/streams")
	}
	if status, _, text := get(t, address+"/health/live"); status != 200 || text != "live\n" {
		t.Errorf("after the panics: %d %s", status, text)
	}
	status, _, text := get(t, address+"/conflicts")
	if status != 409 || text != `{"type":"urn:oskeld:problem:conflict","title":"Conflict","status":409,"detail":"it is there","field":"name","hint":"take another"}` {
		t.Errorf("%d %s", status, text)
	}
}

func TestByteRange(t *testing.T) {
	address := serve(t, func(s *Server) {
		s.add(service.Open, fiber.MethodGet, "/range", func(_ context.Context, c fiber.Ctx, _ service.Actor) error {
			first, last, partial, err := byteRange(c, 10, `"e"`)
			if err != nil {
				return err
			}
			return c.JSON([]any{first, last, partial})
		})
	})
	for spec, want := range map[string]string{
		"": "[0,9,false]", "bytes=0-0": "[0,0,true]", "bytes=3-": "[3,9,true]", "bytes=-3": "[7,9,true]", "bytes=-99": "[0,9,true]", "bytes=5-99": "[5,9,true]",
		"bytes=5-3": "[0,9,false]", "bytes=x-y": "[0,9,false]", "bytes=0-1,3-4": "[0,9,false]", "items=0-1": "[0,9,false]", "bytes=10-": "not within", "bytes=-0": "not within",
	} {
		r, err := http.NewRequest("GET", address+"/range", nil)
		if err != nil {
			t.Fatal(err)
		}
		r.Header.Set("Range", spec)
		response, err := http.DefaultClient.Do(r)
		if err != nil {
			t.Fatal(err)
		}
		text, _ := io.ReadAll(response.Body)
		response.Body.Close()
		if !strings.Contains(string(text), want) {
			t.Errorf("%q: %s, want %s", spec, text, want)
		}
	}
}

func TestContentDigest(t *testing.T) {
	good := "sha-256=:47DEQpj8HBSa+/TImW+5JCeuQeRkm5NMpJWZG3hSuFU=:"
	for header, ok := range map[string]bool{good: true, "sha-512=:x:, " + good: true, "": false, "sha-256=:short:": false, "md5=:x:": false, strings.Trim(good, ":"): true} {
		if _, err := contentDigest(header); (err == nil) != ok {
			t.Errorf("%q: %v", header, err)
		}
	}
}
