package runner

import (
	"archive/tar"
	"bytes"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"testing/iotest"
)

// What is packed comes back with rights, links and times, also below directories that nobody may write to.
func TestPackAndUnpackTree(t *testing.T) {
	from, to := t.TempDir(), t.TempDir()
	for name, mode := range map[string]os.FileMode{"a/b/read-only": 0o444, "a/run": 0o755, "plain": 0o640} {
		path := filepath.Join(from, name)
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(path, []byte(name), mode); err != nil {
			t.Fatal(err)
		}
		if err := os.Chmod(path, mode); err != nil {
			t.Fatal(err)
		}
	}
	if err := os.Symlink("../plain", filepath.Join(from, "a", "link")); err != nil {
		t.Fatal(err)
	}
	if err := os.Chmod(filepath.Join(from, "a/b"), 0o555); err != nil {
		t.Fatal(err)
	}
	defer Remove(from)
	defer Remove(to)
	var packed bytes.Buffer
	w := tar.NewWriter(&packed)
	size, err := packTree(t.Context(), w, "0", from, 1000)
	if err != nil || w.Close() != nil || size != int64(len("a/b/read-onlya/runplain")) {
		t.Fatal(size, err)
	}
	root, err := os.OpenRoot(to)
	if err != nil {
		t.Fatal(err)
	}
	defer root.Close()
	if err := unpackTree(tar.NewReader(iotest.OneByteReader(&packed)), []*os.Root{root}); err != nil {
		t.Fatal(err)
	}
	for _, name := range []string{"a", "a/b", "a/b/read-only", "a/run", "plain"} {
		was, _ := os.Stat(filepath.Join(from, name))
		is, err := os.Stat(filepath.Join(to, name))
		if err != nil || is.Mode() != was.Mode() || !is.IsDir() && !is.ModTime().Equal(was.ModTime().Truncate(1)) {
			t.Errorf("%s: %v, was %v: %v", name, is, was, err)
		}
	}
	if link, err := os.Readlink(filepath.Join(to, "a/link")); link != "../plain" || err != nil {
		t.Error(link, err)
	}
	if _, err := packTree(t.Context(), tar.NewWriter(&packed), "0", from, 5); err == nil || !strings.Contains(err.Error(), "more than") {
		t.Errorf("a tree beyond the limit: %v", err)
	}
}

// Archives that would write elsewhere than into their directories, and odd ones.
func TestUnpackTreeStaysInside(t *testing.T) {
	outside := filepath.Join(t.TempDir(), "outside")
	for name, headers := range map[string][]tar.Header{
		"climbs":                {{Name: "0/../../x", Typeflag: tar.TypeReg}},
		"absolute":              {{Name: "0//etc/x", Typeflag: tar.TypeReg}},
		"through a link":        {{Name: "0/l", Typeflag: tar.TypeSymlink, Linkname: outside}, {Name: "0/l/x", Typeflag: tar.TypeReg}},
		"over a link":           {{Name: "0/l", Typeflag: tar.TypeSymlink, Linkname: outside}, {Name: "0/l", Typeflag: tar.TypeReg}},
		"another directory":     {{Name: "7/x", Typeflag: tar.TypeReg}},
		"no directory":          {{Name: "x", Typeflag: tar.TypeReg}},
		"a device":              {{Name: "0/d", Typeflag: tar.TypeChar}},
		"a hard link":           {{Name: "0/h", Typeflag: tar.TypeLink, Linkname: "/etc/passwd"}},
		"the same file twice":   {{Name: "0/x", Typeflag: tar.TypeReg}, {Name: "0/x", Typeflag: tar.TypeReg}},
		"rights through a link": {{Name: "0/l", Typeflag: tar.TypeSymlink, Linkname: filepath.Dir(outside)}, {Name: "0/l/", Typeflag: tar.TypeDir, Mode: 0o777}},
	} {
		var text bytes.Buffer
		w := tar.NewWriter(&text)
		for _, h := range headers {
			if err := w.WriteHeader(&h); err != nil {
				t.Fatal(name, err)
			}
		}
		w.Close()
		root, err := os.OpenRoot(t.TempDir())
		if err != nil {
			t.Fatal(err)
		}
		err = unpackTree(tar.NewReader(&text), []*os.Root{root})
		root.Close()
		if _, there := os.Lstat(outside); err == nil || there == nil {
			t.Errorf("%s: %v", name, err)
		}
	}
}
