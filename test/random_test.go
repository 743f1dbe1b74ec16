package test

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"oskeld.dev/oskeld/internal/core/progress"
)

// Service and agents are killed at random moments of running builds, and come back. Each build
// ends as it would have: passed, with its whole log, its artifact sealed once.
func TestKillsAtRandomMoments(t *testing.T) {
	w := newWorld(t)
	w.lease = 3 * time.Second
	w.service.stop()
	w.serve()
	w.pipeline("hivebook", `
[version]
untagged = "1.0.{number}"
[stage.restore]
carry = ["made/**"]
script = "mkdir made; i=0; while [ $i -lt 60 ]; do echo restore $i; i=$((i+1)); sleep 0.01; done; echo sweet > made/honey"
[stage.compile]
after = ["restore"]
script = "i=0; while [ $i -lt 120 ]; do echo compile $i; i=$((i+1)); sleep 0.01; done; cp made/honey out.txt"
[[stage.compile.artifact]]
name = "honey"
files = ["out.txt"]
store = "intake"
`)
	agents := map[string]*process{"barrow": w.agent("barrow"), "heron": w.agent("heron")}
	revive := func(name string) {
		agents[name] = begin(t, nil, "agent", "run", "--sandbox", "off", "--service", w.address, "--dir", w.dir+"/"+name, "--beat", (w.lease / 6).String())
	}
	seed := uint64(time.Now().UnixNano())
	rng := rand.New(rand.NewPCG(seed, 0))
	for round := range 5 {
		b := w.start("hivebook", "")
		moment := time.Duration(rng.IntN(2500)) * time.Millisecond
		<-time.After(moment) // the moment is what this test is about
		victim := []string{"service", "barrow", "heron"}[rng.IntN(3)]
		if victim == "service" {
			w.service.kill()
			w.serve()
		} else {
			agents[victim].kill()
			revive(victim)
		}
		d := w.await(b)
		told := fmt.Sprintf("seed %d round %d: %s killed after %s", seed, round, victim, moment)
		if d.State != progress.Passed || len(d.Artifacts) != 1 || d.Artifacts[0].State != "sealed" {
			t.Fatalf("%s: %s %q %+v", told, d.State, d.Cause, d.Artifacts)
		}
		for run, stage := range map[int]string{0: "restore", 1: "compile"} {
			lines := w.lines(b, run)
			want := map[string]int{"restore": 60, "compile": 120}[stage]
			if len(lines) != want || lines[want-1] != fmt.Sprintf("%s %d", stage, want-1) {
				t.Fatalf("%s: %s has %d lines, want %d; runs %+v", told, stage, len(lines), want, d.Runs[run])
			}
		}
		if n := strings.Count(w.ok("records", fmt.Sprintf("hivebook/%d", b.Number)), "build passed"); n != 1 {
			t.Fatalf("%s: it passed %d times", told, n)
		}
	}
	if n := strings.Count(w.ok("list", "intake"), "honey@1.0."); n != 5 {
		t.Errorf("%d artifacts, want one a build", n)
	}
}
