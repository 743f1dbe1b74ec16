package web

import (
	"context"
	"crypto/tls"
	"errors"
	"io"
	"mime/multipart"
	"net/http"
	"net/url"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/gofiber/fiber/v3"
	"oskeld.dev/oskeld/internal/service"
)

// adapter lets huma, which describes and checks the API, run on Fiber 3.
type adapter struct{ server *Server }

type actorKey struct{}

const rightKey = "right"

// mostJSON is the largest JSON body, in bytes.
const mostJSON = 4 << 20

// Handle registers an operation under the right that stands in its metadata.
func (a adapter) Handle(op *huma.Operation, h func(huma.Context)) {
	path := strings.NewReplacer("{", ":", "}", "").Replace(op.Path)
	right, ok := op.Metadata[rightKey].(service.Right)
	if !ok {
		right = service.Open // huma's own description of the API
	}
	a.server.add(right, op.Method, path, func(ctx context.Context, c fiber.Ctx, actor service.Actor) error {
		h(&humaContext{op: op, c: c, ctx: context.WithValue(ctx, actorKey{}, actor)})
		return nil
	})
}

// ServeHTTP is for tests of huma's own, which we have no use for.
func (a adapter) ServeHTTP(w http.ResponseWriter, _ *http.Request) {
	http.Error(w, "not served this way", http.StatusNotImplemented)
}

type humaContext struct {
	op     *huma.Operation
	c      fiber.Ctx
	ctx    context.Context
	status int
}

func (h *humaContext) Operation() *huma.Operation { return h.op }
func (h *humaContext) Context() context.Context   { return h.ctx }
func (h *humaContext) TLS() *tls.ConnectionState  { return h.c.RequestCtx().TLSConnectionState() }
func (h *humaContext) Version() huma.ProtoVersion { return huma.ProtoVersion{Proto: h.c.Protocol()} }
func (h *humaContext) Method() string             { return h.c.Method() }
func (h *humaContext) Host() string               { return h.c.Host() }
func (h *humaContext) RemoteAddr() string         { return h.c.RequestCtx().RemoteAddr().String() }
func (h *humaContext) Query(name string) string   { return strings.Clone(h.c.Query(name)) }
func (h *humaContext) Header(name string) string  { return strings.Clone(h.c.Get(name)) }
func (h *humaContext) BodyReader() io.Reader      { return limited(bodyOf(h.c), mostJSON) }
func (h *humaContext) BodyWriter() io.Writer      { return h.c.RequestCtx() }
func (h *humaContext) Status() int                { return h.status }

func (h *humaContext) Param(name string) string {
	text, err := parameter(h.c, name)
	if err != nil {
		return strings.Clone(h.c.Params(name)) // refused as a name, later
	}
	return text
}

func (h *humaContext) URL() url.URL {
	u, err := url.Parse(string(h.c.Request().RequestURI()))
	if err != nil {
		return url.URL{Path: strings.Clone(h.c.Path())}
	}
	return *u
}

func (h *humaContext) EachHeader(f func(name, value string)) {
	for name, value := range h.c.Request().Header.All() {
		f(string(name), string(value))
	}
}

func (h *humaContext) GetMultipartForm() (*multipart.Form, error) {
	return nil, errors.New("the API takes no forms")
}

func (h *humaContext) SetReadDeadline(t time.Time) error {
	if conn := h.c.RequestCtx().Conn(); conn != nil {
		return conn.SetReadDeadline(t)
	}
	return nil
}

func (h *humaContext) SetStatus(code int)              { h.status = code; h.c.Status(code) }
func (h *humaContext) SetHeader(name, value string)    { h.c.Set(name, value) }
func (h *humaContext) AppendHeader(name, value string) { h.c.Append(name, value) }
