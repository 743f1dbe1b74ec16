package test

import (
	"fmt"
	"net/http"
	"strings"
	"testing"

	"oskeld.dev/oskeld/internal/core/progress"
	"oskeld.dev/oskeld/internal/core/view"
)

// wants is what a stage run of a build waits for.
func (w *world) wants(b view.Build, run int) string {
	w.t.Helper()
	return w.build(b).Runs[run].Wants
}

func (w *world) waitsFor(b view.Build, run int, want string) {
	w.t.Helper()
	got := ""
	w.until(fmt.Sprintf("%s/%d says that it %s", b.Pipeline, b.Number, want), func() bool {
		got = w.wants(b, run)
		return strings.Contains(got, want)
	})
}

// With overlap = "queue" builds of a branch come one after the other, also when one in the middle is stopped.
func TestOverlapQueue(t *testing.T) {
	w := newWorld(t)
	w.agent("barrow", "--places", "4")
	wait, open := w.gate("go")
	r := w.pipeline("hivebook", fmt.Sprintf("overlap = \"queue\"\n[stage.a]\nscript = \"echo begun; %s\"\n", wait))
	r.git("branch", "other")
	first := w.start("hivebook", "main")
	w.printed(first, 0, "begun")
	second, third := w.start("hivebook", "main"), w.start("hivebook", "main")
	other := w.start("hivebook", "other")
	w.printed(other, 0, "begun") // another branch does not wait
	w.waitsFor(second, 0, "waits for build hivebook/1 of the same branch to end")
	w.waitsFor(third, 0, "waits for build hivebook/2 of the same branch to end")
	w.ok("stop", "hivebook/2")
	w.waitsFor(third, 0, "waits for build hivebook/1 of the same branch to end")
	open()
	for _, b := range []view.Build{first, other, third} {
		if d := w.await(b); d.State != progress.Passed {
			t.Errorf("%d: %s %s", b.Number, d.State, d.Cause)
		}
	}
	if a, b := w.build(first), w.build(third); b.Runs[0].StartedAt.Before(*a.EndedAt) {
		t.Error("the third began before the first had ended")
	}
}

// With overlap = "replace" a newer build of a branch stops the older.
func TestOverlapReplace(t *testing.T) {
	w := newWorld(t)
	w.agent("barrow", "--places", "2")
	wait, open := w.gate("go")
	w.pipeline("hivebook", fmt.Sprintf("overlap = \"replace\"\n[stage.a]\nscript = \"echo begun; %s\"\n", wait))
	first := w.start("hivebook", "main")
	w.printed(first, 0, "begun")
	second := w.start("hivebook", "main")
	if d := w.await(first); d.State != progress.Stopped || d.Cause != "replaced by build hivebook/2" {
		t.Errorf("%s %q", d.State, d.Cause)
	}
	open()
	if d := w.await(second); d.State != progress.Passed {
		t.Errorf("%s %s", d.State, d.Cause)
	}
	if out := w.ok("records", "hivebook/1"); !strings.Contains(out, "build replaced") {
		t.Error(out)
	}
}

// Stage runs that want to be alone with a name run one at a time, over all builds and pipelines.
func TestAlone(t *testing.T) {
	w := newWorld(t)
	w.agent("barrow", "--places", "6")
	const stage = "[stage.a]\nalone = \"market\"\nscript = \"mkdir $STALL && sleep 0.05 && rmdir $STALL\"\n"
	env := fmt.Sprintf("env = { STALL = %q }\n", w.dir+"/stall")
	w.pipeline("hivebook", env+stage)
	w.pipeline("nectar", env+stage+"[stage.b]\nafter = []\nalone = \"market\"\nscript = \"mkdir $STALL && rmdir $STALL\"\n")
	var builds []view.Build
	for range 4 {
		builds = append(builds, w.start("hivebook", ""), w.start("nectar", ""))
	}
	for _, b := range builds {
		if d := w.await(b); d.State != progress.Passed {
			t.Errorf("%s/%d: %s %s", b.Pipeline, b.Number, d.State, d.Cause)
		}
	}
	wait, open := w.gate("go")
	w.pipeline("smoker", fmt.Sprintf("[stage.a]\nalone = \"market\"\nscript = \"echo begun; %s\"\n", wait))
	holds := w.start("smoker", "")
	w.printed(holds, 0, "begun")
	waits := w.start("hivebook", "")
	w.waitsFor(waits, 0, `waits to be alone with "market", which build smoker/1 has`)
	open()
	w.await(holds)
	w.await(waits)
}

// A chain that fails before any agent has it, since what is carried into it clashes, keeps no name to itself.
func TestAloneIsGivenBack(t *testing.T) {
	w := newWorld(t)
	w.agent("barrow", "--places", "2")
	w.pipeline("hivebook", "[stage.a]\ncarry = [\"f\"]\nscript = \"echo a > f\"\n[stage.b]\nafter = []\ncarry = [\"f\"]\nscript = \"echo b > f\"\n[stage.c]\nafter = [\"a\", \"b\"]\nalone = \"market\"\nscript = \"true\"\n")
	w.pipeline("nectar", "[stage.a]\nalone = \"market\"\nscript = \"true\"\n")
	if d := w.await(w.start("hivebook", "")); d.State != progress.Failed || !strings.Contains(d.Cause, "c: ") {
		t.Fatalf("%s %s", d.State, d.Cause)
	}
	if d := w.await(w.start("nectar", "")); d.State != progress.Passed {
		t.Errorf("%s %s", d.State, d.Cause)
	}
}

// A project has as many places as it may; projects take turns; a person comes before the clock; an agent
// that drains gets nothing; and each that waits says for what.
func TestTurns(t *testing.T) {
	w := newWorld(t)
	wait, open := w.gate("go")
	stages := fmt.Sprintf("[stage.a]\nscript = \"echo begun; %s\"\n", wait)
	w.pipeline("hivebook", stages)
	w.agent("barrow", "--places", "3")
	w.ok("project", "set", "heath", "--places", "2")
	a, b := w.start("hivebook", ""), w.start("hivebook", "")
	w.printed(a, 0, "begun")
	w.printed(b, 0, "begun")
	c := w.start("hivebook", "")
	w.waitsFor(c, 0, "waits for one of the 2 places of project heath")
	// Another project has the third place.
	w.ok("project", "add", "moor")
	r := w.repo("sheep")
	r.commit("Begin", map[string]string{"oskeld.toml": "pipeline = \"sheep\"\n" + stages})
	w.ok("source", "add", "sheep", r.dir, "--project", "moor", "--trust", "*")
	w.ok("pipeline", "add", "sheep", "--source", "sheep")
	s := w.start("sheep", "")
	w.printed(s, 0, "begun")
	w.ok("project", "set", "heath", "--places", "0")
	w.waitsFor(c, 0, "waits for a place on barrow")
	d := w.start("hivebook", "")
	w.waitsFor(d, 0, "second in line for a place on barrow")
	w.ok("agent", "set", "barrow", "--drain")
	w.waitsFor(c, 0, "waits for barrow, away or draining now")
	open()
	for _, x := range []view.Build{a, b, s} {
		w.await(x)
	}
	if got := w.build(c); got.State != progress.Waiting {
		t.Errorf("a draining agent took work: %s", got.State)
	}
	if out := w.ok("agent", "list"); !strings.Contains(out, "drained") {
		t.Error(out)
	}
	w.ok("agent", "set", "barrow", "--resume")
	w.await(c)
	w.await(d)
	if err := w.owner.Call(t.Context(), http.MethodPut, "/api/v1/agents/nobody", map[string]bool{"draining": true}, nil); err == nil {
		t.Error("an agent that is not there drains")
	}
}

// An agent that is there for one assignment leaves after it.
func TestAgentOnce(t *testing.T) {
	w := newWorld(t)
	w.pipeline("hivebook", "[stage.a]\nscript = \"echo a\"\n[stage.b]\nafter = [\"a\"]\nscript = \"echo b\"\n")
	barrow := w.agent("barrow", "--once", "--places", "3")
	b := w.start("hivebook", "")
	<-barrow.ended
	if code := barrow.cmd.ProcessState.ExitCode(); code != 0 {
		t.Errorf("exit %d:\n%s", code, barrow.log)
	}
	d := w.build(b)
	if d.Runs[0].State != progress.Passed || d.Runs[1].State != progress.Waiting {
		t.Errorf("%s, then %s", d.Runs[0].State, d.Runs[1].State)
	}
	w.agent("heron")
	if d := w.await(b); d.State != progress.Passed || d.Runs[1].Agent != "heron" {
		t.Errorf("%s on %s", d.State, d.Runs[1].Agent)
	}
}

// Agents that ask at the same moment for chains of one build do not keep each other from them until the
// next look, which comes after three seconds.
func TestAgentsThatAskAtOnce(t *testing.T) {
	w := newWorld(t)
	for _, name := range []string{"barrow", "heron", "moor"} {
		w.agent(name, "--places", "2")
	}
	w.pipeline("hivebook", "[stage.press]\nvary = { frame = [\"a\", \"b\", \"c\", \"d\", \"e\", \"f\"] }\nscript = \"true\"\n")
	for range 4 {
		d := w.await(w.start("hivebook", ""))
		for _, r := range d.Runs {
			if r.State != progress.Passed || r.WaitingMS > 2900 {
				t.Errorf("%s %s waited %d ms", r.Title(), r.State, r.WaitingMS)
			}
		}
	}
}
