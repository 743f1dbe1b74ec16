package client

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"net/http"
	"net/url"

	"oskeld.dev/oskeld/internal/core/assignment"
	"oskeld.dev/oskeld/internal/core/cache"
)

// Join makes this machine an agent and gives its token.
func (c *Client) Join(ctx context.Context, joinToken, name string, call assignment.Call) (string, error) {
	in := struct {
		Token string `json:"token"`
		Name  string `json:"name"`
		assignment.Call
	}{joinToken, name, call}
	var out struct {
		Token string `json:"token"`
	}
	err := c.Call(ctx, http.MethodPost, "/agents/join", in, &out)
	return out.Token, err
}

// Take asks for work; the service holds the call until there is some, 25 seconds at most.
func (c *Client) Take(ctx context.Context, call assignment.Call) (given []assignment.Assignment, err error) {
	err = c.Call(ctx, http.MethodPost, "/agents/take", call, &given)
	return given, err
}

// Beat renews leases; with hold, the service holds the call until it has an order.
func (c *Client) Beat(ctx context.Context, call assignment.Call, hold bool) (o assignment.Orders, err error) {
	path := "/agents/beat"
	if hold {
		path = "/agents/orders"
	}
	err = c.Call(ctx, http.MethodPost, path, call, &o)
	return o, err
}

// Leave gives back all that the agent runs.
func (c *Client) Leave(ctx context.Context) error {
	return c.Call(ctx, http.MethodPost, "/agents/leave", nil, nil)
}

// FindCache looks for a cache, with the token of a stage run.
func (c *Client) FindCache(ctx context.Context, basis cache.Basis) (found assignment.CacheFound, err error) {
	err = c.Call(ctx, http.MethodPost, "/caches/find", basis, &found)
	return found, err
}

// Report tells events.
func (c *Client) Report(ctx context.Context, r assignment.Report) error {
	return c.Call(ctx, http.MethodPost, "/agents/report", r, nil)
}

// Log sends pieces of logs, in order.
func (c *Client) Log(ctx context.Context, k assignment.Key, segments []assignment.Segment) error {
	q := url.Values{"build": {k.Build}, "chain": {fmt.Sprint(k.Chain)}, "fence": {fmt.Sprint(k.Fence)}}
	var body bytes.Buffer
	if err := assignment.WriteSegments(&body, segments); err != nil {
		return err
	}
	r, err := c.request(ctx, http.MethodPost, "/agents/log?"+q.Encode(), &body)
	if err != nil {
		return err
	}
	response, err := c.do(r)
	if err != nil {
		return err
	}
	defer response.Body.Close()
	_, err = io.Copy(io.Discard, response.Body)
	return err
}
