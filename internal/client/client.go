// Package client is the Go client of Oskeld's API.
//
//	c := client.New("http://127.0.0.1:7080", token)
//	var build view.Build
//	err := c.Call(ctx, "POST", "/api/v1/pipelines/hivebook/builds", body, &build)
//
// What the service answers with a problem is a *fault.Error of the same kind, with its hint; a
// service that cannot be reached is of kind unavailable.
package client

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"io"
	"net"
	"net/http"
	"net/url"
	"strings"
	"time"

	"oskeld.dev/oskeld/internal/core/fault"
)

// Client talks to one service with one token. Safe for several goroutines.
type Client struct {
	Service string
	token   string
	http    *http.Client
}

// New makes a client. service is an address such as http://127.0.0.1:7080.
func New(service, token string) *Client {
	transport := &http.Transport{
		Proxy:               http.ProxyFromEnvironment,
		DialContext:         (&net.Dialer{Timeout: 5 * time.Second, KeepAlive: 15 * time.Second}).DialContext,
		MaxIdleConnsPerHost: 16, IdleConnTimeout: 90 * time.Second, ReadBufferSize: 64 << 10, WriteBufferSize: 256 << 10,
		DisableCompression: true,
	}
	return &Client{Service: strings.TrimRight(service, "/"), token: token, http: &http.Client{Transport: transport}}
}

// With gives the same client with another token.
func (c *Client) With(token string) *Client { return &Client{c.Service, token, c.http} }

func (c *Client) request(ctx context.Context, method, path string, body io.Reader) (*http.Request, error) {
	r, err := http.NewRequestWithContext(ctx, method, c.Service+path, body)
	if err != nil {
		return nil, fault.Invalid("%q is not the address of a service", c.Service).Hint("set OSKELD_SERVICE to something like http://127.0.0.1:7080")
	}
	if c.token != "" {
		r.Header.Set("Authorization", "Bearer "+c.token)
	}
	return r, nil
}

func (c *Client) do(r *http.Request) (*http.Response, error) {
	response, err := c.http.Do(r)
	if err != nil {
		if ctx := r.Context(); ctx.Err() != nil {
			return nil, ctx.Err()
		}
		var e *url.Error
		if errors.As(err, &e) {
			err = e.Err
		}
		return nil, fault.Unavailable("the service %s cannot be reached: %v", c.Service, err).Because(err).
			Hint("is it running (oskeld serve)? OSKELD_SERVICE names another")
	}
	if response.StatusCode >= 400 {
		defer response.Body.Close()
		return nil, problem(response)
	}
	return response, nil
}

func problem(response *http.Response) error {
	text, _ := io.ReadAll(io.LimitReader(response.Body, 1<<20))
	var p struct {
		Type, Detail, Field, Hint string
	}
	if json.Unmarshal(text, &p) != nil || !strings.HasPrefix(p.Type, "urn:oskeld:problem:") {
		e := fault.Unavailable("the service answered %s", response.Status)
		if response.StatusCode < 500 {
			e.Kind = fault.KindInvalid
		}
		return e.Hint("is %s an Oskeld service?", response.Request.URL.Host)
	}
	return &fault.Error{Kind: fault.Kind(strings.TrimPrefix(p.Type, "urn:oskeld:problem:")), Message: p.Detail, Field: p.Field, Advice: p.Hint}
}

// Call sends in as JSON, unless it is nil, and reads the answer into out, unless it is nil.
func (c *Client) Call(ctx context.Context, method, path string, in, out any) error {
	var body io.Reader
	if in != nil {
		text, err := json.Marshal(in)
		if err != nil {
			return err
		}
		body = bytes.NewReader(text)
	}
	r, err := c.request(ctx, method, path, body)
	if err != nil {
		return err
	}
	if in != nil {
		r.Header.Set("Content-Type", "application/json")
	}
	response, err := c.do(r)
	if err != nil {
		return err
	}
	defer response.Body.Close()
	if out == nil {
		_, err = io.Copy(io.Discard, response.Body)
		return err
	}
	if err := json.NewDecoder(response.Body).Decode(out); err != nil {
		return fault.Unavailable("the answer of %s broke off", c.Service).Because(err)
	}
	return nil
}

// List is a page of a list.
type List[T any] struct {
	List []T `json:"list"`
}

// Get reads a list.
func Get[T any](ctx context.Context, c *Client, path string) ([]T, error) {
	var l List[T]
	err := c.Call(ctx, http.MethodGet, path, nil, &l)
	return l.List, err
}

// Open starts reading a body: of a file, from byte from on. size is the whole file's, -1 if unknown.
func (c *Client) Open(ctx context.Context, path string, from int64) (body io.ReadCloser, size int64, header http.Header, err error) {
	r, err := c.request(ctx, http.MethodGet, path, nil)
	if err != nil {
		return nil, 0, nil, err
	}
	if from > 0 {
		r.Header.Set("Range", "bytes="+itoa(from)+"-")
	}
	response, err := c.do(r)
	if err != nil {
		return nil, 0, nil, err
	}
	size = response.ContentLength
	if from > 0 && response.StatusCode == http.StatusPartialContent && size >= 0 {
		size += from
	}
	return response.Body, size, response.Header, nil
}

// Event is one Server-Sent Event.
type Event struct {
	Name string
	ID   string
	Data []byte
}

// Events reads an event stream until f says stop, the stream ends, or ctx ends. A stream that
// breaks off is an error of kind unavailable.
func (c *Client) Events(ctx context.Context, path, lastID string, f func(Event) (more bool, err error)) error {
	r, err := c.request(ctx, http.MethodGet, path, nil)
	if err != nil {
		return err
	}
	if lastID != "" {
		r.Header.Set("Last-Event-ID", lastID)
	}
	response, err := c.do(r)
	if err != nil {
		return err
	}
	defer response.Body.Close()
	lines := bufio.NewReaderSize(response.Body, 64<<10)
	var e Event
	for {
		line, err := lines.ReadBytes('\n')
		if err != nil {
			if ctx.Err() != nil {
				return ctx.Err()
			}
			return fault.Unavailable("the service %s broke the connection off", c.Service).Because(err)
		}
		line = bytes.TrimRight(line, "\n")
		if len(line) == 0 {
			more, err := f(e)
			if err != nil || !more {
				return err
			}
			e = Event{}
			continue
		}
		name, value, _ := bytes.Cut(line, []byte(": "))
		switch string(name) {
		case "event":
			e.Name = string(value)
		case "id":
			e.ID = string(value)
		case "data":
			e.Data = value
		}
	}
}
