package test

import (
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"oskeld.dev/oskeld/internal/core/progress"
	"oskeld.dev/oskeld/internal/core/view"
)

const cached = `
[version]
untagged = "1.0.{number}"
[stage.restore]
cache = [{ dirs = ["~/jars", "spoons"], by = ["*.lock"] }]
script = """
if test -e ~/jars/sub/honey; then echo found $(cat ~/jars/sub/honey); test -x ~/jars/stir; test -L ~/jars/link; test "$(readlink ~/jars/link)" = sub/honey; test -e spoons/one
else
  mkdir -p ~/jars/sub spoons; echo heather > ~/jars/sub/honey; echo one > spoons/one; ln -s sub/honey ~/jars/link; echo x > ~/jars/stir; chmod 755 ~/jars/stir; chmod 555 ~/jars/sub; echo made
fi
"""
[stage.check]
cache = [{ dirs = ["~/jars", "spoons"], by = ["*.lock"] }]
script = "test -e ~/jars/sub/honey"
`

// said is what a stage run printed, as one text.
func (w *world) said(b view.Build, run int) string { return strings.Join(w.lines(b, run), "\n") }

// A cache is saved by a passed stage, found again until a file that it goes by changes, and looked at.
func TestCache(t *testing.T) {
	w := newWorld(t)
	w.agent("barrow")
	r := w.pipeline("hivebook", cached)
	r.commit("Lock", map[string]string{"jars.lock": "one\n"})
	build := func() view.BuildDetail {
		t.Helper()
		b := w.start("hivebook", "")
		d := w.await(b)
		if d.State != progress.Passed {
			t.Fatalf("%s\n%s", d.Cause, w.said(b, 0))
		}
		return d
	}
	first := build()
	if out := w.said(first.Build, 0); !strings.Contains(out, "cache ~/jars, spoons: none, nothing is saved yet") || !strings.Contains(out, "made") || !strings.Contains(out, " saved") {
		t.Error(out)
	}
	second := build()
	if out := w.said(second.Build, 0); !strings.Contains(out, "of hivebook/1 laid in") || !strings.Contains(out, "found heather") || strings.Contains(out, " saved") {
		t.Error(out)
	}
	if out := w.said(second.Build, 1); out != "" {
		t.Errorf("the second stage of the chain laid it in again: %s", out)
	}
	r.commit("Lock anew", map[string]string{"jars.lock": "two\n", "spoons.lock": "new\n"})
	third := build()
	if out := w.said(third.Build, 0); !strings.Contains(out, "none, jars.lock changed, spoons.lock is new since hivebook/1") || !strings.Contains(out, "made") {
		t.Error(out)
	}
	var l view.Caches
	w.get("/api/v1/projects/heath/caches", &l)
	if len(l.List) != 2 || l.List[0].From != "hivebook/3" || l.List[1].Uses != 1 || l.Size == 0 {
		t.Errorf("%+v", l)
	}
	if out := w.ok("cache", "list", "--project", "heath"); !strings.Contains(out, "~/jars, spoons") || !strings.Contains(out, "hivebook/3") {
		t.Error(out)
	}
	// The longest unused goes beyond the quota, and its bytes with it once nobody holds them.
	w.ok("cache", "set", "--project", "heath", "--quota", fmt.Sprintf("%dB", l.List[0].Size))
	w.get("/api/v1/projects/heath/caches", &l)
	if len(l.List) != 1 || l.List[0].From != "hivebook/3" {
		t.Errorf("%+v", l)
	}
	w.ok("cache", "remove", l.List[0].ID, "--project", "heath")
	w.refused(3, "has no cache", "cache", "remove", l.List[0].ID, "--project", "heath")
	w.refused(2, "is not a size", "cache", "set", "--project", "heath", "--quota", "much")
	if d := build(); !strings.Contains(w.said(d.Build, 0), "nothing is saved yet") {
		t.Error(w.said(d.Build, 0))
	}
}

// What fails, and what a ref that is not trusted builds, is never saved; bytes that went bad are not laid in.
func TestCacheIsNotPoisoned(t *testing.T) {
	w := newWorld(t)
	w.agent("barrow")
	r := w.pipeline("hivebook", cached+"[stage.last]\nscript = \"test ! -e fail\"\n")
	r.commit("Lock", map[string]string{"jars.lock": "one\n"})
	w.ok("source", "set", "hivebook", "--trust", "main")
	r.git("checkout", "-qb", "try")
	r.commit("Try", map[string]string{"jars.lock": "try\n"})
	w.await(w.start("hivebook", "try"))
	r.git("checkout", "-q", "main")
	r.commit("Break the restore", map[string]string{"oskeld.toml": strings.Replace("pipeline = \"hivebook\"\n"+cached, "echo made", "echo made; exit 3", 1)})
	if d := w.await(w.start("hivebook", "main")); d.State != progress.Failed {
		t.Errorf("%s", d.State)
	}
	var l view.Caches
	w.get("/api/v1/projects/heath/caches", &l)
	if len(l.List) != 0 {
		t.Fatalf("saved: %+v", l.List)
	}
	r.git("revert", "--no-edit", "HEAD")
	w.await(w.start("hivebook", "main"))
	w.get("/api/v1/projects/heath/caches", &l)
	if len(l.List) != 1 {
		t.Fatalf("%+v", l.List)
	}
	blobs := 0
	if err := filepath.WalkDir(filepath.Join(w.dir, "service", "store", "blobs"), func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		if info, err := d.Info(); err != nil || info.Size() != l.List[0].Size {
			return err
		}
		blobs++
		text, err := os.ReadFile(path)
		if err != nil {
			return err
		}
		text[len(text)/2] ^= 1
		return os.WriteFile(path, text, 0o600)
	}); err != nil || blobs != 1 {
		t.Fatalf("%d blobs: %v", blobs, err)
	}
	b := w.start("hivebook", "main")
	if d := w.await(b); d.State != progress.Passed || !strings.Contains(w.said(b, 0), "could not be laid in") || !strings.Contains(w.said(b, 0), "made") {
		t.Errorf("%s %s\n%s", d.State, d.Cause, w.said(b, 0))
	}
}

// A stage that passes on its second try saves the cache that the first one missed.
func TestCacheOfASecondTry(t *testing.T) {
	w := newWorld(t)
	w.agent("barrow")
	r := w.pipeline("hivebook", "[stage.a]\ntries = 2\ncache = [{ dirs = [\"~/jars\"], by = [\"*.lock\"] }]\nscript = \"mkdir -p ~/jars; test -e ~/jars/honey || { echo x > ~/jars/honey; exit 1; }\"\n")
	r.commit("Lock", map[string]string{"jars.lock": "one\n"})
	b := w.start("hivebook", "")
	if d := w.await(b); d.State != progress.Passed {
		t.Fatalf("%s\n%s", d.Cause, w.said(b, 0))
	}
	var l view.Caches
	if w.get("/api/v1/projects/heath/caches", &l); len(l.List) != 1 {
		t.Errorf("%d caches are kept\n%s", len(l.List), w.said(b, 0))
	}
}
