package test

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"oskeld.dev/oskeld/internal/core/progress"
	"oskeld.dev/oskeld/internal/core/view"
)

// tool packs a made-up tool with a program in bin, a link to it, and what it says.
func (w *world) tool(file, says string) string {
	w.t.Helper()
	dir := filepath.Join(w.dir, "packing", says)
	top := filepath.Join(dir, "waxrule")
	if err := os.MkdirAll(filepath.Join(top, "bin"), 0o755); err != nil {
		w.t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(top, "bin", "waxrule"), []byte("#!/bin/sh\necho "+says+"\n"), 0o755); err != nil {
		w.t.Fatal(err)
	}
	if err := os.Symlink("waxrule", filepath.Join(top, "bin", "wax")); err != nil {
		w.t.Fatal(err)
	}
	path := filepath.Join(dir, file)
	if out, err := exec.Command("tar", "-C", dir, "-czf", path, "waxrule").CombinedOutput(); err != nil {
		w.t.Fatalf("%v %s", err, out)
	}
	return path
}

const equipped = `
[stage.press]
equip = { waxrule = "{ask.wax}" }
script = "waxrule; wax; echo at $OSKELD_TOOL_WAXRULE"
[stage.bare]
follows = "press"
script = "if command -v waxrule; then exit 1; fi; echo without"
[ask.wax]
pick = [">=1.2, <2", ">=3", "^0.1"]
`

// A stage is equipped from a store of tools where the agent's own does not fit; each is unpacked once, is an
// input of what the build makes, and goes when nobody has used it for long.
func TestEquip(t *testing.T) {
	w := newWorld(t)
	w.agent("barrow", "--fact", "waxrule=0.1.4", "--keep-tools", "1ns", "--look", "300ms")
	w.ok("store", "add", "toolshed", "--project", "heath")
	w.ok("project", "add", "meadow")
	w.ok("store", "add", "elsewhere", "--project", "meadow", "--tools")
	w.pipeline("hivebook", equipped)
	w.ok("deliver", "toolshed/waxrule@1.2.0", w.tool("waxrule-linux-amd64.tar.gz", "one-two"))
	w.refused(4, "waxrule", "start", "hivebook") // the store is none of tools yet
	w.ok("store", "set", "toolshed", "--tools")
	w.ok("deliver", "elsewhere/waxrule@1.10.0", w.tool("waxrule.tgz", "one-ten"))
	w.ok("deliver", "elsewhere/waxrule@2.0.0", w.tool("waxrule.tgz", "two"))

	first := w.start("hivebook", "")
	d := w.await(first)
	said := w.said(first, 0)
	if d.State != progress.Passed || !strings.Contains(said, "equipped with waxrule 1.10.0 of elsewhere/waxrule@1.10.0, ") || !strings.Contains(said, "unpacked in") || !strings.Contains(said, "one-ten\none-ten") {
		t.Fatalf("%s\n%s", d.Cause, said)
	}
	if len(d.Runs[0].Tools) != 1 || d.Runs[0].Tools[0].From != "elsewhere/waxrule@1.10.0" || len(d.Inputs) != 1 || d.Inputs[0].Version != "1.10.0" {
		t.Errorf("%+v %+v", d.Runs[0].Tools, d.Inputs)
	}
	if out := w.ok("show", "hivebook/1"); !strings.Contains(out, "press had waxrule 1.10.0, elsewhere/waxrule@1.10.0") {
		t.Error(out)
	}
	w.ok("store", "set", "elsewhere", "--admit-pipeline", "hivebook", "--admit-ref", "v*")
	second := w.start("hivebook", "")
	if d := w.await(second); d.State != progress.Passed || !strings.Contains(w.said(second, 0), "waxrule 1.2.0 of toolshed/waxrule@1.2.0") {
		t.Errorf("%s\n%s", d.Cause, w.said(second, 0))
	}
	w.ok("start", "hivebook", "--ask", "wax=^0.1")
	own := view.Build{Pipeline: "hivebook", Number: 3}
	if d := w.await(own); !strings.Contains(w.said(own, 0), "equipped with waxrule 0.1.4, this machine's own") || d.State != progress.Failed {
		t.Errorf("%s\n%s", d.Cause, w.said(own, 0)) // the fact is a claim of the owner's: there is no such program
	}
	w.refused(4, "lacks waxrule >=3 (has 0.1.4)", "start", "hivebook", "--ask", "wax=>=3")
	w.until("the tools are removed", func() bool {
		left, _ := filepath.Glob(filepath.Join(w.dir, "barrow", "tools", "*"))
		return len(left) == 0
	})
}

// Two chains that want the same tool at once unpack it once, and a tool that is spoilt on its way is refused.
func TestEquipTwiceAtOnce(t *testing.T) {
	w := newWorld(t)
	w.agent("barrow", "--places", "4")
	w.ok("store", "set", "intake", "--tools")
	w.ok("deliver", "intake/waxrule@1.2.0", w.tool("waxrule-any.tar.gz", "one-two"))
	w.pipeline("hivebook", "[stage.press]\nvary = { frame = [\"a\", \"b\", \"c\", \"d\"] }\nequip = { waxrule = \">=1\" }\nscript = \"waxrule\"\n")
	b := w.start("hivebook", "")
	if d := w.await(b); d.State != progress.Passed {
		t.Fatal(d.Cause)
	}
	unpacked := 0
	for run := range 4 {
		unpacked += strings.Count(w.said(b, run), "unpacked in")
	}
	if left, _ := filepath.Glob(filepath.Join(w.dir, "barrow", "tools", "*")); unpacked != 1 || len(left) != 2 {
		t.Errorf("unpacked %d times; %v", unpacked, left)
	}
}
