package provenance

import (
	"bytes"
	"crypto/ed25519"
	"testing"
	"time"

	"oskeld.dev/oskeld/internal/core/artifact"
	"oskeld.dev/oskeld/internal/core/fault"
)

func TestSignAndVerify(t *testing.T) {
	ctx := t.Context()
	public, private, _ := ed25519.GenerateKey(nil)
	digest := artifact.DigestOf([]byte("zip"))
	content := artifact.Content{Files: []artifact.File{{Path: "hivebook.zip", Size: 3, Digest: digest}}}
	s, err := Statement(content, Facts{Service: "http://127.0.0.1:7080", Build: "hivebook/57", Pipeline: "hivebook", Start: time.Unix(1, 0), End: time.Unix(2, 0),
		Stages: []Stage{{"test", "barrow", map[string]string{"go": "1.26.8"}}},
		Inputs: []Input{{"hivebook", "git+file:///x", map[string]string{"gitCommit": "8c1f2e0"}}}})
	if err != nil {
		t.Fatal(err)
	}
	envelope, err := Sign(ctx, private, s)
	if err != nil {
		t.Fatal(err)
	}
	got, err := Verify(ctx, envelope, public)
	if err != nil {
		t.Fatal(err)
	}
	if name, ok := Covers(got, digest); !ok || name != "hivebook.zip" {
		t.Errorf("covers %q %v", name, ok)
	}
	if _, ok := Covers(got, artifact.DigestOf(nil)); ok {
		t.Error("covers a file that it is not about")
	}
	p, err := Predicate(got)
	if err != nil || p.GetRunDetails().GetMetadata().GetInvocationId() != "hivebook/57" || len(p.GetBuildDefinition().GetResolvedDependencies()) != 1 {
		t.Errorf("predicate %v %v", p, err)
	}
	other, _, _ := ed25519.GenerateKey(nil)
	if _, err := Verify(ctx, envelope, other); !fault.Is(err, fault.KindRefused) {
		t.Errorf("another key: %v", err)
	}
	harmed := bytes.Replace(envelope, []byte(`"payload": "ey`), []byte(`"payload": "eX`), 1)
	if _, err := Verify(ctx, harmed, public); err == nil {
		t.Error("a harmed statement was verified")
	}
	if _, err := Verify(ctx, []byte("{"), public); !fault.Is(err, fault.KindInvalid) {
		t.Errorf("no envelope: %v", err)
	}
}

func TestKeys(t *testing.T) {
	public, _, _ := ed25519.GenerateKey(nil)
	pem, err := EncodeKey(public)
	if err != nil {
		t.Fatal(err)
	}
	back, err := DecodeKey(pem)
	if err != nil || !back.Equal(public) || KeyID(back) != KeyID(public) {
		t.Error(back, err)
	}
	if _, err := DecodeKey([]byte("x")); err == nil {
		t.Error("no key was taken")
	}
}
