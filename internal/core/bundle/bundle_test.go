package bundle

import (
	"bytes"
	"io"
	"strings"
	"testing"

	"oskeld.dev/oskeld/internal/core/artifact"
	"oskeld.dev/oskeld/internal/core/fault"
)

func TestRoundTrip(t *testing.T) {
	texts := []string{"heather", "", strings.Repeat("clover\n", 9000), "x"}
	var out bytes.Buffer
	w := NewWriter(&out)
	for _, text := range texts {
		if err := w.Add(artifact.DigestOf([]byte(text)), int64(len(text)), strings.NewReader(text)); err != nil {
			t.Fatal(err)
		}
	}
	for _, skip := range []bool{false, true} {
		r := NewReader(bytes.NewReader(out.Bytes()))
		for i, text := range texts {
			digest, size, body, err := r.Next()
			if err != nil || digest != artifact.DigestOf([]byte(text)) || size != int64(len(text)) {
				t.Fatal(i, digest, size, err)
			}
			if skip && i%2 == 0 {
				continue
			}
			if got, err := io.ReadAll(body); string(got) != text || err != nil {
				t.Errorf("%d: %d bytes, %v", i, len(got), err)
			}
		}
		if _, _, _, err := r.Next(); err != io.EOF {
			t.Error(err)
		}
	}
	if err := w.Add(artifact.DigestOf(nil), 9, strings.NewReader("short")); err == nil {
		t.Error("a file that is too short was added")
	}
}

func TestBroken(t *testing.T) {
	d := string(artifact.DigestOf([]byte("honey")))
	for what, text := range map[string]string{
		"no line feed": d + " 5", "no digest": "xyz 5\nhoney", "no size": d + "\nhoney", "a size below nought": d + " -1\nhoney", "far too large": d + " 99999999999\nhoney",
		"breaks off": d + " 5\nhon", "other bytes": d + " 5\nmoney", "rubbish after it": d + " 5\nhoneyhoney", "a long line": strings.Repeat("x", 100_000),
	} {
		r := NewReader(strings.NewReader(text))
		var err error
		for err == nil {
			var body io.Reader
			if _, _, body, err = r.Next(); err == nil {
				_, err = io.ReadAll(body)
			}
		}
		if !fault.Is(err, fault.KindInvalid) {
			t.Errorf("%s: %v", what, err)
		}
	}
}

func FuzzReader(f *testing.F) {
	d := string(artifact.DigestOf([]byte("honey")))
	f.Add([]byte(d + " 5\nhoney"))
	f.Add([]byte(d + " 5\nhon"))
	f.Fuzz(func(t *testing.T, text []byte) {
		r := NewReader(bytes.NewReader(text))
		for {
			digest, size, body, err := r.Next()
			if err != nil {
				return
			}
			got, err := io.ReadAll(body)
			if err == nil && (int64(len(got)) != size || artifact.DigestOf(got) != digest) {
				t.Fatalf("%d bytes passed as %s", len(got), digest)
			}
		}
	})
}
