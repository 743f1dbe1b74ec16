package client

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"io"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"time"

	"oskeld.dev/oskeld/internal/core/artifact"
	"oskeld.dev/oskeld/internal/core/fault"
	"oskeld.dev/oskeld/internal/core/view"
)

// Progress is told of the bytes of a transfer as they come.
type Progress interface {
	io.Writer
	Finish() error
}

type silent struct{}

func (silent) Write(p []byte) (int, error) { return len(p), nil }
func (silent) Finish() error               { return nil }

// Silent is for transfers that nobody watches.
func Silent(artifact.File) Progress { return silent{} }

// ArtifactPath is where the API shows an artifact, by STORE/NAME and a version, a range or a mark.
func ArtifactPath(ref string) string {
	ref, _, _ = strings.Cut(ref, "#")
	return "/api/v1/artifact?ref=" + url.QueryEscape(ref)
}

// Wanted finds an artifact, and those of its files that are wanted: all, or the one after "#".
func (c *Client) Wanted(ctx context.Context, ref string) (view.Artifact, []artifact.File, error) {
	whole, file, one := strings.Cut(ref, "#")
	if _, err := artifact.ParseWanted(whole); err != nil {
		return view.Artifact{}, nil, err
	}
	var a view.ArtifactDetail
	if err := c.Call(ctx, http.MethodGet, ArtifactPath(whole), nil, &a); err != nil {
		return a.Artifact, nil, err
	}
	if !one {
		return a.Artifact, a.Contents, nil
	}
	for _, f := range a.Contents {
		if f.Path == file {
			return a.Artifact, []artifact.File{f}, nil
		}
	}
	return a.Artifact, nil, fault.Missing("%s has no file %q", a.Ref(), file).Hint("oskeld show %s lists its files", a.Ref())
}

// FetchInto gets all files of an artifact into a directory and gives their paths there.
func (c *Client) FetchInto(ctx context.Context, ref, into string, watch func(artifact.File) Progress) ([]string, error) {
	a, files, err := c.Wanted(ctx, ref)
	if err != nil {
		return nil, err
	}
	var names []string
	for _, f := range files {
		if err := c.Fetch(ctx, a, f, into, watch); err != nil {
			return names, err
		}
		names = append(names, f.Path)
	}
	return names, nil
}

// Fetch gets one file of an artifact under a temporary name, goes on where it broke off, and renames
// it once its digest fits.
func (c *Client) Fetch(ctx context.Context, a view.Artifact, f artifact.File, into string, watch func(artifact.File) Progress) error {
	root, err := os.OpenRoot(into)
	if err != nil {
		return err
	}
	defer root.Close()
	if err := root.MkdirAll(filepath.Dir(f.Path), 0o755); err != nil {
		return err
	}
	temp := f.Path + ".part"
	mode := os.FileMode(0o644)
	if f.Executable {
		mode = 0o755
	}
	file, err := root.OpenFile(temp, os.O_CREATE|os.O_WRONLY|os.O_TRUNC, mode)
	if err != nil {
		return err
	}
	defer func() { file.Close(); _ = root.Remove(temp) }()
	bar := watch(f)
	defer bar.Finish()
	sum := sha256.New()
	path := "/files/" + a.Store + "/" + a.Name + "/" + a.Version + "/" + escapePath(f.Path)
	if err := c.copyFile(ctx, path, io.MultiWriter(file, sum, bar)); err != nil {
		return err
	}
	if got := hex.EncodeToString(sum.Sum(nil)); got != string(f.Digest) {
		return fault.Refused("%s came with the digest sha256:%s, not %s", f.Path, got, f.Digest).Hint("fetch it again; nothing was kept")
	}
	if err := errors.Join(file.Sync(), file.Close()); err != nil {
		return err
	}
	return root.Rename(temp, f.Path)
}

// Blob writes a blob's bytes, which a stage run may have by their digest: a carried file, a cache, a tool. The
// caller checks them.
func (c *Client) Blob(ctx context.Context, d artifact.Digest, w io.Writer) error {
	return c.copyFile(ctx, "/blobs/"+string(d), w)
}

// copyFile copies a file and goes on where a connection broke off, while any byte comes.
func (c *Client) copyFile(ctx context.Context, path string, w io.Writer) error {
	got := int64(0)
	for tries := 0; ; tries++ {
		n, err := c.copyFrom(ctx, path, got, w)
		got += n
		if err == nil {
			return nil
		}
		if n > 0 {
			tries = 0
		}
		if !fault.Is(err, fault.KindUnavailable) || tries == 5 || ctx.Err() != nil {
			return err
		}
		select {
		case <-ctx.Done():
		case <-time.After(time.Second << min(tries, 3)):
		}
	}
}

func (c *Client) copyFrom(ctx context.Context, path string, from int64, w io.Writer) (int64, error) {
	body, _, _, err := c.Open(ctx, path, from)
	if err != nil {
		return 0, err
	}
	defer body.Close()
	n, err := io.CopyBuffer(struct{ io.Writer }{w}, body, make([]byte, 256<<10))
	if errors.Is(err, io.ErrUnexpectedEOF) {
		err = fault.Unavailable("the transfer broke off").Because(err)
	}
	return n, err
}

func escapePath(p string) string {
	parts := strings.Split(p, "/")
	for i := range parts {
		parts[i] = url.PathEscape(parts[i])
	}
	return strings.Join(parts, "/")
}
