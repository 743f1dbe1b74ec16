package test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"oskeld.dev/oskeld/internal/core/progress"
)

// An agent that is told to end gives its work back: the next one has it at once, however often that happens,
// and no process goes on.
func TestAgentLeaves(t *testing.T) {
	w := newWorld(t)
	wait, open := w.gate("go")
	w.pipeline("hivebook", fmt.Sprintf("[stage.a]\nscript = \"\"\"\ntrap 'echo ended >> %s/ended; exit 1' TERM\necho $AT begun; %s\n\"\"\"\n", w.dir, wait))
	names := []string{"barrow", "heron", "plover", "lapwing"} // more than an agent may be lost
	agent := w.agent(names[0], "--env", "AT="+names[0])
	b := w.start("hivebook", "")
	for i, name := range names {
		w.printed(b, 0, name+" begun")
		if i == len(names)-1 {
			break
		}
		agent.stop()
		if out := w.ok("agent", "list"); !strings.Contains(out, "away") {
			t.Errorf("where is %s?\n%s", name, out)
		}
		if d := w.build(b); d.Runs[0].State != progress.Waiting || !strings.Contains(d.Runs[0].Wants, "away or draining now") {
			t.Fatalf("after %s left the stage is %s: %q %q", name, d.Runs[0].State, d.Runs[0].Cause, d.Runs[0].Wants)
		}
		agent = w.agent(names[i+1], "--env", "AT="+names[i+1])
	}
	open()
	if d := w.await(b); d.State != progress.Passed || d.Runs[0].Agent != "lapwing" {
		t.Errorf("%s %s on %s", d.State, d.Cause, d.Runs[0].Agent)
	}
	if text, err := os.ReadFile(filepath.Join(w.dir, "ended")); err != nil || strings.Count(string(text), "ended") != len(names)-1 {
		t.Errorf("steps that were ended: %q %v", text, err)
	}
	if out := w.ok("records", "agent barrow"); !strings.Contains(out, "agent left") || !strings.Contains(out, "gave back 1") {
		t.Error(out)
	}
	// The name is free for a machine that takes its place.
	w.agent("barrow", "--dir", filepath.Join(w.dir, "another"))
	if out := w.ok("agent", "list"); strings.Count(out, "barrow") != 1 {
		t.Error(out)
	}
}
