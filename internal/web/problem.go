package web

import (
	"context"
	"encoding/json"
	"errors"
	"log/slog"
	"net/http"
	"strings"

	"github.com/danielgtaylor/huma/v2"
	"github.com/gofiber/fiber/v3"
	"oskeld.dev/oskeld/internal/core/fault"
	"oskeld.dev/oskeld/internal/service"
)

// Problem is every error's form, application/problem+json (RFC 9457).
type Problem struct {
	Type   string `json:"type" doc:"urn:oskeld:problem: and the kind; stable" example:"urn:oskeld:problem:missing"`
	Title  string `json:"title"`
	Status int    `json:"status"`
	Detail string `json:"detail" doc:"what happened, with which thing"`
	Field  string `json:"field,omitempty" doc:"the part of the request that is at fault"`
	Hint   string `json:"hint,omitempty" doc:"what to do next"`
}

func (p *Problem) Error() string  { return p.Detail }
func (p *Problem) GetStatus() int { return p.Status }

// ContentType tells huma how errors are sent.
func (p *Problem) ContentType(string) string { return problemType }

const problemType = "application/problem+json"

var statuses = map[fault.Kind]int{
	fault.KindInvalid: http.StatusUnprocessableEntity, fault.KindMissing: http.StatusNotFound, fault.KindRefused: http.StatusForbidden,
	fault.KindConflict: http.StatusConflict, fault.KindUnavailable: http.StatusServiceUnavailable, fault.KindUnknown: http.StatusUnauthorized,
	fault.KindInternal: http.StatusInternalServerError,
}

func newProblem(kind fault.Kind, status int, detail, field, hint string) *Problem {
	return &Problem{Type: "urn:oskeld:problem:" + string(kind), Title: http.StatusText(status), Status: status, Detail: detail, Field: field, Hint: hint}
}

// problemOf turns an error into what a client sees. What is no fault is ours: it is logged, and
// the client learns no more than that.
func problemOf(err error, log *slog.Logger, what string) *Problem {
	if p, ok := errors.AsType[*Problem](err); ok {
		return p
	}
	if e, ok := errors.AsType[*fault.Error](err); ok {
		return newProblem(e.Kind, statuses[e.Kind], e.Message, e.Field, e.Advice)
	}
	if service.Unavailable(err) || errors.Is(err, context.DeadlineExceeded) || errors.Is(err, context.Canceled) {
		log.Warn("the database did not answer", "request", what, "error", err)
		return newProblem(fault.KindUnavailable, http.StatusServiceUnavailable, "the service cannot reach its database just now", "", "try again in a moment")
	}
	log.Error("a request failed", "request", what, "error", err)
	return newProblem(fault.KindInternal, http.StatusInternalServerError, "something went wrong inside the service", "", "its log says what; it is ours to mend")
}

func sendProblem(c fiber.Ctx, p *Problem) error {
	text, err := json.Marshal(p)
	if err != nil {
		return err
	}
	if p.Status == http.StatusUnauthorized && !strings.HasPrefix(c.Path(), "/api/") {
		c.Set(fiber.HeaderWWWAuthenticate, `Basic realm="oskeld", charset="UTF-8"`)
	}
	c.Set(fiber.HeaderContentType, problemType)
	return c.Status(p.Status).Send(text)
}

// onError answers for whatever a handler returned, the router's own 404 and 405 among it.
func onError(log *slog.Logger) fiber.ErrorHandler {
	return func(c fiber.Ctx, err error) error {
		if e, ok := errors.AsType[*fiber.Error](err); ok {
			kind, hint := fault.KindInvalid, ""
			switch e.Code {
			case http.StatusNotFound:
				kind, hint = fault.KindMissing, "the API is described at /api/v1/openapi.json"
			case http.StatusMethodNotAllowed:
				hint = "allowed: " + c.GetRespHeader(fiber.HeaderAllow)
			}
			return sendProblem(c, newProblem(kind, e.Code, strings.Clone(c.Method()+" "+c.Path())+": "+strings.ToLower(http.StatusText(e.Code)), "", hint))
		}
		return sendProblem(c, problemOf(err, log, strings.Clone(c.Method()+" "+c.Path())))
	}
}

func init() {
	huma.DefaultArrayNullable = false // lists are [] when they are empty
	// huma's own errors, of validation mostly, take the same form.
	huma.NewError = func(status int, message string, errs ...error) huma.StatusError {
		p := newProblem(fault.KindInvalid, status, message, "", "")
		if len(errs) > 0 && errs[0] != nil {
			p.Detail = errs[0].Error()
			if d, ok := errors.AsType[*huma.ErrorDetail](errs[0]); ok {
				p.Field = strings.TrimPrefix(strings.TrimPrefix(d.Location, "body."), "query.")
				p.Detail = p.Field + ": " + d.Message
			}
		}
		return p
	}
}
