package archive

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"io"
	"strings"
	"testing"
)

func entries(files map[string]string) (list []Entry) {
	for path, text := range files {
		list = append(list, Entry{Path: path, Size: int64(len(text)), Executable: strings.HasPrefix(path, "bin/"),
			Open: func() (io.ReadCloser, error) { return io.NopCloser(strings.NewReader(text)), nil }})
	}
	return list
}

func unpacked(name string, packed []byte) (map[string]string, error) {
	got := map[string]string{}
	err := Unpack(name, bytes.NewReader(packed), int64(len(packed)), func(path string, executable bool, r io.Reader) error {
		text, err := io.ReadAll(r)
		if executable {
			path += "*"
		}
		got[path] = string(text)
		return err
	})
	return got, err
}

// What is packed comes out again, and packing twice gives the same bytes.
func TestUnpack(t *testing.T) {
	files := map[string]string{"bin/app": "run", "docs/a b.txt": strings.Repeat("text ", 10_000), "z": ""}
	for name, pack := range map[string]func(io.Writer, []Entry) error{"a.zip": Zip, "a.tar.gz": TarGz, "a.tar.zst": TarZst} {
		var one, two bytes.Buffer
		if err := pack(&one, entries(files)); err != nil {
			t.Fatal(err)
		}
		if err := pack(&two, entries(files)); err != nil || !bytes.Equal(one.Bytes(), two.Bytes()) {
			t.Errorf("%s: packed twice, the bytes differ (%v)", name, err)
		}
		got, err := unpacked(name, one.Bytes())
		if err != nil || len(got) != 3 || got["bin/app*"] != "run" || got["docs/a b.txt"] != files["docs/a b.txt"] {
			t.Errorf("%s: %d files, %v", name, len(got), err)
		}
	}
}

func TestUnpackRefuses(t *testing.T) {
	tarOf := func(h tar.Header) []byte {
		var b bytes.Buffer
		w := tar.NewWriter(&b)
		_ = w.WriteHeader(&h)
		_ = w.Close()
		return b.Bytes()
	}
	var climbing bytes.Buffer
	z := zip.NewWriter(&climbing)
	f, _ := z.Create("../../etc/passwd")
	_, _ = f.Write([]byte("x"))
	_ = z.Close()
	for want, c := range map[string]struct {
		name string
		body []byte
	}{
		"is not a path":       {"a.zip", climbing.Bytes()},
		"not a path within":   {"a.tar", tarOf(tar.Header{Name: "/etc/x", Typeflag: tar.TypeReg})},
		"not a plain file":    {"a.tar", tarOf(tar.Header{Name: "l", Linkname: "/etc/passwd", Typeflag: tar.TypeSymlink})},
		"cannot be unpacked":  {"a.zip", []byte("no archive")},
		"a.tar.gz cannot be":  {"a.tar.gz", []byte("no archive")},
		"a.tar.zst cannot be": {"a.tar.zst", []byte("no archive")},
	} {
		if _, err := unpacked(c.name, c.body); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, want %q", c.name, err, want)
		}
	}
}

func FuzzUnpack(f *testing.F) {
	var b bytes.Buffer
	_ = Zip(&b, entries(map[string]string{"a": "b"}))
	f.Add("a.zip", b.Bytes())
	f.Fuzz(func(t *testing.T, name string, body []byte) {
		_, _ = unpacked(name, body[:min(len(body), 1<<16)])
	})
}
