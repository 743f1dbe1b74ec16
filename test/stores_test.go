package test

import (
	"fmt"
	"net/http"
	"strings"
	"sync"
	"testing"

	"oskeld.dev/oskeld/internal/core/progress"
	"oskeld.dev/oskeld/internal/core/view"
)

// What may come again under a version: nothing, the same bytes from the same commit, or a revision.
func TestRewriteRules(t *testing.T) {
	w := newWorld(t)
	w.agent("barrow", "--places", "2")
	for _, rewrite := range []string{"same", "always"} {
		w.ok("store", "add", rewrite, "--project", "heath", "--rewrite", rewrite)
	}
	stages := func(store, script string) string {
		return fmt.Sprintf("pipeline = %q\n[version]\nuntagged = \"1.0.0\"\n[stage.a]\nscript = %q\n[[stage.a.artifact]]\nname = \"thing\"\nfiles = [\"out.txt\"]\nstore = %q\n", "p-"+store, script, store)
	}
	bind := func(store, script string) repo {
		r := w.repo("p-" + store)
		r.commit("Begin", map[string]string{"oskeld.toml": stages(store, script)})
		w.ok("source", "add", "p-"+store, r.dir, "--project", "heath")
		w.ok("pipeline", "add", "p-"+store, "--source", "p-"+store)
		return r
	}
	end := func(store string, state progress.State, cause string) view.BuildDetail {
		t.Helper()
		d := w.await(w.start("p-"+store, ""))
		if d.State != state || !strings.Contains(d.Cause, cause) {
			t.Errorf("%s: %s %q, want %s %q", store, d.State, d.Cause, state, cause)
		}
		return d
	}
	r := bind("same", "echo constant > out.txt")
	end("same", progress.Passed, "")
	end("same", progress.Passed, "") // the same commit, the same bytes
	if out := w.ok("list", "same"); strings.Count(out, "thing@1.0.0") != 1 {
		t.Errorf("the same bytes stand twice:\n%s", out)
	}
	r.commit("Another", nil)
	w.refused(4, "version 1.0.0 of thing in store same is taken: build p-same/1 made it", "start", "p-same")

	w.ok("store", "add", "changing", "--project", "heath", "--rewrite", "same")
	bind("changing", "date +%N > out.txt")
	end("changing", progress.Passed, "")
	end("changing", progress.Failed, "out.txt has other bytes there")

	r = bind("always", "date +%N > out.txt")
	first := end("always", progress.Passed, "")
	r.commit("Another", nil)
	second := end("always", progress.Passed, "")
	var a view.ArtifactDetail
	if err := w.owner.Call(t.Context(), http.MethodGet, "/api/v1/artifact?ref=always/thing@1.0.0", nil, &a); err != nil {
		t.Fatal(err)
	}
	if a.Revision != 2 || a.Build != "p-always/2" || first.Artifacts[0].Content == second.Artifacts[0].Content {
		t.Errorf("the version points at revision %d of %s", a.Revision, a.Build)
	}
}

// A failed build frees the version that it had reserved.
func TestFailureFreesTheVersion(t *testing.T) {
	w := newWorld(t)
	w.agent("barrow")
	stages := "[version]\nuntagged = \"2.0.0\"\n[stage.a]\nscript = %q\n[[stage.a.artifact]]\nname = \"thing\"\nfiles = [\"x\"]\nstore = \"intake\"\n"
	r := w.pipeline("hivebook", fmt.Sprintf(stages, "touch x; exit 1"))
	if d := w.await(w.start("hivebook", "")); d.State != progress.Failed || d.Artifacts[0].State != "dropped" {
		t.Fatalf("%s: %+v", d.State, d.Artifacts)
	}
	w.refused(3, "no intake/thing@2.0.0", "fetch", "intake/thing@2.0.0")
	r.commit("Mend", map[string]string{"oskeld.toml": "pipeline = \"hivebook\"\n" + fmt.Sprintf(stages, "touch x")})
	if d := w.await(w.start("hivebook", "")); d.State != progress.Passed {
		t.Errorf("%s %s", d.State, d.Cause)
	}
}

// Many starts of one version at once: one build gets it, all others are refused, none half.
func TestManyStartsOfOneVersion(t *testing.T) {
	w := newWorld(t)
	w.agent("barrow")
	w.pipeline("hivebook", "[version]\nuntagged = \"3.0.0\"\n[stage.a]\nscript = \"touch x\"\n[[stage.a.artifact]]\nname = \"thing\"\nfiles = [\"x\"]\nstore = \"intake\"\n")
	var all sync.WaitGroup
	codes := make([]int, 6)
	for i := range codes {
		all.Go(func() { _, codes[i] = w.run("", "start", "hivebook") })
	}
	all.Wait()
	started := 0
	for _, code := range codes {
		switch code {
		case 0:
			started++
		case 4:
		default:
			t.Errorf("exit %d", code)
		}
	}
	if started != 1 {
		t.Errorf("%d starts got the version", started)
	}
	if b := w.await(view.Build{Pipeline: "hivebook", Number: 1}); b.State != progress.Passed {
		t.Error(b.Cause)
	}
}

// Carried files, modes and links: what a stage carries lies in the workspace of those after it.
func TestCarry(t *testing.T) {
	w := newWorld(t)
	w.agent("barrow")
	w.agent("heron")
	w.pipeline("hivebook", `
[stage.one]
carry = ["made/**"]
script = "mkdir -p made/deep; echo '#!/bin/sh' > made/deep/run; echo 'echo ran' >> made/deep/run; chmod +x made/deep/run; ln -s deep/run made/link; for i in $(seq 300); do echo $i > made/$i.txt; done"
[stage.two]
after = ["one"]
script = "made/deep/run; cat made/link | head -1; ls made | wc -l; test ! -e other"
[stage.other]
after = ["one"]
carry = ["made/7.txt"]
script = "echo different > made/7.txt"
[stage.clash]
after = ["one", "other"]
script = "true"
`)
	b := w.start("hivebook", "")
	w.until("two has passed", func() bool { return w.build(b).Runs[1].State.Over() })
	if got := strings.Join(w.lines(b, 1), " "); got != "ran #!/bin/sh 302" {
		t.Errorf("two says %q: %s", got, w.build(b).Runs[1].Cause)
	}
	d := w.await(b)
	if clash := d.Runs[3]; clash.State != progress.Failed || !strings.Contains(clash.Cause, `two different files are delivered as "made/7.txt"`) {
		t.Errorf("the clash: %s %q", clash.State, clash.Cause)
	}
}
