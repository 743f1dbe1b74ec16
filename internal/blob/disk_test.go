package blob

import (
	"bytes"
	"crypto/rand"
	"errors"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"sync"
	"testing"
	"testing/iotest"
	"time"

	"oskeld.dev/oskeld/internal/core/artifact"
	"oskeld.dev/oskeld/internal/core/fault"
	"strings"
)

func open(t *testing.T) *Disk {
	t.Helper()
	d, err := Open(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	return d
}

var ida = Upload{"ida", "u"}

func bytesOf(n int) ([]byte, artifact.Digest) {
	b := make([]byte, n)
	_, _ = rand.Read(b)
	return b, artifact.DigestOf(b)
}

func TestParts(t *testing.T) {
	d := open(t)
	data, digest := bytesOf(100_000)
	if kept, err := d.Append(ida, 0, bytes.NewReader(data[:40_000]), ""); err != nil || kept != 40_000 {
		t.Fatal(kept, err)
	}
	if _, there := d.Has(digest); there {
		t.Error("half a blob counts as whole")
	}
	if n := d.Offset(Upload{"per", "u"}); n != 0 {
		t.Errorf("another's upload stands at %d", n)
	}
	if _, err := d.Append(ida, 10, bytes.NewReader(data[10:]), digest); !fault.Is(err, fault.KindConflict) {
		t.Errorf("a wrong offset: %v", err)
	}
	kept, err := d.Append(ida, 40_000, io.MultiReader(bytes.NewReader(data[40_000:60_000]), iotest.ErrReader(io.ErrUnexpectedEOF)), digest)
	if !errors.Is(err, io.ErrUnexpectedEOF) || kept != 60_000 || d.Offset(ida) != 60_000 {
		t.Errorf("a part that broke off: kept %d, %v", kept, err)
	}
	if kept, err := d.Append(ida, 60_000, bytes.NewReader(data[60_000:]), digest); err != nil || kept != 100_000 {
		t.Fatal(kept, err)
	}
	f, size, err := d.Read(digest)
	if err != nil || size != 100_000 {
		t.Fatal(size, err)
	}
	defer f.Close()
	if got, _ := io.ReadAll(f); !bytes.Equal(got, data) {
		t.Error("other bytes came back")
	}
	if left, _ := filepath.Glob(filepath.Join(d.dir, "uploads", "*")); len(left) > 0 {
		t.Errorf("left behind: %v", left)
	}
}

func TestWrongDigest(t *testing.T) {
	d := open(t)
	_, digest := bytesOf(10)
	if _, err := d.Append(ida, 0, bytes.NewReader([]byte("other")), digest); !fault.Is(err, fault.KindInvalid) {
		t.Errorf("got %v", err)
	}
	if n := d.Offset(ida); n != 0 {
		t.Errorf("harmed bytes are kept: %d", n)
	}
	if _, _, err := d.Read(digest); !fault.Is(err, fault.KindMissing) {
		t.Errorf("got %v", err)
	}
}

func TestManyAtOnce(t *testing.T) {
	d := open(t)
	data, digest := bytesOf(1 << 20)
	var all sync.WaitGroup
	for _, owner := range []string{"a", "b", "c", "d", "e"} {
		all.Go(func() {
			if _, err := d.Append(Upload{owner, "u"}, 0, bytes.NewReader(data), digest); err != nil {
				t.Error(err)
			}
		})
	}
	all.Wait()
	if size, ok := d.Has(digest); !ok || size != 1<<20 {
		t.Error(size, ok)
	}
}

func TestOneWriterAtATime(t *testing.T) {
	d := open(t)
	data, digest := bytesOf(100)
	r, w := io.Pipe()
	first := make(chan error)
	go func() {
		_, err := d.Append(ida, 0, r, digest)
		first <- err
	}()
	if _, err := w.Write(data[:10]); err != nil { // the first is reading now
		t.Fatal(err)
	}
	if _, err := d.Append(ida, 0, bytes.NewReader(data), digest); !fault.Is(err, fault.KindConflict) {
		t.Errorf("a second writer: %v", err)
	}
	_, _ = w.Write(data[10:])
	w.Close()
	if err := <-first; err != nil {
		t.Error(err)
	}
}

// A full disk is told as such; what was acknowledged stays, and after making room it goes on.
func TestDiskFull(t *testing.T) {
	dir := t.TempDir()
	if out, err := exec.Command("mount", "-t", "tmpfs", "-o", "size=1m", "tmpfs", dir).CombinedOutput(); err != nil {
		t.Skipf("no small file system can be mounted here: %s", out)
	}
	t.Cleanup(func() { _ = exec.Command("umount", dir).Run() })
	d, err := Open(dir)
	if err != nil {
		t.Fatal(err)
	}
	data, digest := bytesOf(1 << 20)
	kept, err := d.Append(ida, 0, bytes.NewReader(data[:300_000]), "")
	if err != nil {
		t.Fatal(err)
	}
	ballast := filepath.Join(dir, "ballast")
	if err := os.WriteFile(ballast, make([]byte, 400_000), 0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := d.Append(ida, kept, bytes.NewReader(data[kept:]), digest); !fault.Is(err, fault.KindUnavailable) {
		t.Fatalf("on a full disk: %v", err)
	}
	if n := d.Offset(ida); n != kept {
		t.Errorf("the upload stands at %d, %d were acknowledged", n, kept)
	}
	small, smallDigest := data[:900_000], artifact.DigestOf(data[:900_000])
	if err := errors.Join(os.Remove(ballast), d.Clean(time.Now().Add(time.Hour))); err != nil {
		t.Fatal(err)
	}
	if _, err := d.Append(ida, 0, bytes.NewReader(small), smallDigest); err != nil {
		t.Errorf("after making room: %v", err)
	}
}

// A bundle of files is kept whole or not at all.
func TestPutAll(t *testing.T) {
	d, err := Open(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	texts := []string{"heather", "clover", "", "heather"}
	next := func(broken int) func() (artifact.Digest, int64, io.Reader, error) {
		i := -1
		return func() (artifact.Digest, int64, io.Reader, error) {
			if i++; i == len(texts) {
				return "", 0, nil, io.EOF
			}
			var body io.Reader = strings.NewReader(texts[i])
			if i == broken {
				body = iotest.ErrReader(errors.New("broken off"))
			}
			return artifact.DigestOf([]byte(texts[i])), int64(len(texts[i])), body, nil
		}
	}
	if _, _, err := d.PutAll(next(1)); err == nil || !strings.Contains(err.Error(), "broken off") {
		t.Error(err)
	}
	if _, there := d.Has(artifact.DigestOf([]byte("heather"))); there {
		t.Error("a file of a broken bundle was kept")
	}
	digests, sizes, err := d.PutAll(next(-1))
	if err != nil || len(digests) != 4 || sizes[1] != 6 {
		t.Fatal(digests, sizes, err)
	}
	for _, text := range texts {
		f, size, err := d.Read(artifact.DigestOf([]byte(text)))
		if err != nil || size != int64(len(text)) {
			t.Fatal(size, err)
		}
		f.Close()
	}
	if left, err := os.ReadDir(filepath.Join(d.dir, "uploads")); err != nil || len(left) != 0 {
		t.Errorf("%d uploads are left: %v", len(left), err)
	}
	digest, size, err := d.Put(strings.NewReader("nectar"))
	if err != nil || size != 6 || digest != artifact.DigestOf([]byte("nectar")) {
		t.Error(digest, size, err)
	}
	if _, _, err := d.Put(iotest.ErrReader(errors.New("broken off"))); err == nil {
		t.Error("a stream that broke off was kept")
	}
	if err := errors.Join(d.Remove(digest), d.Remove(digest)); err != nil {
		t.Error(err)
	}
	if _, there := d.Has(digest); there {
		t.Error("a removed blob is there")
	}
}
