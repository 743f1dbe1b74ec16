package client

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"io"
	"net/http"
	"os"

	"oskeld.dev/oskeld/internal/core/artifact"
	"oskeld.dev/oskeld/internal/core/bundle"
)

// LocalFile is a file on this machine.
type LocalFile struct {
	Path string
	artifact.File
}

// Bundles puts small files into groups that fit into a bundle each.
func Bundles(files []LocalFile) (groups [][]LocalFile) {
	size := int64(0)
	for i, f := range files {
		if size += f.Size; i == 0 || size > bundle.MostBytes || len(groups[len(groups)-1]) == bundle.MostFiles {
			groups = append(groups, nil)
			size = f.Size
		}
		groups[len(groups)-1] = append(groups[len(groups)-1], f)
	}
	return groups
}

// SendBundle sends small files as one bundle.
func (c *Client) SendBundle(ctx context.Context, files []LocalFile) error {
	var body bytes.Buffer
	w := bundle.NewWriter(&body)
	for _, f := range files {
		from, err := os.Open(f.Path)
		if err != nil {
			return err
		}
		err = w.Add(f.Digest, f.Size, from)
		if err = errors.Join(err, from.Close()); err != nil {
			return err
		}
	}
	r, err := c.request(ctx, http.MethodPost, "/blobs/bundle", bytes.NewReader(body.Bytes()))
	if err != nil {
		return err
	}
	response, err := c.do(r)
	if err != nil {
		return err
	}
	return response.Body.Close()
}

// CarriedBundle gets small carried files as one bundle, with the token of a stage run. The caller reads it to
// its end and closes it.
func (c *Client) CarriedBundle(ctx context.Context, digests []artifact.Digest) (io.ReadCloser, error) {
	text, err := json.Marshal(map[string]any{"digests": digests})
	if err != nil {
		return nil, err
	}
	r, err := c.request(ctx, http.MethodPost, "/blobs/carried", bytes.NewReader(text))
	if err != nil {
		return nil, err
	}
	response, err := c.do(r)
	if err != nil {
		return nil, err
	}
	return response.Body, nil
}
