package client

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strconv"
	"sync"
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

// oncePass is the size in bytes from which on a file that is surely new is sent while it is hashed.
const oncePass = 32 << 20

// Send makes a file's bytes known to the service and describes it. A large file of a size that the
// service has never seen is hashed while it is sent; any other is hashed first, and sent only when
// the service lacks it. sent is called with the bytes that have been acknowledged.
func (c *Client) Send(ctx context.Context, path string, sent func(int64)) (artifact.File, error) {
	file, err := os.Open(path)
	if err != nil {
		return artifact.File{}, fault.Missing("%v", err)
	}
	defer file.Close()
	info, err := file.Stat()
	if err != nil {
		return artifact.File{}, err
	}
	if !info.Mode().IsRegular() {
		return artifact.File{}, fault.Invalid("%s is not a file", path).Hint("name the files one by one")
	}
	f := artifact.File{Path: filepath.Base(path), Size: info.Size(), Executable: info.Mode()&0o111 != 0}
	if f.Size >= oncePass {
		var out struct {
			New []int64 `json:"new_sizes"`
		}
		if err := c.Call(ctx, http.MethodPost, "/blobs/lacking", map[string]any{"digests": []string{}, "sizes": []int64{f.Size}}, &out); err != nil {
			return f, err
		}
		if len(out.New) == 1 {
			return c.sendWhileHashing(ctx, path, f, sent)
		}
	}
	if f.Digest, err = hashOf(file); err != nil {
		return f, err
	}
	lacking, err := c.Lacking(ctx, []artifact.Digest{f.Digest})
	if err != nil || !lacking[f.Digest] {
		return f, err
	}
	return f, c.Upload(ctx, path, f, sent)
}

func hashOf(r io.Reader) (artifact.Digest, error) {
	sum := sha256.New()
	_, err := io.CopyBuffer(struct{ io.Writer }{sum}, struct{ io.Reader }{r}, make([]byte, 256<<10))
	return artifact.Digest(hex.EncodeToString(sum.Sum(nil))), err
}

func (c *Client) sendWhileHashing(ctx context.Context, path string, f artifact.File, sent func(int64)) (artifact.File, error) {
	digest := sync.OnceValues(func() (artifact.Digest, error) {
		file, err := os.Open(path)
		if err != nil {
			return "", err
		}
		defer file.Close()
		return hashOf(file)
	})
	go func() { _, _ = digest() }() // whoever asks for it later waits for this one
	if err := c.upload(ctx, path, "new-"+rand.Text(), f.Size, digest, sent); err != nil {
		return f, err
	}
	var err error
	f.Digest, err = digest()
	return f, err
}

// Upload sends a file whose digest is known in parts, and goes on where an earlier upload broke
// off. It tries again for as long as ctx lasts while the service cannot be reached.
func (c *Client) Upload(ctx context.Context, path string, f artifact.File, sent func(int64)) error {
	return c.upload(ctx, path, string(f.Digest), f.Size, func() (artifact.Digest, error) { return f.Digest, nil }, sent)
}

// upload sends under a name; digest is asked for with the last part.
func (c *Client) upload(ctx context.Context, path, name string, size int64, digest func() (artifact.Digest, error), sent func(int64)) error {
	file, err := os.Open(path)
	if err != nil {
		return err
	}
	defer file.Close()
	wait := 100 * time.Millisecond
	for tries := 0; ; tries++ {
		err := c.uploadFrom(ctx, file, name, size, digest, func(n int64) { wait, tries = 100*time.Millisecond, 0; sent(n) })
		again := fault.Is(err, fault.KindUnavailable) || fault.Is(err, fault.KindConflict) && tries < 20
		if err == nil || !again || ctx.Err() != nil {
			return err
		}
		if d, parseErr := artifact.ParseDigest(name); parseErr == nil {
			if lacking, askErr := c.Lacking(ctx, []artifact.Digest{d}); askErr == nil && !lacking[d] {
				return nil // somebody else's upload of the same bytes has ended
			}
		}
		select {
		case <-ctx.Done():
			return err
		case <-time.After(wait):
		}
		wait = min(2*wait, 5*time.Second)
	}
}

func (c *Client) uploadFrom(ctx context.Context, file *os.File, name string, size int64, digest func() (artifact.Digest, error), sent func(int64)) error {
	offset, err := c.uploadOffset(ctx, name)
	if err != nil {
		return err
	}
	for {
		n := min(PartSize, size-offset)
		if n < 0 {
			return fault.Conflict("%s is shorter than what was sent of it", file.Name())
		}
		r, err := c.request(ctx, http.MethodPatch, "/blobs/"+name, io.NewSectionReader(file, offset, n))
		if err != nil {
			return err
		}
		r.ContentLength = n
		r.Header.Set("Upload-Offset", itoa(offset))
		last := offset+n == size
		if last {
			d, err := digest()
			if err != nil {
				return err
			}
			r.Header.Set("Upload-Complete", "?1")
			r.Header.Set("Upload-Digest", string(d))
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

func (c *Client) uploadOffset(ctx context.Context, name string) (int64, error) {
	r, err := c.request(ctx, http.MethodHead, "/blobs/"+name, nil)
	if err != nil {
		return 0, err
	}
	response, err := c.do(r)
	if err != nil {
		return 0, err
	}
	response.Body.Close()
	n, err := strconv.ParseInt(response.Header.Get("Upload-Offset"), 10, 64)
	if err != nil {
		return 0, fault.Unavailable("the service does not say how far the upload is").Because(err)
	}
	return n, nil
}
