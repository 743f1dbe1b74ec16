package test

import (
	"strings"
	"testing"

	"oskeld.dev/oskeld/internal/core/progress"
)

// Agents, stores and caches are there for named pipelines and refs.
func TestAdmits(t *testing.T) {
	w := newWorld(t)
	w.agent("barrow")
	lock := map[string]string{"a.lock": "1\n"}
	for _, name := range []string{"hivebook", "smoker"} {
		w.pipeline(name, "[stage.make]\ncache = [{ dirs = [\"jars\"], by = [\"*.lock\"] }]\nscript = \"mkdir -p jars; echo x > jars/x; echo "+name+" > a.txt\"\n[[stage.make.artifact]]\nname = \""+name+"\"\nstore = \"intake\"\nfiles = [\"a.txt\"]\n").commit("Lock", lock)
	}
	w.refused(3, `no pipeline "nobody"`, "agent", "set", "barrow", "--admit-pipeline", "nobody")
	w.refused(2, "not a pattern", "agent", "set", "barrow", "--admit-ref", "[")
	w.ok("agent", "set", "barrow", "--admit-pipeline", "hivebook", "--admit-ref", "main")
	w.refused(4, "barrow has it, but admits hivebook and not pipeline smoker", "start", "smoker")
	if out := w.ok("agent", "list"); !strings.Contains(out, "hivebook, main") {
		t.Error(out)
	}
	w.agent("heron")
	b := w.start("smoker", "")
	if d := w.await(b); d.State != progress.Passed || d.Runs[0].Agent != "heron" {
		t.Errorf("%s on %s", d.Cause, d.Runs[0].Agent)
	}
	w.ok("agent", "set", "heron", "--drain")
	waits := w.start("smoker", "") // heron drains, barrow does not admit it
	w.waitsFor(waits, 0, "waits for heron, away or draining now")
	if d := w.await(w.start("hivebook", "")); d.State != progress.Passed || d.Runs[0].Agent != "barrow" {
		t.Errorf("%s on %s", d.Cause, d.Runs[0].Agent)
	}
	w.ok("agent", "set", "barrow", "--admit-all")
	if d := w.await(waits); d.State != progress.Passed || d.Runs[0].Agent != "barrow" {
		t.Errorf("%s on %s", d.Cause, d.Runs[0].Agent)
	}

	w.ok("store", "set", "intake", "--admit-pipeline", "hivebook")
	w.refused(4, `into store "intake", which admits hivebook and not pipeline smoker`, "start", "smoker")
	if out := w.ok("store", "show", "intake"); !strings.Contains(out, "is there for pipelines hivebook") {
		t.Error(out)
	}
	w.ok("store", "set", "intake", "--admit-all")

	if out := w.ok("cache", "set", "--project", "heath", "--admit-ref", "release/*"); !strings.Contains(out, "may have 10.74 GB") || !strings.Contains(out, "they admit refs release/*") {
		t.Error(out)
	}
	b = w.start("hivebook", "")
	if d := w.await(b); d.State != progress.Passed || !strings.Contains(w.said(b, 0), "none, the project's cache admits release/* and not main") {
		t.Errorf("%s %s", d.Cause, w.said(b, 0))
	}
	w.ok("cache", "set", "--project", "heath", "--admit-all", "--days", "3")
	b = w.start("hivebook", "")
	if d := w.await(b); d.State != progress.Passed || !strings.Contains(w.said(b, 0), "laid in") {
		t.Errorf("%s %s", d.Cause, w.said(b, 0))
	}
}
