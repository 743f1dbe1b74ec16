package client

import (
	"context"
	"errors"
	"io"
	"net/http"
	"os"
	"strconv"
	"time"

	"oskeld.dev/oskeld/internal/core/artifact"
	"oskeld.dev/oskeld/internal/core/fault"
)

func itoa(n int64) string { return strconv.FormatInt(n, 10) }

// PartSize is how much of a file goes in one request, in bytes; each part is on the service's
// disk when it is acknowledged.
const PartSize = 16 << 20

// Lacking asks which of the digests' bytes must be sent.
func (c *Client) Lacking(ctx context.Context, digests []artifact.Digest) (map[artifact.Digest]bool, error) {
	lacking := map[artifact.Digest]bool{}
	for len(digests) > 0 {
		n := min(len(digests), 5000)
		var out struct {
			Lacking []artifact.Digest `json:"lacking"`
		}
		if err := c.Call(ctx, http.MethodPost, "/blobs/lacking", map[string]any{"digests": digests[:n]}, &out); err != nil {
			return nil, err
		}
		for _, d := range out.Lacking {
			lacking[d] = true
		}
		digests = digests[n:]
	}
	return lacking, nil
}

// Upload sends a file in parts and goes on where an earlier upload broke off. It tries again for
// as long as ctx lasts while the service cannot be reached. sent is called with the bytes that
// have been acknowledged.
func (c *Client) Upload(ctx context.Context, path string, f artifact.File, sent func(int64)) error {
	file, err := os.Open(path)
	if err != nil {
		return err
	}
	defer file.Close()
	wait := 100 * time.Millisecond
	for tries := 0; ; tries++ {
		err := c.uploadFrom(ctx, file, f, func(n int64) { wait, tries = 100*time.Millisecond, 0; sent(n) })
		again := fault.Is(err, fault.KindUnavailable) || fault.Is(err, fault.KindConflict) && tries < 20
		if err == nil || !again || ctx.Err() != nil {
			return err
		}
		if busy, askErr := c.Lacking(ctx, []artifact.Digest{f.Digest}); askErr == nil && !busy[f.Digest] {
			return nil // somebody else's upload of the same bytes has ended
		}
		select {
		case <-ctx.Done():
			return err
		case <-time.After(wait):
		}
		wait = min(2*wait, 5*time.Second)
	}
}

func (c *Client) uploadFrom(ctx context.Context, file *os.File, f artifact.File, sent func(int64)) error {
	offset, err := c.uploadOffset(ctx, f.Digest)
	if err != nil {
		return err
	}
	for {
		n := min(PartSize, f.Size-offset)
		if n < 0 {
			return fault.Conflict("%s is shorter than what was sent of it", file.Name())
		}
		r, err := c.request(ctx, http.MethodPatch, "/blobs/"+string(f.Digest), io.NewSectionReader(file, offset, n))
		if err != nil {
			return err
		}
		r.ContentLength = n
		r.Header.Set("Upload-Offset", itoa(offset))
		last := offset+n == f.Size
		if last {
			r.Header.Set("Upload-Complete", "?1")
		}
		response, err := c.do(r)
		if err != nil {
			return err
		}
		_, _ = io.Copy(io.Discard, response.Body)
		response.Body.Close()
		offset += n
		sent(offset)
		if last {
			return nil
		}
	}
}

func (c *Client) uploadOffset(ctx context.Context, d artifact.Digest) (int64, error) {
	r, err := c.request(ctx, http.MethodHead, "/blobs/"+string(d), nil)
	if err != nil {
		return 0, err
	}
	response, err := c.do(r)
	if err != nil {
		return 0, err
	}
	response.Body.Close()
	n, err := strconv.ParseInt(response.Header.Get("Upload-Offset"), 10, 64)
	return n, errors.Join(err)
}
