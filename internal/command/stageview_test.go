package command

import (
	"bytes"
	"strings"
	"testing"
	"time"

	"oskeld.dev/oskeld/internal/core/progress"
	"oskeld.dev/oskeld/internal/core/view"
	"oskeld.dev/oskeld/internal/rehearsal"
)

func shown(live bool, titles ...string) (*stageView, *bytes.Buffer) {
	var out bytes.Buffer
	v := &stageView{c: &cli{out: &out, quiet: true}, live: live, began: time.Now()}
	for _, title := range titles {
		v.runs = append(v.runs, shownRun{Result: rehearsal.Result{Run: title, State: progress.Waiting}})
	}
	return v, &out
}

// Where nobody watches every line is printed as it comes, with the stage it belongs to.
func TestPlainStages(t *testing.T) {
	v, out := shown(false, "compile linux", "test")
	v.moved(0, rehearsal.Result{Run: "compile linux", State: progress.Running, Began: time.Now()})
	v.lines(0, []view.LogLine{{Text: "10 %\r100 %"}, {Text: "bad\x1b[31m", Error: true}})
	v.moved(0, rehearsal.Result{Run: "compile linux", State: progress.Failed, Cause: "exit 2", Took: 1200 * time.Millisecond, TookMS: 1200})
	v.moved(1, rehearsal.Result{Run: "test", State: progress.Skipped, Cause: "needs compile linux, which failed"})
	v.say("stopping")
	want := "◈ running compile linux\ncompile linux │ 100 %\ncompile linux │ bad[31m\n⬗ failed compile linux in 1.2 s: exit 2\n‒ skipped test: needs compile linux, which failed\nstopping\n"
	if out.String() != want {
		t.Errorf("got\n%s\nwant\n%s", out, want)
	}
}

// In a terminal the running stages stand at the foot, with their last lines; of one that failed more is kept.
func TestLiveStages(t *testing.T) {
	v, out := shown(true, "restore", "compile linux", "test")
	v.moved(0, rehearsal.Result{Run: "restore", State: progress.Passed, Took: time.Second, TookMS: 1000})
	v.moved(1, rehearsal.Result{Run: "compile linux", State: progress.Running, Began: time.Now(), Steps: []view.Step{{Name: "write", State: progress.Passed}, {Name: "compile", State: progress.Running}}})
	v.moved(2, rehearsal.Result{Run: "test", State: progress.Running, Began: time.Now(), Steps: []view.Step{{Name: "go test", State: progress.Running}}})
	for i := range 30 {
		v.lines(1, []view.LogLine{{Text: strings.Repeat("x", i) + " line"}})
	}
	foot := v.foot(60, 40)
	if len(foot) != 7 || foot[0] != "◈ compile linux  0.0 s  step 2 of 2: compile" || !strings.HasPrefix(foot[1], "  │ xxx") || !strings.HasPrefix(foot[5], "◈ test  0.0 s  go test") || !strings.HasPrefix(foot[6], "1 of 3 stage runs") {
		t.Errorf("%q", foot)
	}
	for _, line := range v.foot(30, 40) {
		if len([]rune(line)) > 30 {
			t.Errorf("%q is wider than the terminal", line)
		}
	}
	if foot := v.foot(60, 3); len(foot) > 3 {
		t.Errorf("%d lines in a terminal of three", len(foot))
	}
	out.Reset()
	v.moved(1, rehearsal.Result{Run: "compile linux", State: progress.Failed, Cause: "exit 2", Took: time.Second, TookMS: 1000})
	if got := out.String(); strings.Count(got, "  │ ") != failedLines || !strings.Contains(got, "⬗ failed compile linux in 1.0 s: exit 2\n") {
		t.Errorf("%s", got)
	}
	out.Reset()
	v.draw("stays\n")
	if got := out.String(); !strings.HasPrefix(got, "\x1b[") || !strings.Contains(got, "\x1b[Jstays\n◈ test") {
		t.Errorf("%q", got)
	}
}

func TestWrap(t *testing.T) {
	if got := wrap("one two  three four", 9); got != "one two\nthree\nfour" {
		t.Errorf("%q", got)
	}
}

func TestParsePairs(t *testing.T) {
	got, err := parsePairs("ask", []string{"a=1", "b=x=y", "c="})
	if err != nil || got["a"] != "1" || got["b"] != "x=y" || got["c"] != "" {
		t.Errorf("%v, %v", got, err)
	}
	for _, bad := range [][]string{{"a"}, {"=1"}, {"a=1", "a=2"}} {
		if _, err := parsePairs("ask", bad); err == nil {
			t.Errorf("%v was taken", bad)
		}
	}
}
