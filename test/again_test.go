package test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"oskeld.dev/oskeld/internal/core/progress"
	"oskeld.dev/oskeld/internal/core/view"
)

// What did not pass is run again under the same number and version; what passed stands, its deliveries too.
func TestRound(t *testing.T) {
	w := newWorld(t)
	w.agent("barrow")
	flag, count := filepath.Join(w.dir, "mended"), filepath.Join(w.dir, "count")
	w.pipeline("hivebook", fmt.Sprintf(`
[version]
untagged = "1.0.{number}"
[stage.make]
script = "echo x >> %[2]s; echo honey > jar"
[[stage.make.artifact]]
name = "jar"
files = ["jar"]
store = "intake"
[stage.test]
duty = "warn"
script = "echo looking for the flag; test -e %[1]s; echo label > label"
[[stage.test.artifact]]
name = "jar"
files = ["label"]
store = "intake"
[stage.side]
after = []
script = "echo side >> %[2]s"
`, flag, count))
	b := w.start("hivebook", "")
	if d := w.await(b); d.State != progress.Failed || d.Runs[2].State != progress.Passed {
		t.Fatalf("%s %s", d.State, d.Cause)
	}
	if err := os.WriteFile(flag, nil, 0o644); err != nil {
		t.Fatal(err)
	}
	out := w.ok("again", "hivebook/1", "--follow")
	if !strings.Contains(out, "passed") {
		t.Error(out)
	}
	d := w.build(b)
	if d.State != progress.Passed || d.Version != b.Version || d.Round != 2 {
		t.Errorf("%s %s round %d: %s", d.State, d.Version, d.Round, d.Cause)
	}
	if len(d.Artifacts) != 1 || d.Artifacts[0].State != "sealed" || d.Artifacts[0].Files != 2 {
		t.Errorf("%+v", d.Artifacts)
	}
	// The chain began anew, to make its workspace; the one that had passed did not.
	if text, _ := os.ReadFile(count); strings.Count(string(text), "x") != 2 || strings.Count(string(text), "side") != 1 {
		t.Errorf("ran: %s", text)
	}
	e := d.Runs[1].Earlier
	if len(e) != 1 || e[0].Round != 1 || e[0].State != progress.Failed || e[0].Fence == 0 || len(d.Runs[2].Earlier) != 0 {
		t.Fatalf("%+v", e)
	}
	if text := w.fetch(fmt.Sprintf("/api/v1/builds/hivebook/1/runs/1/text?fence=%d", e[0].Fence)); !strings.Contains(text, "looking for the flag") {
		t.Errorf("the earlier log: %s", text)
	}
	if out := w.ok("show", "hivebook/1"); !strings.Contains(out, ", round 2") || !strings.Contains(out, "round 1  ⬗ failed test") {
		t.Error(out)
	}
	w.refused(4, "all of build hivebook/1 passed", "again", "hivebook/1")
	w.ok("again", "hivebook/1", "--whole")
	if d := w.await(view.Build{Pipeline: "hivebook", Number: 2}); d.State != progress.Passed || d.Commit != b.Commit || d.Version != "1.0.2" || !strings.HasPrefix(d.Why.Says, "hivebook/1 again") {
		t.Errorf("%+v", d.Build)
	}
}

// A round needs its version: one that another build has taken meanwhile refuses it, and nothing moves.
func TestRoundNeedsItsVersion(t *testing.T) {
	w := newWorld(t)
	w.agent("barrow", "--places", "2")
	flag := filepath.Join(w.dir, "mended")
	r := w.pipeline("hivebook", fmt.Sprintf("[version]\nuntagged = \"1.0.0\"\n[stage.a]\nscript = \"test -e %s; echo honey > jar\"\n[[stage.a.artifact]]\nname = \"jar\"\nfiles = [\"jar\"]\nstore = \"intake\"\n", flag))
	first, second := w.start("hivebook", ""), view.Build{}
	if d := w.await(first); d.State != progress.Failed {
		t.Fatal(d.State)
	}
	if err := os.WriteFile(flag, nil, 0o644); err != nil {
		t.Fatal(err)
	}
	r.commit("More", map[string]string{"f": "1"})
	second = w.start("hivebook", "")
	if d := w.await(second); d.State != progress.Passed {
		t.Fatal(d.Cause)
	}
	w.refused(4, "version 1.0.0 of jar in store intake is taken: build hivebook/2 made it", "again", "hivebook/1")
	if d := w.build(first); d.State != progress.Failed || d.Round != 1 || d.Runs[0].State != progress.Failed {
		t.Errorf("%s round %d", d.State, d.Round)
	}
	wait, open := w.gate("go")
	w.pipeline("nectar", fmt.Sprintf("[stage.a]\nscript = \"echo begun; %s\"\n", wait))
	b := w.start("nectar", "")
	w.printed(b, 0, "begun")
	w.refused(4, "nectar/1 goes on yet", "again", "nectar/1")
	w.ok("stop", "nectar/1")
	w.await(b)
	open()
	w.ok("again", "nectar/1")
	if d := w.await(b); d.State != progress.Passed || d.Round != 2 {
		t.Errorf("a stopped build in its second round: %s %s", d.State, d.Cause)
	}
	w.refused(3, "no build nectar/9", "again", "nectar/9")
	w.refused(3, "no build nectar/9", "again", "nectar/9", "--whole")
}
