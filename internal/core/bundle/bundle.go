// Package bundle sends many small files as one stream: each as a line with its digest and size in bytes,
// and its bytes after it.
//
//	w := bundle.NewWriter(out)
//	err := w.Add(digest, size, file)
//	r := bundle.NewReader(in)
//	digest, body, err := r.Next() // io.EOF at the end
package bundle

import (
	"bufio"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"hash"
	"io"
	"strconv"
	"strings"

	"oskeld.dev/oskeld/internal/core/artifact"
	"oskeld.dev/oskeld/internal/core/fault"
)

// MostFile is the largest file that goes into a bundle, in bytes; larger ones are sent by themselves.
const MostFile = 256 << 10

// MostFiles and MostBytes are what a bundle holds at most: it is held in memory on its way.
const (
	MostFiles = 2000
	MostBytes = 4 << 20
)

// Writer writes a bundle.
type Writer struct{ to io.Writer }

// NewWriter writes a bundle to w.
func NewWriter(w io.Writer) Writer { return Writer{w} }

// Add writes a file of size bytes.
func (w Writer) Add(digest artifact.Digest, size int64, from io.Reader) error {
	if _, err := fmt.Fprintf(w.to, "%s %d\n", digest, size); err != nil {
		return err
	}
	n, err := io.Copy(w.to, io.LimitReader(from, size))
	if err == nil && n != size {
		err = fmt.Errorf("%s ended after %d of %d bytes", digest, n, size)
	}
	return err
}

// Reader reads a bundle.
type Reader struct {
	from  *bufio.Reader
	body  *body
	files int
}

// NewReader reads a bundle from r.
func NewReader(r io.Reader) *Reader { return &Reader{from: bufio.NewReaderSize(r, 64<<10)} }

// Next goes on to the next file; what is left of the one before is passed over. Its body gives an error
// of kind invalid in place of its end when its bytes do not have the digest. At the end of the bundle the
// error is io.EOF.
func (r *Reader) Next() (digest artifact.Digest, size int64, from io.Reader, err error) {
	if r.body != nil {
		if _, err := io.Copy(io.Discard, r.body); err != nil {
			return "", 0, nil, err
		}
	}
	line, err := r.from.ReadSlice('\n')
	if err == io.EOF && len(line) == 0 {
		return "", 0, nil, io.EOF
	}
	if err != nil {
		return "", 0, nil, broken("a file's line breaks off")
	}
	name, number, _ := strings.Cut(strings.TrimSuffix(string(line), "\n"), " ")
	if digest, err = artifact.ParseDigest(name); err != nil {
		return "", 0, nil, err
	}
	size, err = strconv.ParseInt(number, 10, 64)
	if err != nil || size < 0 || size > MostFile {
		return "", 0, nil, broken("%q is not the size of a small file", number)
	}
	if r.files++; r.files > MostFiles {
		return "", 0, nil, broken("it holds more than %d files", MostFiles)
	}
	r.body = &body{from: r.from, left: size, digest: digest, sum: sha256.New()}
	return digest, size, r.body, nil
}

func broken(format string, args ...any) error {
	return fault.Invalid("the bundle cannot be read: "+format, args...).Hint("send it again")
}

type body struct {
	from   io.Reader
	left   int64
	digest artifact.Digest
	sum    hash.Hash
}

func (b *body) Read(p []byte) (int, error) {
	if b.left == 0 {
		if got := hex.EncodeToString(b.sum.Sum(nil)); got != string(b.digest) {
			return 0, broken("the bytes sent as %s have the digest %s", b.digest, got)
		}
		return 0, io.EOF
	}
	n, err := b.from.Read(p[:min(int64(len(p)), b.left)])
	b.sum.Write(p[:n])
	b.left -= int64(n)
	if err == io.EOF && b.left > 0 {
		err = broken("a file breaks off")
	} else if err == io.EOF {
		err = nil
	}
	return n, err
}
