package client

import (
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"oskeld.dev/oskeld/internal/core/artifact"
	"oskeld.dev/oskeld/internal/core/fault"
	"oskeld.dev/oskeld/internal/core/view"
)

// A fetched file goes on where the connection broke off, and is kept only when its digest fits.
func TestFetch(t *testing.T) {
	body := strings.Repeat("honey ", 20_000)
	broken := 0
	c := answer(t, func(w http.ResponseWriter, r *http.Request) {
		switch {
		case r.URL.Path == "/api/v1/artifact":
			if got := r.URL.Query().Get("ref"); got != "intake/honey@^1.3" && got != "intake/wrong@1" {
				t.Errorf("asked for %q", got)
			}
			digest := artifact.DigestOf([]byte(body))
			name := "honey"
			if strings.Contains(r.URL.RawQuery, "wrong") {
				name, digest = "wrong", artifact.DigestOf([]byte("other"))
			}
			a := view.ArtifactDetail{Artifact: view.Artifact{Store: "intake", Name: name, Version: "1.3.9"},
				Contents: []artifact.File{{Path: "a b/honey.txt", Size: int64(len(body)), Digest: digest, Executable: true}}}
			if err := json.NewEncoder(w).Encode(a); err != nil {
				t.Error(err)
			}
		case r.Header.Get("Range") == "" && broken < 1 && strings.Contains(r.URL.Path, "/honey/"):
			broken++
			w.Header().Set("Content-Length", fmt.Sprint(len(body)))
			fmt.Fprint(w, body[:5000]) // and the connection ends
		case r.Header.Get("Range") != "":
			if got := r.Header.Get("Range"); got != "bytes=5000-" {
				t.Errorf("went on at %q", got)
			}
			w.WriteHeader(http.StatusPartialContent)
			fmt.Fprint(w, body[5000:])
		default:
			fmt.Fprint(w, body)
		}
	})
	into := t.TempDir()
	names, err := c.FetchInto(t.Context(), "intake/honey@^1.3", into, Silent)
	if err != nil || len(names) != 1 || broken != 1 {
		t.Fatalf("%v, %v", names, err)
	}
	path := filepath.Join(into, "a b", "honey.txt")
	if text, err := os.ReadFile(path); err != nil || string(text) != body {
		t.Errorf("%d bytes, %v", len(text), err)
	}
	if info, err := os.Stat(path); err != nil || info.Mode().Perm()&0o100 == 0 {
		t.Errorf("%v, %v", info, err)
	}
	if _, _, err := c.Wanted(t.Context(), "intake/honey@^1.3#none"); !fault.Is(err, fault.KindMissing) {
		t.Error(err)
	}
	if _, _, err := c.Wanted(t.Context(), "no reference"); !fault.Is(err, fault.KindInvalid) {
		t.Error(err)
	}
	other := t.TempDir()
	if _, err := c.FetchInto(t.Context(), "intake/wrong@1", other, Silent); !fault.Is(err, fault.KindRefused) || !strings.Contains(err.Error(), "nothing was kept") {
		t.Error(err)
	}
	if left, _ := filepath.Glob(other + "/a b/*"); len(left) > 0 {
		t.Errorf("left %v", left)
	}
}
