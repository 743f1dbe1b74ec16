package progress

import (
	"math/rand/v2"
	"slices"
	"testing"
)

func TestRenew(t *testing.T) {
	b, _ := New(made(t, "restore", "test<restore", "compile:restore", "package:compile,test"))
	for _, e := range []Event{Taken{0, "barrow", 1}, Started{0, 1}, Ended{0, 1, Passed, ""}, Taken{1, "heron", 2}, Started{2, 2}, Ended{2, 2, Passed, ""},
		Started{1, 1}, Ended{1, 1, Failed, "exit 2"}} {
		b, _ = b.Apply(e)
	}
	if _, effects := b.Renew(); states(b) != "failed: passed failed passed skipped" || !effects.Applied {
		t.Fatal(states(b))
	}
	b, effects := b.Renew()
	if states(b) != "waiting: passed waiting passed waiting" || !slices.Equal(effects.Offer, []int{0}) || b.Cause != "" {
		t.Errorf("%s, offers %v", states(b), effects.Offer)
	}
	if _, effects := b.Renew(); effects.Applied {
		t.Error("a build that goes on was renewed")
	}
	for _, e := range []Event{Started{1, 1}, Taken{0, "heron", 1}, Taken{0, "heron", 3}, Started{1, 3}, Ended{1, 3, Passed, ""}, Taken{2, "heron", 4}, Started{3, 4}, Ended{3, 4, Passed, ""}} {
		b, _ = b.Apply(e)
	}
	if states(b) != "passed: passed passed passed passed" {
		t.Error(states(b))
	}
	if _, effects := b.Renew(); effects.Applied {
		t.Error("a passed build was renewed")
	}
}

// Whatever became of a build, with everything passing in the next round it passes.
func TestRenewedBuildsCanPass(t *testing.T) {
	for seed := range uint64(500) {
		rng := rand.New(rand.NewPCG(seed, 2))
		b, _ := New(randomPlan(t, rng))
		fence := int64(0)
		for !b.State.Over() {
			b, _ = b.Apply(randomEvent(rng, b, &fence))
		}
		if b.State == Passed {
			continue
		}
		passed := map[int]bool{}
		for i, r := range b.Runs {
			passed[i] = r.State == Passed
		}
		b, _ = b.Renew()
		for step := 0; !b.State.Over(); step++ {
			if step > 1000 {
				t.Fatalf("seed %d: no end: %s", seed, states(b))
			}
			for i, c := range b.Chains {
				if c.State == ChainWaiting {
					fence++
					b, _ = b.Apply(Taken{i, "barrow", fence})
				}
			}
			for i, r := range b.Runs {
				if f := b.Chains[r.Chain].Fence; !r.State.Over() {
					b, _ = b.Apply(Started{i, f})
					b, _ = b.Apply(Ended{i, f, Passed, ""})
				}
			}
		}
		if b.State != Passed {
			t.Fatalf("seed %d: %s %s", seed, states(b), b.Cause)
		}
		for i, r := range b.Runs {
			if passed[i] && r.State != Passed {
				t.Fatalf("seed %d: run %d had passed and is %s", seed, i, r.State)
			}
		}
	}
}
