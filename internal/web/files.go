package web

import (
	"bytes"
	"context"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"io"
	"os"
	"path"
	"strconv"
	"strings"

	"github.com/gofiber/fiber/v3"
	"oskeld.dev/oskeld/internal/core/artifact"
	"oskeld.dev/oskeld/internal/core/bundle"
	"oskeld.dev/oskeld/internal/core/fault"
	"oskeld.dev/oskeld/internal/service"
)

// blobs is how bytes arrive: ask what is lacking, then send each in parts.
func (s *Server) blobs() {
	s.add(service.AsStage, fiber.MethodPost, "/blobs/lacking", func(ctx context.Context, c fiber.Ctx, a service.Actor) error {
		var in struct {
			Digests []artifact.Digest `json:"digests"`
			Sizes   []int64           `json:"sizes"`
		}
		if err := readJSON(c, &in); err != nil {
			return err
		}
		for _, d := range in.Digests {
			if _, err := artifact.ParseDigest(string(d)); err != nil {
				return err
			}
		}
		lacking, err := s.service.Lacking(ctx, a, in.Digests)
		if err != nil {
			return err
		}
		sizes, err := s.service.NewSizes(ctx, a, in.Sizes)
		if err != nil {
			return err
		}
		return c.JSON(map[string]any{"lacking": lacking, "new_sizes": sizes})
	})
	s.add(service.AsStage, fiber.MethodHead, "/blobs/:digest", func(_ context.Context, c fiber.Ctx, a service.Actor) error {
		name, err := artifact.ParseName("upload", strings.Clone(c.Params("digest")))
		if err != nil {
			return err
		}
		c.Set("Upload-Offset", strconv.FormatInt(s.service.UploadOffset(a, string(name)), 10))
		return c.SendStatus(fiber.StatusNoContent)
	})
	s.add(service.AsStage, fiber.MethodGet, "/blobs/:digest", func(ctx context.Context, c fiber.Ctx, a service.Actor) error {
		d, err := artifact.ParseDigest(strings.Clone(c.Params("digest")))
		if err != nil {
			return err
		}
		f, size, err := s.service.Carried(ctx, a, d)
		if err != nil {
			return err
		}
		c.Set(fiber.HeaderContentType, fiber.MIMEOctetStream)
		c.Response().SetBodyStream(&fileBody{file: f, left: size}, int(size))
		return nil
	})
	s.add(service.AsStage, fiber.MethodPatch, "/blobs/:digest", s.part)
	s.add(service.AsStage, fiber.MethodPost, "/blobs/bundle", func(ctx context.Context, c fiber.Ctx, a service.Actor) error {
		if err := s.service.UploadAll(ctx, a, bundle.NewReader(limited(bodyOf(c), 2*bundle.MostBytes))); err != nil {
			return err
		}
		return c.JSON(done{true})
	})
	s.add(service.AsStage, fiber.MethodPost, "/blobs/carried", func(ctx context.Context, c fiber.Ctx, a service.Actor) error {
		var in struct {
			Digests []artifact.Digest `json:"digests"`
		}
		if err := readJSON(c, &in); err != nil {
			return err
		}
		if len(in.Digests) > bundle.MostFiles {
			return fault.Invalid("more than %d digests", bundle.MostFiles).On("digests")
		}
		// Gathered first, so that a file that is not there is an error and not a stream that breaks off.
		var out bytes.Buffer
		if err := s.service.CarriedAll(ctx, a, in.Digests, bundle.NewWriter(&limitedBuffer{&out, 2 * bundle.MostBytes})); err != nil {
			return err
		}
		c.Set(fiber.HeaderContentType, fiber.MIMEOctetStream)
		return c.Send(out.Bytes())
	})
}

// limitedBuffer refuses to grow beyond a number of bytes.
type limitedBuffer struct {
	*bytes.Buffer
	most int
}

func (b *limitedBuffer) Write(p []byte) (int, error) {
	if b.Len()+len(p) > b.most {
		return 0, fault.Invalid("the files have more than %d bytes together", b.most).Hint("ask for fewer at a time")
	}
	return b.Buffer.Write(p)
}

// part takes bytes of an upload from Upload-Offset on; with Upload-Complete: ?1 they are the last.
// An upload is called by its digest, or has a name of the sender's, and its digest comes with the
// last part in Upload-Digest: so bytes can be sent while they are being hashed.
func (s *Server) part(ctx context.Context, c fiber.Ctx, a service.Actor) error {
	name, err := artifact.ParseName("upload", strings.Clone(c.Params("digest")))
	if err != nil {
		return err
	}
	var digest artifact.Digest
	if c.Get("Upload-Complete") == "?1" {
		if digest, err = artifact.ParseDigest(strings.Clone(c.Get("Upload-Digest", string(name)))); err != nil {
			return err
		}
	}
	offset, err := strconv.ParseInt(c.Get("Upload-Offset"), 10, 64)
	if err != nil || offset < 0 {
		return fault.Invalid("Upload-Offset is missing").On("Upload-Offset")
	}
	kept, err := s.service.Upload(ctx, a, string(name), offset, bodyOf(c), digest)
	c.Set("Upload-Offset", strconv.FormatInt(kept, 10))
	if errors.Is(err, io.ErrUnexpectedEOF) {
		return fault.Invalid("the part broke off after byte %d", kept).Hint("go on from there")
	}
	if err != nil {
		return err
	}
	return c.JSON(map[string]int64{"kept": kept})
}

// files serves a store of the format files to ordinary clients.
func (s *Server) files() {
	for _, method := range []string{fiber.MethodGet, fiber.MethodHead} {
		s.add(service.Read, method, "/files/:store/*", s.getFile)
	}
	s.add(service.BuildIt, fiber.MethodPut, "/files/:store/*", s.putFile)
}

func (s *Server) getFile(ctx context.Context, c fiber.Ctx, a service.Actor) error {
	store, err := parameter(c, "store")
	if err != nil {
		return err
	}
	p, err := pathParameter(c)
	if err != nil {
		return err
	}
	f, err := s.service.OpenFile(ctx, a, store, p)
	if err != nil {
		return err
	}
	etag := `"` + f.Digest.String() + `"`
	c.Set(fiber.HeaderETag, etag)
	c.Set(fiber.HeaderAcceptRanges, "bytes")
	c.Set(fiber.HeaderCacheControl, "private, no-cache")
	c.Set(fiber.HeaderContentType, fiber.MIMEOctetStream)
	c.Set(fiber.HeaderContentSecurityPolicy, "default-src 'none'; sandbox")
	c.Set(fiber.HeaderContentDisposition, "attachment; filename*=UTF-8''"+escapeName(path.Base(f.Path)))
	sum, _ := hex.DecodeString(string(f.Digest))
	c.Set("Repr-Digest", "sha-256=:"+base64.StdEncoding.EncodeToString(sum)+":")
	if !f.SealedAt.IsZero() {
		c.Set(fiber.HeaderLastModified, f.SealedAt.UTC().Format("Mon, 02 Jan 2006 15:04:05 GMT"))
	}
	if none := c.Get(fiber.HeaderIfNoneMatch); none == "*" || none != "" && strings.Contains(none, etag) {
		f.Body.Close()
		return c.SendStatus(fiber.StatusNotModified)
	}
	first, last, partial, err := byteRange(c, f.Size, etag)
	if err != nil {
		f.Body.Close()
		c.Set(fiber.HeaderContentRange, "bytes */"+strconv.FormatInt(f.Size, 10))
		return sendProblem(c, newProblem(fault.KindInvalid, fiber.StatusRequestedRangeNotSatisfiable, err.Error(), "Range", ""))
	}
	if partial {
		c.Status(fiber.StatusPartialContent)
		c.Set(fiber.HeaderContentRange, "bytes "+strconv.FormatInt(first, 10)+"-"+strconv.FormatInt(last, 10)+"/"+strconv.FormatInt(f.Size, 10))
	}
	size := last - first + 1
	if c.Method() == fiber.MethodHead {
		f.Body.Close()
		c.Response().SkipBody = true
		c.Response().Header.SetContentLength(int(size))
		return nil
	}
	if _, err := f.Body.Seek(first, io.SeekStart); err != nil {
		f.Body.Close()
		return err
	}
	c.Response().SetBodyStream(&fileBody{file: f.Body, left: size}, int(size))
	return nil
}

// byteRange reads a Range header of one range (RFC 9110); several ranges, or an If-Range that
// does not fit, get the whole file.
func byteRange(c fiber.Ctx, size int64, etag string) (first, last int64, partial bool, err error) {
	whole := func() (int64, int64, bool, error) { return 0, size - 1, false, nil }
	spec, ok := strings.CutPrefix(c.Get(fiber.HeaderRange), "bytes=")
	if check := c.Get(fiber.HeaderIfRange); !ok || strings.Contains(spec, ",") || check != "" && check != etag {
		return whole()
	}
	from, to, ok := strings.Cut(strings.TrimSpace(spec), "-")
	if !ok {
		return whole()
	}
	bad := fault.Invalid("the range %q is not within %d bytes", strings.Clone(spec), size)
	if from == "" { // the last bytes
		n, err := strconv.ParseInt(to, 10, 64)
		if err != nil {
			return whole()
		}
		if n <= 0 || size == 0 {
			return 0, 0, false, bad
		}
		return max(0, size-n), size - 1, true, nil
	}
	first, err = strconv.ParseInt(from, 10, 64)
	if err != nil {
		return whole()
	}
	last = size - 1
	if to != "" {
		n, err := strconv.ParseInt(to, 10, 64)
		if err != nil || n < first {
			return whole()
		}
		last = min(last, n)
	}
	if first >= size {
		return 0, 0, false, bad
	}
	return first, last, true, nil
}

const unreserved = "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789-._~"

// escapeName writes a file name as RFC 8187 wants it.
func escapeName(name string) string {
	var b strings.Builder
	for i := range len(name) {
		if strings.IndexByte(unreserved, name[i]) >= 0 {
			b.WriteByte(name[i])
		} else {
			b.WriteString("%" + strings.ToUpper(hex.EncodeToString([]byte{name[i]})))
		}
	}
	return b.String()
}

// putFile takes NAME/VERSION/FILE from a plain client. Content-Digest (RFC 9530) says what the
// bytes must be.
func (s *Server) putFile(ctx context.Context, c fiber.Ctx, a service.Actor) error {
	store, err := parameter(c, "store")
	if err != nil {
		return err
	}
	p, err := pathParameter(c)
	if err != nil {
		return err
	}
	digest, err := contentDigest(c.Get("Content-Digest"))
	if err != nil {
		return err
	}
	made, err := s.service.PutFile(ctx, a, store, p, digest, bodyOf(c))
	if errors.Is(err, io.ErrUnexpectedEOF) {
		return fault.Invalid("the file broke off").Hint("send it again: what arrived is kept, and checked against its digest")
	}
	if err != nil {
		return err
	}
	return c.Status(fiber.StatusCreated).JSON(made)
}

func contentDigest(header string) (artifact.Digest, error) {
	for part := range strings.SplitSeq(header, ",") {
		if text, ok := strings.CutPrefix(strings.TrimSpace(part), "sha-256=:"); ok {
			sum, err := base64.StdEncoding.DecodeString(strings.TrimSuffix(text, ":"))
			if err == nil && len(sum) == 32 {
				return artifact.Digest(hex.EncodeToString(sum)), nil
			}
		}
	}
	return "", fault.Invalid("Content-Digest with sha-256 is missing, so nobody could tell whether the file came whole").On("Content-Digest").
		Hint(`curl -T FILE -H "Content-Digest: sha-256=:$(openssl dgst -sha256 -binary FILE | base64):" …`)
}

// fileBody sends a part of a file; through WriteTo the kernel copies it to the socket.
type fileBody struct {
	file *os.File
	left int64
}

func (b *fileBody) Read(p []byte) (int, error) {
	if b.left == 0 {
		return 0, io.EOF
	}
	n, err := b.file.Read(p[:min(int64(len(p)), b.left)])
	b.left -= int64(n)
	return n, err
}

func (b *fileBody) WriteTo(w io.Writer) (int64, error) {
	limited := &io.LimitedReader{R: b.file, N: b.left}
	if f, ok := w.(interface {
		Flush() error
		io.ReaderFrom
	}); ok {
		if err := f.Flush(); err != nil {
			return 0, err
		}
		n, err := f.ReadFrom(limited)
		b.left -= n
		return n, err
	}
	n, err := io.Copy(w, limited)
	b.left -= n
	return n, err
}

func (b *fileBody) Close() error { return b.file.Close() }
