package client

import (
	"bytes"
	"context"
	"net/http"
	"net/url"
	"strconv"
	"time"

	"oskeld.dev/oskeld/internal/core/signature"
)

// SignedCall tells the service that the source of a pipeline has moved, as a hook of the repository does,
// with the key that the source has for it.
func (c *Client) SignedCall(ctx context.Context, pipeline string, key []byte) error {
	now := time.Now()
	at, body := strconv.FormatInt(now.Unix(), 10), []byte(now.Format(time.RFC3339Nano)) // no two are alike
	r, err := c.request(ctx, http.MethodPost, "/start/"+url.PathEscape(pipeline), bytes.NewReader(body))
	if err != nil {
		return err
	}
	r.Header.Set(signature.TimeHeader, at)
	r.Header.Set(signature.Header, signature.Of(key, at, body))
	response, err := c.do(r)
	if err != nil {
		return err
	}
	return response.Body.Close()
}
