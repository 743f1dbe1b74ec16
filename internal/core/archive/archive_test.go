package archive

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/gzip"
	"io"
	"slices"
	"strings"
	"testing"
)

func entry(path, text string, executable bool) Entry {
	return Entry{Path: path, Size: int64(len(text)), Executable: executable, Open: func() (io.ReadCloser, error) { return io.NopCloser(strings.NewReader(text)), nil }}
}

// The same files in any order give the same bytes, and ordinary readers read them.
func TestDeterministic(t *testing.T) {
	entries := []Entry{entry("b.txt", "two", false), entry("a/run.sh", "#!/bin/sh\n", true), entry("a/é.txt", "", false)}
	turned := slices.Clone(entries)
	slices.Reverse(turned)
	for name, pack := range map[string]func(io.Writer, []Entry) error{"zip": Zip, "tar.gz": TarGz} {
		var one, two bytes.Buffer
		if err := pack(&one, entries); err != nil {
			t.Fatal(name, err)
		}
		if err := pack(&two, turned); err != nil {
			t.Fatal(name, err)
		}
		if !bytes.Equal(one.Bytes(), two.Bytes()) {
			t.Errorf("%s: the order of the files counts", name)
		}
	}
	var z bytes.Buffer
	_ = Zip(&z, entries)
	r, err := zip.NewReader(bytes.NewReader(z.Bytes()), int64(z.Len()))
	if err != nil {
		t.Fatal(err)
	}
	if f := r.File[0]; f.Name != "a/run.sh" || f.Mode().Perm() != 0o755 || !f.Modified.Equal(Moment) {
		t.Errorf("first entry %s %v %v", f.Name, f.Mode(), f.Modified)
	}
	var g bytes.Buffer
	_ = TarGz(&g, entries)
	u, err := gzip.NewReader(&g)
	if err != nil {
		t.Fatal(err)
	}
	tr := tar.NewReader(u)
	var names []string
	for h, err := tr.Next(); err == nil; h, err = tr.Next() {
		names = append(names, h.Name)
		if h.Uname != "" || h.Uid != 0 || !h.ModTime.Equal(Moment) {
			t.Errorf("%s tells who made it", h.Name)
		}
	}
	if !slices.Equal(names, []string{"a/run.sh", "a/é.txt", "b.txt"}) {
		t.Errorf("got %v", names)
	}
}

func TestFileThatShrank(t *testing.T) {
	e := entry("a", "text", false)
	e.Size = 10
	if err := Zip(io.Discard, []Entry{e}); err == nil {
		t.Error("a file shorter than promised was packed")
	}
}
