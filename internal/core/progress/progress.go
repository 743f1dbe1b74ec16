// Package progress is the build as a state machine: a state and an event give the next state and
// what to do about it. It waits for nothing, knows no clock, and never applies an event twice.
//
//	b := progress.New(plan)
//	b, effects := b.Apply(progress.Taken{Chain: 0, Agent: "barrow", Fence: 1})
package progress

import (
	"fmt"
	"slices"

	"oskeld.dev/oskeld/internal/core/plan"
)

// State of a build, a stage run or a step.
type State string

const (
	Waiting State = "waiting"
	Running State = "running"
	Passed  State = "passed"
	Failed  State = "failed"
	Stopped State = "stopped"
	Skipped State = "skipped"
	Reused  State = "reused"
	Lost    State = "lost"
)

// Over tells whether the state is an end.
func (s State) Over() bool { return s != Waiting && s != Running }

// LostTries is how often a chain is handed out in all when agents are lost.
const LostTries = 3

// Build is the state of a build. The zero fence is no assignment.
type Build struct {
	State    State
	Cause    string
	Stopping string // why it is to stop, "" when it is not
	Runs     []Run
	Chains   []Chain
}

// Run is the state of a stage run. Satisfied tells whether what waits for it may start.
type Run struct {
	State     State
	Cause     string
	Satisfied bool
	Chain     int
	Follows   int
	After     []int
	Name      string
	Skip      string // why it is skipped by its own `when`, once what it needs is satisfied
	Late      bool   // the agent tells whether its `when` holds
	Always    bool   // runs also when what it needs did not pass
	Stage     string
	Halting   bool // its failure stops the other variants of its stage
}

// ChainState tells where a chain is.
type ChainState string

const (
	ChainBlocked ChainState = "blocked" // what it needs has not ended
	ChainWaiting ChainState = "waiting" // any agent that fits may take it
	ChainTaken   ChainState = "taken"
	ChainOver    ChainState = "over"
)

// Chain is the state of a chain. Fence grows with every hand-out.
type Chain struct {
	State ChainState
	Agent string
	Fence int64
	Lost  int    // agents lost over it
	Halt  string // why its agent is to stop, "" when it is not
	Runs  []int
}

// Event is one of the types below.
type Event interface{ event() }

type (
	// Taken: an agent has taken a chain.
	Taken struct {
		Chain int
		Agent string
		Fence int64
	}
	// Started: a stage run's work began.
	Started struct {
		Run   int
		Fence int64
	}
	// Ended: a stage run came to an end: passed, failed, stopped, or skipped by a late `when`.
	Ended struct {
		Run   int
		Fence int64
		State State
		Cause string
	}
	// AgentLost: the lease of a chain's assignment ran out, or its agent says that it does not have it. One
	// that was never delivered, or that its agent gave back, is not counted.
	AgentLost struct {
		Chain     int
		Fence     int64
		Uncounted bool
	}
	// TakenOver: the results of a chain of another build stand for a chain that nobody has taken.
	TakenOver struct {
		Chain int
		From  string // PIPELINE/NUMBER
	}
	// Stop: somebody or something wants the build to stop.
	Stop struct{ Cause string }
)

func (Taken) event()     {}
func (Started) event()   {}
func (Ended) event()     {}
func (AgentLost) event() {}
func (TakenOver) event() {}
func (Stop) event()      {}

// Effects say what to do after an event.
type Effects struct {
	Applied bool  // false: the event was old, repeated or out of place, and nothing changed
	Offer   []int // chains that agents may take now
	Recall  []int // taken chains whose agents are to stop
	Freed   bool  // a taken chain came to its end: a place is free, and what it was alone with
	Over    bool  // the build came to its end with this event
}

// New is the state of a build that begins, and the chains that may be taken at once.
func New(p plan.Plan) (Build, Effects) {
	b := Build{State: Waiting}
	for _, r := range p.Runs {
		run := Of(r)
		run.State = Waiting
		b.Runs = append(b.Runs, run)
	}
	for _, c := range p.Chains {
		b.Chains = append(b.Chains, Chain{State: ChainBlocked, Runs: c.Runs})
	}
	effects := Effects{Applied: true}
	b.settle(&effects)
	return b, effects
}

// Of gives what a run's plan says of it, with no state yet.
func Of(r plan.Run) Run {
	return Run{Chain: r.Chain, Follows: r.Follows, After: r.After, Name: r.Title(), Skip: r.Skip, Late: r.Late, Always: r.Stage.Always, Stage: string(r.Stage.Name), Halting: r.Halting}
}

// Apply gives the state after an event. The receiver is not changed.
func (b Build) Apply(e Event) (Build, Effects) {
	next := b
	next.Runs, next.Chains = slices.Clone(b.Runs), slices.Clone(b.Chains)
	var effects Effects
	if b.State.Over() || !next.take(e, &effects) {
		return b, Effects{}
	}
	effects.Applied = true
	next.settle(&effects)
	return next, effects
}

func (b *Build) take(e Event, effects *Effects) bool {
	switch e := e.(type) {
	case Taken:
		return b.taken(e)
	case Started:
		run, _, ok := b.held(e.Run, e.Fence)
		if !ok || run.State != Waiting || run.Skip != "" || !b.mayStart(*run) {
			return false
		}
		run.State = Running
		b.State = Running
		return true
	case Ended:
		return b.ended(e, effects)
	case AgentLost:
		return b.lost(e, effects)
	case TakenOver:
		return b.takenOver(e)
	case Stop:
		return b.stop(e, effects)
	}
	return false
}

func (b *Build) taken(e Taken) bool {
	if e.Chain < 0 || e.Chain >= len(b.Chains) {
		return false
	}
	c := &b.Chains[e.Chain]
	if c.State != ChainWaiting || e.Fence <= c.Fence {
		return false
	}
	c.State, c.Agent, c.Fence = ChainTaken, e.Agent, e.Fence
	b.State = Running
	return true
}

func (b *Build) takenOver(e TakenOver) bool {
	if e.Chain < 0 || e.Chain >= len(b.Chains) || b.Chains[e.Chain].State != ChainWaiting || b.Chains[e.Chain].Fence > 0 {
		return false
	}
	for _, i := range b.Chains[e.Chain].Runs {
		r := &b.Runs[i]
		switch {
		case r.State.Over():
		case r.Skip != "":
			r.State, r.Cause, r.Satisfied = Skipped, r.Skip, true
		default:
			r.State, r.Cause, r.Satisfied = Reused, "from "+e.From, true
		}
	}
	return true
}

func (b *Build) ended(e Ended, effects *Effects) bool {
	run, chain, ok := b.held(e.Run, e.Fence)
	skipped := e.State == Skipped && run != nil && run.Late
	if !ok || run.State.Over() || !e.State.Over() || e.State == Skipped && !skipped || run.State == Waiting && e.State == Passed {
		return false
	}
	run.State, run.Cause = e.State, e.Cause
	run.Satisfied = e.State == Passed || skipped
	if e.State == Stopped && b.Stopping == "" && chain.Halt != "" {
		run.Cause = chain.Halt
	}
	if e.State == Failed {
		b.halt(e.Run, effects)
	}
	return true
}

// halt stops the other variants of a stage after one of them failed.
func (b *Build) halt(failed int, effects *Effects) {
	if !b.Runs[failed].Halting {
		return
	}
	for i := range b.Runs {
		r := &b.Runs[i]
		c := &b.Chains[r.Chain]
		switch cause := "variant failed: " + b.Runs[failed].Name; {
		case r.Stage != b.Runs[failed].Stage || r.State.Over() || r.Chain == b.Runs[failed].Chain:
		case c.State == ChainTaken:
			if c.Halt == "" {
				c.Halt = cause
				effects.Recall = append(effects.Recall, r.Chain)
			}
		default:
			r.State, r.Cause = Stopped, cause
		}
	}
}

// held finds a run whose chain is held under the fence.
func (b *Build) held(run int, fence int64) (*Run, *Chain, bool) {
	if run < 0 || run >= len(b.Runs) {
		return nil, nil, false
	}
	r := &b.Runs[run]
	c := &b.Chains[r.Chain]
	return r, c, c.State == ChainTaken && c.Fence == fence
}

// Ready lists the runs that wait for nothing but an agent.
func (b *Build) Ready() (list []int) {
	for i, r := range b.Runs {
		if r.State == Waiting && b.mayStart(r) {
			list = append(list, i)
		}
	}
	return list
}

// Offered lists the chains that agents may take.
func (b Build) Offered() (list []int) {
	for i, c := range b.Chains {
		if c.State == ChainWaiting {
			list = append(list, i)
		}
	}
	return list
}

// mayStart tells whether what a run needs is satisfied; for one that always runs, has ended.
func (b *Build) mayStart(r Run) bool {
	met := func(i int) bool { return b.Runs[i].Satisfied || r.Always && b.Runs[i].State.Over() }
	return (r.Follows < 0 || met(r.Follows)) && !slices.ContainsFunc(r.After, func(i int) bool { return !met(i) })
}

func (b *Build) lost(e AgentLost, effects *Effects) bool {
	if e.Chain < 0 || e.Chain >= len(b.Chains) {
		return false
	}
	c := &b.Chains[e.Chain]
	if c.State != ChainTaken || c.Fence != e.Fence {
		return false
	}
	if !e.Uncounted {
		c.Lost++
	}
	effects.Freed = true
	agent, halt := c.Agent, c.Halt
	c.State, c.Agent, c.Halt = ChainWaiting, "", ""
	effects.Offer = append(effects.Offer, e.Chain)
	if b.Stopping != "" {
		halt = b.Stopping
	}
	for _, i := range c.Runs {
		r := &b.Runs[i]
		switch {
		case r.State.Over():
		case c.Lost >= LostTries && !e.Uncounted:
			r.State, r.Cause = Lost, fmt.Sprintf("%d agents were lost over it, %s the last", c.Lost, agent)
			b.halt(i, effects)
		case halt != "" && !r.Always:
			r.State, r.Cause = Stopped, halt
		default:
			r.State, r.Cause = Waiting, ""
		}
	}
	return true
}

// stop ends what has not begun and recalls what runs. Runs that always run come yet, until a second stop.
func (b *Build) stop(e Stop, effects *Effects) bool {
	again := b.Stopping != ""
	changed := !again
	if !again {
		b.Stopping = e.Cause
	}
	for i := range b.Runs {
		r := &b.Runs[i]
		if b.Chains[r.Chain].State != ChainTaken && !r.State.Over() && (again || !r.Always) {
			r.State, r.Cause = Stopped, e.Cause
			changed = true
		}
	}
	for i, c := range b.Chains {
		if c.State == ChainTaken && !again {
			effects.Recall = append(effects.Recall, i)
		}
	}
	return changed
}

// settle follows the consequences: runs that can no longer start are skipped, chains open or
// close, the build ends. Plans list a run after all that it needs, so one pass is enough.
func (b *Build) settle(effects *Effects) {
	for i := range b.Runs {
		r := &b.Runs[i]
		if r.State != Waiting {
			continue
		}
		if r.Skip != "" && b.mayStart(*r) {
			r.State, r.Cause, r.Satisfied = Skipped, r.Skip, true
			continue
		}
		for _, need := range append(slices.Clone(r.After), r.Follows) {
			if need >= 0 && !r.Always && b.Runs[need].State.Over() && !b.Runs[need].Satisfied {
				r.State, r.Cause = Skipped, fmt.Sprintf("needs %s, which %s", b.Runs[need].Name, verb(b.Runs[need].State))
				break
			}
		}
	}
	for i := range b.Chains {
		c := &b.Chains[i]
		if c.State == ChainOver {
			continue
		}
		open := slices.ContainsFunc(c.Runs, func(r int) bool { return !b.Runs[r].State.Over() })
		// Where the first run is over, because it was skipped or stopped, one that always runs may come
		// after it; a chain is handed out when its first open run may start.
		needs := true
		for _, i := range c.Runs {
			if r := b.Runs[i]; !r.State.Over() {
				needs = !b.mayStart(r)
				break
			}
		}
		switch {
		case !open:
			effects.Freed = effects.Freed || c.State == ChainTaken
			c.State = ChainOver
		case c.State == ChainBlocked && !needs:
			c.State = ChainWaiting
			effects.Offer = append(effects.Offer, i)
		}
	}
	b.end(effects)
}

func verb(s State) string {
	switch s {
	case Lost:
		return "was lost"
	case Stopped:
		return "was stopped"
	case Skipped:
		return "was skipped"
	}
	return string(s)
}

func (b *Build) end(effects *Effects) {
	if slices.ContainsFunc(b.Runs, func(r Run) bool { return !r.State.Over() }) {
		b.Cause = b.soFar()
		return
	}
	rank := map[State]int{Stopped: 1, Lost: 2, Failed: 3}
	b.State, b.Cause = Passed, ""
	for _, r := range b.Runs {
		if rank[r.State] > rank[b.State] {
			b.State, b.Cause = r.State, r.Name+": "+r.Cause
		}
	}
	if b.State == Stopped {
		b.Cause = b.Stopping
	}
	effects.Over = true
}

// soFar is the cause of a build that is bound to fail while parts of it still run.
func (b *Build) soFar() string {
	for _, r := range b.Runs {
		if r.State == Failed || r.State == Lost {
			return r.Name + ": " + r.Cause
		}
	}
	return b.Stopping
}
