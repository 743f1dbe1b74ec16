package progress

import "slices"

// Renew gives the state of a build that has ended otherwise than passed, for another go at what did not
// pass: those runs wait again, what passed stands. Chains of which a part passed run again from their
// start, to make the workspace. Not applied to a build that has not ended, or has passed.
func (b Build) Renew() (Build, Effects) {
	if !b.State.Over() || b.State == Passed {
		return b, Effects{}
	}
	next := b
	next.Runs, next.Chains = slices.Clone(b.Runs), slices.Clone(b.Chains)
	next.State, next.Cause, next.Stopping = Waiting, "", ""
	for i := range next.Runs {
		r := &next.Runs[i]
		if r.Satisfied {
			continue
		}
		r.State, r.Cause = Waiting, ""
		c := &next.Chains[r.Chain]
		c.State, c.Agent, c.Halt, c.Lost = ChainBlocked, "", "", 0
	}
	effects := Effects{Applied: true}
	next.settle(&effects)
	return next, effects
}
