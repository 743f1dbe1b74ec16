package artifact

import (
	"strings"
	"testing"
)

func TestParseRef(t *testing.T) {
	for text, want := range map[string]Ref{
		"intake/hivebook@1.4.0":            {Store: "intake", Name: "hivebook", Version: "1.4.0"},
		"intake/hivebook@1.4.1-main.57":    {Store: "intake", Name: "hivebook", Version: "1.4.1-main.57"},
		"proving/hivebook:beta":            {Store: "proving", Name: "hivebook", Mark: "beta"},
		"intake/hivebook@1.4.0#bin/hive.x": {Store: "intake", Name: "hivebook", Version: "1.4.0", File: "bin/hive.x"},
	} {
		got, err := ParseRef(text)
		if err != nil || got != want {
			t.Errorf("%s: %+v, %v", text, got, err)
		}
		if got.String() != text {
			t.Errorf("%s written as %s", text, got)
		}
	}
	for _, text := range []string{"", "intake", "intake/", "intake/hivebook", "intake/hivebook@", "intake/hivebook@1/2", "intake/..@1", "in take/x@1",
		"intake/hive..book@1", "intake/x@1#../y", "intake/x@" + strings.Repeat("1", 129), "../x@1"} {
		if got, err := ParseRef(text); err == nil {
			t.Errorf("%q was taken as %+v", text, got)
		}
	}
}

func TestContent(t *testing.T) {
	d := DigestOf([]byte("x"))
	a, err := NewContent([]File{{Path: "b", Size: 1, Digest: d}, {Path: "a/c", Size: 1, Digest: d, Executable: true}})
	if err != nil {
		t.Fatal(err)
	}
	b, _ := NewContent([]File{a.Files[0], a.Files[1], a.Files[0]})
	if a.Digest() != b.Digest() || a.Files[0].Path != "a/c" || a.Size() != 2 {
		t.Errorf("order or repetition counts: %+v", b)
	}
	for name, files := range map[string][]File{
		"two under one path": {{Path: "a", Digest: d}, {Path: "a", Digest: DigestOf(nil)}},
		"file and directory": {{Path: "a", Digest: d}, {Path: "a/b", Digest: d}},
		"climbs out":         {{Path: "../a", Digest: d}},
		"absolute":           {{Path: "/a", Digest: d}},
		"backslash":          {{Path: `a\b`, Digest: d}},
		"line feed":          {{Path: "a\nb", Digest: d}},
		"dot":                {{Path: "a/./b", Digest: d}},
	} {
		if _, err := NewContent(files); err == nil {
			t.Errorf("%s was taken", name)
		}
	}
	executable, _ := NewContent([]File{{Path: "b", Size: 1, Digest: d, Executable: true}})
	plain, _ := NewContent([]File{{Path: "b", Size: 1, Digest: d}})
	if executable.Digest() == plain.Digest() {
		t.Error("the mode does not count")
	}
}

func TestParseDigest(t *testing.T) {
	d := DigestOf(nil)
	if got, err := ParseDigest(d.String()); err != nil || got != d {
		t.Error(got, err)
	}
	for _, bad := range []string{"", "sha256:", "sha512:" + string(d), strings.ToUpper(string(d)), string(d)[1:]} {
		if _, err := ParseDigest(bad); err == nil {
			t.Errorf("%q was taken", bad)
		}
	}
}

func FuzzParseRef(f *testing.F) {
	f.Add("intake/hivebook@1.4.0#x")
	f.Fuzz(func(t *testing.T, text string) {
		if r, err := ParseRef(text); err == nil {
			if again, err := ParseRef(r.String()); err != nil || again != r {
				t.Errorf("%q gives %+v, written %q gives %+v", text, r, r, again)
			}
		}
	})
}
