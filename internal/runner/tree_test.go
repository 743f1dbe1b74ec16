package runner

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// unpacked unpacks an archive into a directory and gives what lies in it, and beside it.
func unpacked(t *testing.T, name string, packed []byte) (inside, beside string, err error) {
	t.Helper()
	dir := t.TempDir()
	into := filepath.Join(dir, "into")
	if err := os.Mkdir(into, 0o755); err != nil {
		t.Fatal(err)
	}
	root, err := os.OpenRoot(into)
	if err != nil {
		t.Fatal(err)
	}
	defer root.Close()
	err = unpackArchive(root, name, bytes.NewReader(packed), int64(len(packed)))
	list := func(at string) string {
		var all []string
		_ = filepath.WalkDir(at, func(path string, d fs.DirEntry, err error) error {
			if rel, _ := filepath.Rel(at, path); err == nil && rel != "." && (at == into || !strings.HasPrefix(rel, "into")) {
				all = append(all, rel)
			}
			return nil
		})
		return strings.Join(all, " ")
	}
	return list(into), list(dir), err
}

func tarOf(t *testing.T, entries ...tar.Header) []byte {
	t.Helper()
	var out bytes.Buffer
	w := tar.NewWriter(&out)
	for _, h := range entries {
		if h.Typeflag == tar.TypeReg {
			h.Size = 4
		}
		h.Mode = 0o755
		if err := w.WriteHeader(&h); err != nil {
			t.Fatal(err)
		}
		if h.Typeflag == tar.TypeReg {
			_, _ = w.Write([]byte("evil"))
		}
	}
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	return out.Bytes()
}

// Archives made to harm write nothing beside their directory, whatever they claim.
func TestUnpackHostile(t *testing.T) {
	file := func(name string) tar.Header { return tar.Header{Typeflag: tar.TypeReg, Name: name} }
	link := func(name, to string) tar.Header {
		return tar.Header{Typeflag: tar.TypeSymlink, Name: name, Linkname: to}
	}
	for what, packed := range map[string][]byte{
		"a path that climbs out":     tarOf(t, file("../out")),
		"an absolute path":           tarOf(t, file("/tmp/oskeld-was-here")),
		"through a link up":          tarOf(t, link("up", ".."), file("up/out")),
		"through an absolute link":   tarOf(t, link("up", "/tmp"), file("up/oskeld-was-here")),
		"through two links":          tarOf(t, link("a", "b"), link("b", ".."), file("a/out")),
		"a directory through a link": tarOf(t, link("up", ".."), tar.Header{Typeflag: tar.TypeDir, Name: "up/out/"}),
		"a hard link":                tarOf(t, tar.Header{Typeflag: tar.TypeLink, Name: "in", Linkname: "../../etc/passwd"}),
		"a device":                   tarOf(t, tar.Header{Typeflag: tar.TypeChar, Name: "in", Devmajor: 1, Devminor: 3}),
		"a pipe":                     tarOf(t, tar.Header{Typeflag: tar.TypeFifo, Name: "in"}),
		"the same name twice":        tarOf(t, file("in"), file("in")),
		"what breaks off":            tarOf(t, file("in"))[:514],
		"no archive":                 []byte(strings.Repeat("honey", 300)),
	} {
		_, beside, err := unpacked(t, "x.tar", packed)
		if err == nil || beside != "" {
			t.Errorf("%s: %v, and beside it lies %q", what, err, beside)
		}
	}
	if _, err := os.Lstat("/tmp/oskeld-was-here"); err == nil {
		t.Error("an absolute path was written to")
	}
	var zipped bytes.Buffer
	w := zip.NewWriter(&zipped)
	for _, name := range []string{"bin/tool", "../out"} {
		to, err := w.Create(name)
		if err != nil {
			t.Fatal(err)
		}
		_, _ = to.Write([]byte("evil"))
	}
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	if _, beside, err := unpacked(t, "x.zip", zipped.Bytes()); err == nil || beside != "" {
		t.Errorf("a zip that climbs out: %v, %q", err, beside)
	}
	if inside, _, err := unpacked(t, "x.tar", tarOf(t, file("bin/tool"), link("lost", "/nowhere"))); err != nil || inside != "bin bin/tool lost" {
		t.Errorf("a good one: %v %q", err, inside)
	}
}

// An archive holds no more bytes, and no more files, than it may.
func TestTreeLimits(t *testing.T) {
	root, err := os.OpenRoot(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	defer root.Close()
	few := &treeWriter{left: 100, entries: 2}
	for i, want := range []string{"", "", "more files than"} {
		err := few.put(root, string(rune('a'+i)), &tar.Header{Typeflag: tar.TypeDir, Mode: 0o755}, nil)
		if want == "" && err != nil || want != "" && (err == nil || !strings.Contains(err.Error(), want)) {
			t.Errorf("entry %d: %v", i, err)
		}
	}
	large := &treeWriter{left: 3, entries: 9}
	if err := large.put(root, "x", &tar.Header{Typeflag: tar.TypeReg, Size: 4}, strings.NewReader("evil")); err == nil {
		t.Error("more bytes than are allowed")
	}
	if _, err := root.Stat("x"); err == nil {
		t.Error("what is too large is written all the same")
	}
}
