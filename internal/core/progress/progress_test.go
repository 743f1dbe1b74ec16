package progress

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"oskeld.dev/oskeld/internal/core/artifact"
	"oskeld.dev/oskeld/internal/core/language"
	"oskeld.dev/oskeld/internal/core/plan"
)

// made gives the plan of stages written as "name", "name<follows", "name:after,after".
func made(t *testing.T, stages ...string) plan.Plan {
	t.Helper()
	p := &language.Pipeline{Name: "p"}
	for _, text := range stages {
		s := language.Stage{}
		if name, follows, ok := strings.Cut(text, "<"); ok {
			s.Name, s.Follows = artifact.Name(name), artifact.Name(follows)
		} else {
			name, after, _ := strings.Cut(text, ":")
			s.Name = artifact.Name(name)
			for a := range strings.SplitSeq(after, ",") {
				if a != "" {
					s.After = append(s.After, artifact.Name(a))
				}
			}
		}
		p.Stages = append(p.Stages, s)
	}
	out, err := plan.Make(p, nil)
	if err != nil {
		t.Fatal(err)
	}
	return out
}

func states(b Build) string {
	var list []string
	for _, r := range b.Runs {
		list = append(list, string(r.State))
	}
	return string(b.State) + ": " + strings.Join(list, " ")
}

func TestStories(t *testing.T) {
	chain := []string{"restore", "test<restore", "package<test"}
	split := []string{"restore", "test<restore", "compile:restore", "package:compile,test"}
	cases := []struct {
		name   string
		stages []string
		events []Event
		want   string
		cause  string
	}{
		{"begins", chain, nil, "waiting: waiting waiting waiting", ""},
		{"passes", chain, []Event{Taken{0, "barrow", 1}, Started{0, 1}, Ended{0, 1, Passed, ""}, Started{1, 1}, Ended{1, 1, Passed, ""}, Started{2, 1}, Ended{2, 1, Passed, ""}},
			"passed: passed passed passed", ""},
		{"fails", chain, []Event{Taken{0, "barrow", 1}, Started{0, 1}, Ended{0, 1, Failed, "exit 2"}}, "failed: failed skipped skipped", "restore: exit 2"},
		{"cannot start early", chain, []Event{Taken{0, "barrow", 1}, Started{1, 1}}, "running: waiting waiting waiting", ""},
		{"old fence", chain, []Event{Taken{0, "barrow", 2}, Started{0, 1}}, "running: waiting waiting waiting", ""},
		{"side by side", split, []Event{Taken{0, "barrow", 1}, Started{0, 1}, Ended{0, 1, Passed, ""}, Taken{1, "heron", 2}, Started{2, 2}, Started{1, 1}}, "running: passed running running waiting", ""},
		{"bound to fail", split, []Event{Taken{0, "barrow", 1}, Started{0, 1}, Ended{0, 1, Passed, ""}, Taken{1, "heron", 2}, Started{2, 2}, Started{1, 1}, Ended{1, 1, Failed, "2 of 214 tests failed"}},
			"running: passed failed running skipped", "test: 2 of 214 tests failed"},
		{"lost once", chain, []Event{Taken{0, "barrow", 1}, Started{0, 1}, Ended{0, 1, Passed, ""}, Started{1, 1}, AgentLost{Chain: 0, Fence: 1}}, "running: passed waiting waiting", ""},
		{"undelivered thrice", chain, []Event{Taken{0, "a", 1}, AgentLost{0, 1, true}, Taken{0, "b", 2}, AgentLost{0, 2, true}, Taken{0, "c", 3}, AgentLost{0, 3, true}, Taken{0, "d", 4}, Started{0, 4}}, "running: running waiting waiting", ""},
		{"first results stand", chain, []Event{Taken{0, "barrow", 1}, Started{0, 1}, Ended{0, 1, Passed, ""}, AgentLost{Chain: 0, Fence: 1}, Taken{0, "heron", 2}, Started{0, 2}, Ended{0, 2, Failed, "x"}, Started{1, 2}},
			"running: passed running waiting", ""},
		{"lost for good", chain, []Event{Taken{0, "a", 1}, AgentLost{Chain: 0, Fence: 1}, Taken{0, "b", 2}, AgentLost{Chain: 0, Fence: 2}, Taken{0, "c", 3}, AgentLost{Chain: 0, Fence: 3}},
			"lost: lost lost lost", "restore: 3 agents were lost over it, c the last"},
		{"stopped before", chain, []Event{Stop{"stopped by ida"}}, "stopped: stopped stopped stopped", "stopped by ida"},
		{"stopped while", chain, []Event{Taken{0, "a", 1}, Started{0, 1}, Stop{"stopped by ida"}, Ended{0, 1, Stopped, "stopped while it ran"}}, "stopped: stopped skipped skipped", "stopped by ida"},
		{"stopped, then lost", chain, []Event{Taken{0, "a", 1}, Started{0, 1}, Stop{"stopped by ida"}, AgentLost{Chain: 0, Fence: 1}}, "stopped: stopped stopped stopped", "stopped by ida"},
		{"nothing after the end", []string{"a"}, []Event{Stop{"x"}, Taken{0, "a", 1}}, "stopped: stopped", "x"},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			b, _ := New(made(t, c.stages...))
			for _, e := range c.events {
				b, _ = b.Apply(e)
			}
			if got := states(b); got != c.want || b.Cause != c.cause {
				t.Errorf("got  %s (%s)\nwant %s (%s)", got, b.Cause, c.want, c.cause)
			}
		})
	}
}

func TestSkippedByItsOwnWhenSatisfies(t *testing.T) {
	p := made(t, "restore", "sign<restore", "package:sign")
	p.Runs[1].Skip = "when false is false"
	b, effects := New(p)
	if !slices.Equal(effects.Offer, []int{0}) {
		t.Fatalf("offers %v: what comes after a skipped stage still waits for what that one needed", effects.Offer)
	}
	for _, e := range []Event{Taken{0, "a", 1}, Started{0, 1}, Ended{0, 1, Passed, ""}, Taken{1, "a", 2}, Started{2, 2}, Ended{2, 2, Passed, ""}} {
		b, _ = b.Apply(e)
	}
	if got := states(b); got != "passed: passed skipped passed" {
		t.Error(got)
	}
}

// A random walk over events, sensible and senseless: a build always ends, no stage starts before
// what it needs, no event applied twice counts twice, and a state that is over never changes.
func TestRandomWalk(t *testing.T) {
	for seed := range uint64(2000) {
		rng := rand.New(rand.NewPCG(seed, 1))
		p := randomPlan(t, rng)
		b, _ := New(p)
		fence := int64(0)
		var log []string
		for step := 0; !b.State.Over(); step++ {
			if step > 2000 {
				t.Fatalf("seed %d: no end after %d events: %s", seed, step, states(b))
			}
			e := randomEvent(rng, b, &fence)
			before := b
			next, effects := b.Apply(e)
			log = append(log, fmt.Sprintf("%T%v", e, e))
			check(t, seed, before, next, e, effects, log)
			again, twice := next.Apply(e)
			if _, stop := e.(Stop); !stop && twice.Applied && states(again) != states(next) {
				t.Fatalf("seed %d: %T%v counted twice", seed, e, e)
			}
			b = next
		}
		for i, c := range b.Chains {
			if c.State != ChainOver {
				t.Fatalf("seed %d: the build is over and chain %d is %s", seed, i, c.State)
			}
		}
	}
}

func check(t *testing.T, seed uint64, before, next Build, e Event, effects Effects, log []string) {
	t.Helper()
	fail := func(format string, args ...any) {
		t.Helper()
		t.Fatalf("seed %d: %s\nafter %s", seed, fmt.Sprintf(format, args...), strings.Join(log, "\n      "))
	}
	if !effects.Applied && states(before) != states(next) {
		fail("not applied, and changed")
	}
	for i, r := range next.Runs {
		if was := before.Runs[i].State; was.Over() && was != r.State {
			fail("run %s was %s and is %s", r.Name, was, r.State)
		}
		if r.State == Running {
			for _, need := range append(slices.Clone(r.After), r.Follows) {
				if need >= 0 && !next.Runs[need].Satisfied && !(r.Always && next.Runs[need].State.Over()) {
					fail("%s runs before %s passed", r.Name, next.Runs[need].Name)
				}
			}
		}
	}
	for i, c := range next.Chains {
		if c.Fence < before.Chains[i].Fence {
			fail("the fence of chain %d went back", i)
		}
	}
	if effects.Over != (next.State.Over() && !before.State.Over()) {
		fail("over is told wrongly after %T", e)
	}
	if next.State == Passed && slices.ContainsFunc(next.Runs, func(r Run) bool { return r.State == Failed || r.State == Lost || r.State == Stopped }) {
		fail("passed, with a run that did not: %s", states(next))
	}
}

func randomPlan(t *testing.T, rng *rand.Rand) plan.Plan {
	var stages []string
	n := 1 + rng.IntN(7)
	for i := range n {
		name := fmt.Sprintf("s%d", i)
		switch {
		case i > 0 && rng.IntN(3) == 0:
			name += fmt.Sprintf("<s%d", rng.IntN(i))
		case i > 0 && rng.IntN(2) == 0:
			name += fmt.Sprintf(":s%d", rng.IntN(i))
			if other := rng.IntN(i); !strings.HasSuffix(name, fmt.Sprintf("s%d", other)) {
				name += fmt.Sprintf(",s%d", other)
			}
		}
		stages = append(stages, name)
	}
	p := made(t, stages...)
	for i := range p.Runs {
		if rng.IntN(8) == 0 {
			p.Runs[i].Skip = "when x is false"
		}
		p.Runs[i].Late = rng.IntN(4) == 0
		p.Runs[i].Stage.Always = rng.IntN(5) == 0
		if other := rng.IntN(n); rng.IntN(4) == 0 && other != i {
			p.Runs[i].Stage.Name, p.Runs[i].Halting = p.Runs[other].Stage.Name, true
		}
	}
	return p
}

func randomEvent(rng *rand.Rand, b Build, fence *int64) Event {
	run, chain := rng.IntN(len(b.Runs)), rng.IntN(len(b.Chains))
	held := b.Chains[b.Runs[run].Chain].Fence
	if rng.IntN(10) == 0 {
		held = rng.Int64N(*fence + 2) // an old one, perhaps
	}
	switch k := rng.IntN(40); {
	case k < 12:
		*fence++
		return Taken{chain, "barrow", *fence}
	case k < 24:
		return Started{run, held}
	case k < 37:
		ends := []State{Passed, Passed, Passed, Passed, Failed, Stopped, Running, Skipped}
		return Ended{run, held, ends[rng.IntN(len(ends))], "so"}
	case k < 39:
		return AgentLost{Chain: chain, Fence: b.Chains[chain].Fence}
	}
	if rng.IntN(6) > 0 {
		return Started{run, held}
	}
	return Stop{"enough"}
}

// A variant's failure stops the others: those that wait at once, those that run by a recall.
func TestHalt(t *testing.T) {
	p := made(t, "a", "b:a", "c:a")
	for i, value := range []string{"heath", "moor"} {
		r := &p.Runs[1+i]
		r.Stage.Name, r.Variant, r.Halting = "b", language.Variant{{Axis: "on", Value: value}}, true
	}
	b, _ := New(p)
	b = play(t, b, Taken{0, "x", 1}, Started{0, 1}, Ended{0, 1, Passed, ""}, Taken{1, "x", 2}, Started{1, 2}, Taken{2, "y", 3}, Started{2, 3})
	halted, effects := b.Apply(Ended{1, 2, Failed, "exit 1"})
	if !slices.Equal(effects.Recall, []int{2}) || halted.Runs[2].State != Running {
		t.Errorf("recalled %v: %s", effects.Recall, states(halted))
	}
	over := play(t, halted, Ended{2, 3, Stopped, "stopped while it ran"})
	if over.State != Failed || over.Runs[2].Cause != "variant failed: b heath" {
		t.Errorf("%s, c: %s", over.State, over.Runs[2].Cause)
	}
	lost := play(t, halted, AgentLost{Chain: 2, Fence: 3})
	if lost.Runs[2].State != Stopped {
		t.Errorf("a halted run whose agent was lost is %s", lost.Runs[2].State)
	}
}

// What always runs comes after a failure and after a stop, and a second stop ends it too.
func TestAlways(t *testing.T) {
	p := made(t, "a", "b:a", "tidy:b")
	p.Runs[2].Stage.Always = true
	b, _ := New(p)
	failed := play(t, b, Taken{0, "x", 1}, Started{0, 1}, Ended{0, 1, Failed, "exit 1"})
	if failed.Runs[1].State != Skipped || failed.Chains[2].State != ChainWaiting {
		t.Fatalf("%s, tidy's chain %s", states(failed), failed.Chains[2].State)
	}
	if over := play(t, failed, Taken{2, "x", 2}, Started{2, 2}, Ended{2, 2, Passed, ""}); over.State != Failed {
		t.Errorf("tidying made it %s", over.State)
	}
	stopped := play(t, b, Stop{"stopped by ida"})
	if stopped.State.Over() || stopped.Chains[2].State != ChainWaiting {
		t.Errorf("%s, tidy's chain %s", states(stopped), stopped.Chains[2].State)
	}
	if over := play(t, stopped, Stop{"stopped by ida"}); over.State != Stopped {
		t.Errorf("after a second stop it is %s", over.State)
	}
}

func play(t *testing.T, b Build, events ...Event) Build {
	t.Helper()
	for _, e := range events {
		next, effects := b.Apply(e)
		if !effects.Applied {
			t.Fatalf("%T%v did not count: %s", e, e, states(b))
		}
		b = next
	}
	return b
}
