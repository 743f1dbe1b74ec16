package service

import (
	"cmp"
	"context"
	"errors"
	"maps"
	"slices"
	"strconv"
	"time"

	"github.com/google/uuid"
	"oskeld.dev/oskeld/internal/core/artifact"
	"oskeld.dev/oskeld/internal/core/assignment"
	"oskeld.dev/oskeld/internal/core/basis"
	"oskeld.dev/oskeld/internal/core/condition"
	"oskeld.dev/oskeld/internal/core/fault"
	"oskeld.dev/oskeld/internal/core/plan"
	"oskeld.dev/oskeld/internal/core/progress"
	"oskeld.dev/oskeld/internal/core/turn"
	"oskeld.dev/oskeld/internal/core/view"
	"oskeld.dev/oskeld/internal/database"
	"oskeld.dev/oskeld/internal/git"
)

// Take hands out chains to an agent with free places, holding the call until there is one or ctx ends.
func (s *Service) Take(ctx context.Context, agent database.Agent, call assignment.Call) ([]assignment.Assignment, error) {
	news, cancel := s.Hub.Subscribe(TopicWork)
	defer cancel()
	number, err := s.DB.BeginTake(ctx, agent.ID, call.Facts, call.Places)
	if err != nil {
		return nil, err
	}
	if err := s.takeBack(ctx, agent, call.Holds); err != nil {
		return nil, err
	}
	for looked := time.Now(); ; {
		given, err := s.takeFitting(ctx, agent, number, call, looked)
		wait := 3 * time.Second // news may be lost; this finds work all the same
		if errors.Is(err, errLocked) {
			wait, err = 20*time.Millisecond, nil
		}
		if err != nil || len(given) > 0 {
			return given, err
		}
		select {
		case <-ctx.Done():
			return []assignment.Assignment{}, nil
		case <-news:
			looked = time.Now()
		case <-time.After(wait):
			looked = time.Now().Add(-wait / 3)
		}
	}
}

// takeFitting looks whether chains wait for an agent like this one, and takes some.
func (s *Service) takeFitting(ctx context.Context, agent database.Agent, number int64, call assignment.Call, since time.Time) ([]assignment.Assignment, error) {
	if call.Free == 0 {
		return nil, nil
	}
	demands, err := s.waiting.since(ctx, s.DB, since)
	if err != nil {
		return nil, err
	}
	var fit []int64
	for _, d := range demands {
		if len(d.Need().Against(call.Facts)) == 0 {
			fit = append(fit, d.ID)
		}
	}
	if len(fit) == 0 {
		return nil, nil
	}
	return s.takeInTurn(ctx, agent, number, call, fit)
}

// takeBack hands out again what an agent was given and does not hold: the answer never came to it, or it
// was started anew. An agent asks for work only after the answer to its last call.
func (s *Service) takeBack(ctx context.Context, agent database.Agent, holds []int64) error {
	list, err := s.DB.NotHeld(ctx, agent.ID, holds)
	if err != nil {
		return err
	}
	for _, h := range list {
		if err := s.lose(ctx, h); err != nil {
			return err
		}
	}
	return nil
}

// takeInTurn lets the agents of this process look one after the other, so that news which wakes all of them
// does not set them on the same chains.
func (s *Service) takeInTurn(ctx context.Context, agent database.Agent, number int64, call assignment.Call, demands []int64) ([]assignment.Assignment, error) {
	select {
	case s.looking <- struct{}{}:
	case <-ctx.Done():
		return nil, nil
	}
	defer func() { <-s.looking }()
	return s.takeNow(ctx, agent, number, call, demands)
}

func (s *Service) takeNow(ctx context.Context, agent database.Agent, number int64, call assignment.Call, demands []int64) ([]assignment.Assignment, error) {
	admitted, ok, err := s.buildsFor(ctx, agent, number, demands)
	if err != nil || !ok {
		return nil, err
	}
	chains, err := s.inTurn(ctx, demands, admitted, call.Free+16)
	if err != nil {
		return nil, err
	}
	var given []assignment.Assignment
	var locked error
	for _, w := range chains {
		if len(given) == call.Free {
			break
		}
		a, ok, err := s.hold(ctx, agent, number, w)
		if errors.Is(err, errLocked) {
			locked = err
			continue
		}
		if err != nil { // one chain that cannot be handed out must not keep the others waiting
			s.Log.Error("a chain could not be handed out", "build", w.Build, "chain", w.Index, "error", err)
			continue
		}
		if ok {
			given = append(given, a)
		}
	}
	if len(given) > 0 {
		return given, nil
	}
	return nil, locked
}

// buildsFor lists the waiting builds that an agent admits, nil for all; false when it may be given nothing.
func (s *Service) buildsFor(ctx context.Context, agent database.Agent, number int64, demands []int64) (ids []uuid.UUID, ok bool, err error) {
	admits, ok, err := s.DB.Admits(ctx, agent.ID, number) // its call may be older than what it admits
	if err != nil || !ok || admits.All() {
		return nil, ok, err
	}
	waiting, err := s.DB.WaitingBuilds(ctx, demands)
	ids = []uuid.UUID{}
	for _, b := range waiting {
		if admits.Refuses(b.Pipeline, b.Branch, b.Tag) == "" {
			ids = append(ids, b.ID)
		}
	}
	return ids, true, err
}

// inTurn lists waiting chains with one of the demands in the order in which they are to be handed out.
func (s *Service) inTurn(ctx context.Context, demands []int64, builds []uuid.UUID, most int) ([]database.Waiting, error) {
	waiting, err := s.DB.WaitingChains(ctx, demands, builds, most)
	if err != nil || len(waiting) < 2 {
		return waiting, err
	}
	taken, err := s.DB.Busy(ctx)
	if err != nil {
		return nil, err
	}
	busy := map[string]int{}
	for project, n := range taken {
		busy[project.String()] = n
	}
	offers := mapped(waiting, func(w database.Waiting) turn.Offer {
		return turn.Offer{Project: w.Project.String(), Rank: w.Rank, Ready: w.ReadyAt}
	})
	return mapped(turn.Order(offers, busy), func(i int) database.Waiting { return waiting[i] }), nil
}

// hold gives one chain to an agent; false when somebody else was faster, or it may not be taken now.
func (s *Service) hold(ctx context.Context, agent database.Agent, number int64, w database.Waiting) (a assignment.Assignment, ok bool, err error) {
	key := database.ChainKey{Build: w.Build, Index: w.Index}
	var build database.Build
	err = s.DB.Change(ctx, func(tx *database.DB) error {
		var before progress.Build
		if build, before, ok, err = tx.LockBuild(ctx, key.Build, true); err != nil || !ok {
			return cmp.Or(err, errLocked)
		}
		if ok = before.Chains[key.Index].State == progress.ChainWaiting; !ok {
			return nil
		}
		if ok, err = tx.MayGive(ctx, agent.ID, number); err != nil || !ok {
			return err
		}
		if build.MostPlaces > 0 {
			if ok, err = tx.MayTake(ctx, w.Project); err != nil || !ok {
				return err
			}
		}
		fence, err := tx.NextFence(ctx)
		if err != nil {
			return err
		}
		after, effects := before.Apply(progress.Taken{Chain: key.Index, Agent: agent.Name, Fence: fence})
		if ok = effects.Applied; !ok {
			return nil
		}
		if ok, err = tx.TakeAlone(ctx, key, w.Alone); err != nil {
			return err
		}
		if !ok {
			return errNotAlone // names that it took already are given back
		}
		a, err = s.assign(ctx, tx, build, after, key.Index)
		if fault.Is(err, fault.KindConflict) { // what is carried into it clashes: it fails here
			ok = false
			return s.failUnheld(ctx, tx, build, before, after, build.Plan.Chains[key.Index].Runs[0], fence, err.Error())
		}
		if err != nil {
			return err
		}
		if err := tx.SaveProgress(ctx, build.ID, before, after); err != nil {
			return err
		}
		token, digest := newToken(stageToken)
		a.Token, a.Fence = token, fence
		return tx.HoldChain(ctx, key, agent.ID, digest, s.Lease)
	})
	if errors.Is(err, errNotAlone) {
		return a, false, nil
	}
	if err == nil {
		s.Hub.Tell(TopicBuild(build.ID.String()), TopicBuilds)
	}
	return a, ok && err == nil, err
}

// errNotAlone says that another chain has a name with which one wants to be alone.
var errNotAlone = errors.New("another is there")

// errLocked says that something happens to a build just now: what waits in it is to be looked at again at once.
var errLocked = errors.New("the build is locked")

// failUnheld ends a run that no agent needs to try.
func (s *Service) failUnheld(ctx context.Context, tx *database.DB, b database.Build, before, taken progress.Build, run int, fence int64, cause string) error {
	after, effects := taken.Apply(progress.Ended{Run: run, Fence: fence, State: progress.Failed, Cause: cause})
	if err := tx.SaveProgress(ctx, b.ID, before, after); err != nil || !effects.Over {
		return err
	}
	return s.finish(ctx, tx, b, after)
}

// assign puts together what an agent needs for a chain.
func (s *Service) assign(ctx context.Context, tx *database.DB, b database.Build, p progress.Build, index int) (assignment.Assignment, error) {
	pipeline, err := tx.Pipeline(ctx, b.PipelineName)
	if err != nil {
		return assignment.Assignment{}, err
	}
	src, err := tx.Source(ctx, pipeline.SourceName)
	if err != nil {
		return assignment.Assignment{}, err
	}
	credential, err := s.openCredential(src.Credential)
	if err != nil {
		return assignment.Assignment{}, err
	}
	a := assignment.Assignment{Key: assignment.Key{Build: b.ID.String(), Chain: index}, Name: ref(b), Scope: scopeOf(b), Secrets: map[string]string{},
		Source: sourceOf(src, credential, b.Commit), Env: buildEnv(b), Names: b.Plan.Names, Values: braceValues(b), Trusted: b.Trusted}
	a.Values["changes"] = b.Changes.Notes
	chain := b.Plan.Chains[index]
	a.Tools, a.Equip = chain.Tools, b.Plan.EquipDemand(chain)
	for _, name := range basis.Unset(b.Plan.Runs[chain.Runs[0]].Stage) {
		delete(a.Env, name)
	}
	place := map[int]int{}
	for i, at := range chain.Runs {
		place[at] = i
		run := b.Plan.Runs[at]
		follows := -1
		if run.Follows >= 0 {
			follows = place[run.Follows]
		}
		a.Runs = append(a.Runs, assignment.Run{Index: at, Follows: follows, Passed: p.Runs[at].State == progress.Passed, Skip: run.Skip != "",
			Late: run.Late, Variant: run.Variant, Stage: run.Stage})
		for _, name := range run.Stage.Secrets {
			a.Secrets[name] = ""
		}
	}
	if err := s.fillSecrets(ctx, tx, b, p.Chains[index].Agent, a.Secrets); err != nil {
		return a, err
	}
	runs, err := tx.Results(ctx, b.ID, b.Plan.Seen(chain))
	if err != nil {
		return a, err
	}
	a.Scope.Exports, a.Scope.Stages = before(b, runs, chain)
	a.Carried, err = carriedInto(runs, chain.Carried)
	return a, err
}

func sourceOf(src database.Source, c git.Credential, commit string) assignment.Source {
	return assignment.Source{Name: src.Name, URL: src.URL, Commit: commit, User: c.User, Password: c.Password, Key: c.Key}
}

// buildEnv is what every step of a build sees.
func buildEnv(b database.Build) map[string]string {
	env := maps.Clone(b.Plan.Env)
	if env == nil {
		env = map[string]string{}
	}
	maps.Copy(env, map[string]string{"OSKELD_PIPELINE": b.PipelineName, "OSKELD_NUMBER": strconv.Itoa(b.Number), "OSKELD_VERSION": b.Version,
		"OSKELD_COMMIT": b.Commit, "OSKELD_BRANCH": b.Branch, "OSKELD_TAG": b.Tag})
	return env
}

// before gathers what the runs that a chain waits for have exported, and how their stages ended: of
// a stage in variants, the worst. Runs of the chain itself that passed under an earlier agent count too.
func before(b database.Build, runs map[int]database.RunResult, chain plan.Chain) (exports []condition.Export, stages map[string]condition.Stage) {
	stages = map[string]condition.Stage{}
	seen := map[int]bool{}
	open := slices.Clone(chain.Needs)
	for _, i := range chain.Runs {
		if runs[i].State == progress.Passed {
			open = append(open, i)
		}
	}
	for len(open) > 0 {
		i := open[len(open)-1]
		open = open[:len(open)-1]
		if seen[i] {
			continue
		}
		seen[i] = true
		of := b.Plan.Runs[i]
		if open = append(open, of.After...); of.Follows >= 0 {
			open = append(open, of.Follows)
		}
		exports = append(exports, runs[i].Exports...)
		if have, ok := stages[runs[i].Name]; !ok || have.State == string(progress.Passed) {
			stages[runs[i].Name] = condition.Stage{State: string(runs[i].State)}
		}
	}
	return exports, stages
}

// carriedInto gathers the files that runs carry; the same path with different bytes is a conflict.
func carriedInto(runs map[int]database.RunResult, from []int) ([]artifact.File, error) {
	var all []artifact.File
	for _, i := range from {
		all = append(all, runs[i].Carried...)
	}
	content, err := artifact.NewContent(all)
	return content.Files, err
}

// Orders renews an agent's leases and says what it must stop and what it has lost. With hold, the
// call is held until there is something to say or ctx ends.
func (s *Service) Orders(ctx context.Context, agent database.Agent, call assignment.Call, hold bool) (assignment.Orders, error) {
	news, cancel := s.Hub.Subscribe(TopicOrders)
	defer cancel()
	for {
		orders := assignment.Orders{Stop: []int64{}, Lost: []int64{}}
		if err := s.DB.SeeAgent(ctx, agent.ID, call.Facts, call.Places); err != nil {
			return orders, err
		}
		held, err := s.DB.RenewLeases(ctx, agent.ID, call.Holds, s.Lease)
		if err != nil {
			return orders, err
		}
		still := map[int64]bool{}
		for _, h := range held {
			still[h.Fence] = true
			if h.Stopping {
				orders.Stop = append(orders.Stop, h.Fence)
			}
		}
		for _, fence := range call.Holds {
			if !still[fence] {
				orders.Lost = append(orders.Lost, fence)
			}
		}
		if !hold || len(orders.Stop)+len(orders.Lost) > 0 {
			return orders, nil
		}
		select {
		case <-ctx.Done():
			return orders, nil
		case <-news:
		}
	}
}

// watchLeases hands out again what silent agents held. Time in which no service was up does not
// count against an agent: a service that starts gives every lease its whole length again.
func (s *Service) watchLeases(ctx context.Context) {
	extended := false
	s.every(ctx, s.Lease/3, "", func() {
		if !extended {
			if err := s.DB.ExtendLeases(ctx, s.Lease); err != nil {
				return
			}
			extended = true
			return
		}
		expired, err := s.DB.ExpiredChains(ctx)
		if err != nil {
			extended = false // the database is away: so are the beats
			return
		}
		for _, h := range expired {
			if err := s.lose(ctx, h); err != nil && ctx.Err() == nil {
				s.Log.Error("a lost assignment could not be handed out again", "build", h.Build, "error", err)
			}
		}
	})
}

func (s *Service) lose(ctx context.Context, h database.Held) error {
	return s.move(ctx, h.Build, func(tx *database.DB, b database.Build, p progress.Build) (progress.Build, []progress.Effects, error) {
		agent := p.Chains[h.Index].Agent
		next, effects := p.Apply(progress.AgentLost{Chain: h.Index, Fence: h.Fence, Uncounted: h.Uncounted})
		if !effects.Applied {
			return p, nil, nil
		}
		if h.Uncounted {
			return next, []progress.Effects{effects}, nil
		}
		runs := p.Chains[h.Index].Runs
		if open := slices.IndexFunc(runs, func(i int) bool { return !p.Runs[i].State.Over() }); open >= 0 {
			if err := tx.AddLost(ctx, b.ID, runs[open], agent); err != nil {
				return p, nil, err
			}
		}
		err := tx.AddRecord(ctx, "service", "agent lost", ref(b), map[string]string{"agent": agent, "chain": strconv.Itoa(h.Index)})
		return next, []progress.Effects{effects}, err
	})
}

// Stop asks a build to stop.
func (s *Service) Stop(ctx context.Context, a Actor, pipeline string, number int) (view.Build, error) {
	b, err := s.buildFor(ctx, a, pipeline, number, BuildIt)
	if err != nil {
		return view.Build{}, err
	}
	if b.State.Over() {
		return view.Build{}, fault.Conflict("build %s has ended already: %s", ref(b), b.State)
	}
	err = s.move(ctx, b.ID, func(tx *database.DB, b database.Build, p progress.Build) (progress.Build, []progress.Effects, error) {
		next, effects := p.Apply(progress.Stop{Cause: "stopped by " + a.Name})
		return next, []progress.Effects{effects}, tx.AddRecord(ctx, a.Name, "build stopped", ref(b), nil)
	})
	if err != nil {
		return view.Build{}, err
	}
	b, err = s.DB.BuildByID(ctx, b.ID)
	return buildView(b), err
}

// mayHoldUp tells whether a chain of a build that ends may let others go on than those of its build: it was
// alone with something, or had one of its project's places.
func mayHoldUp(b database.Build) bool {
	return b.MostPlaces > 0 || slices.ContainsFunc(b.Plan.Runs, func(r plan.Run) bool { return r.Stage.Alone != "" })
}

// move applies events to a build under its lock, in one transaction with all that follows.
func (s *Service) move(ctx context.Context, id uuid.UUID, f func(*database.DB, database.Build, progress.Build) (progress.Build, []progress.Effects, error)) error {
	topics := []string{TopicBuild(id.String()), TopicBuilds}
	err := s.DB.Change(ctx, func(tx *database.DB) error {
		b, before, ok, err := tx.LockBuild(ctx, id, false)
		if err != nil {
			return err
		}
		if !ok {
			return fault.Missing("no build %s", id)
		}
		after, effects, err := f(tx, b, before)
		if err != nil || len(effects) == 0 {
			return err
		}
		for _, e := range effects {
			over := false
			if after, over, err = s.takeOver(ctx, tx, b, after, e.Offer); err != nil {
				return err
			}
			if over {
				effects = append(effects, progress.Effects{Over: true})
			}
		}
		if err := tx.SaveProgress(ctx, id, before, after); err != nil {
			return err
		}
		for _, e := range effects {
			if len(e.Offer) > 0 || e.Freed && mayHoldUp(b) {
				topics = append(topics, TopicWork)
			}
			if len(e.Recall) > 0 {
				topics = append(topics, TopicOrders)
			}
			if e.Over {
				topics = append(topics, TopicErrands, TopicWork)
				if err := s.finish(ctx, tx, b, after); err != nil {
					return err
				}
			}
		}
		return nil
	})
	if err == nil {
		s.Hub.Tell(topics...)
	}
	return err
}
