// Package agent takes assignments from a service and gives them to the runner.
//
//	a, err := agent.Join(ctx, agent.Options{Service: url, Dir: dir, Name: "barrow", JoinToken: token})
//	err = a.Run(ctx)
//
// An agent calls out and is never called. It goes on through an absent service: what it has to
// tell waits on its disk.
package agent

import (
	"context"
	"encoding/json"
	"errors"
	"io/fs"
	"log/slog"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"time"

	"oskeld.dev/oskeld/internal/client"
	"oskeld.dev/oskeld/internal/core/assignment"
	"oskeld.dev/oskeld/internal/core/facts"
	"oskeld.dev/oskeld/internal/core/fault"
	"oskeld.dev/oskeld/internal/runner"
)

// Options for Join. JoinToken is spent on the first start; later ones find the agent's own token
// in Dir. Extra facts are added to those that are found. Beat is how often leases are renewed.
type Options struct {
	Service   string
	Dir       string
	Name      string
	JoinToken string
	Places    int
	Extra     facts.Facts
	Env       map[string]string // for every step
	Beat      time.Duration
	Once      bool           // leave after one assignment
	Box       runner.Sandbox // how steps are shut in
	KeepTools time.Duration  // after so long unused tools are removed
	KeepBytes int64          // of carried files and caches that are kept for later stages
	Look      time.Duration  // how often facts are looked up
	Program   string         // the oskeld for the steps' PATH
	Log       *slog.Logger
}

// Agent is a joined agent.
type Agent struct {
	Options
	client  *client.Client
	machine runner.Machine
	kept    *kept
	facts   facts.Facts

	mu    sync.Mutex
	holds map[int64]held
	moved chan struct{} // something began or ended
}

// held is an assignment that runs: lose ends it at once, stop as its stages wish.
type held struct {
	lose context.CancelCauseFunc
	stop func()
}

// Causes of a run that ends early: its assignment was handed out again, or is given back.
var (
	errLost = errors.New("the assignment was lost")
	errLeft = errors.New("the agent leaves, and gives the assignment back")
)

// identity is what an agent keeps of itself, in Dir/agent.json.
type identity struct {
	Service string `json:"service"`
	Name    string `json:"name"`
	Token   string `json:"token"`
}

// Join finds the agent's identity in its directory, or joins the service with the join token.
func Join(ctx context.Context, o Options) (*Agent, error) {
	if o.Places < 1 || o.Once {
		o.Places = 1
	}
	if o.Beat == 0 {
		o.Beat = 5 * time.Second
	}
	if o.KeepTools == 0 {
		o.KeepTools = 14 * 24 * time.Hour
	}
	if o.Look == 0 {
		o.Look = 10 * time.Minute
	}
	if o.Log == nil {
		o.Log = slog.Default()
	}
	dir, err := filepath.Abs(o.Dir)
	if err != nil {
		return nil, err
	}
	o.Dir = dir
	if err := os.MkdirAll(o.Dir, 0o700); err != nil {
		return nil, fault.Unavailable("the agent's directory %s cannot be made: %v", o.Dir, err).Hint("name another with --dir")
	}
	if o.Box, err = o.Box.Ready(ctx); err != nil {
		return nil, err
	}
	a := &Agent{Options: o, holds: map[int64]held{}, moved: make(chan struct{}, 1), kept: newKept(filepath.Join(o.Dir, "kept"), o.KeepBytes),
		machine: runner.Machine{Dir: o.Dir, Program: o.Program, Service: o.Service, Env: o.Env, Box: o.Box}}
	a.look(ctx)
	path := filepath.Join(o.Dir, "agent.json")
	var id identity
	text, err := os.ReadFile(path)
	switch {
	case err == nil:
		if err := json.Unmarshal(text, &id); err != nil {
			return nil, fault.Invalid("%s cannot be read: %v", path, err).Hint("remove it and join again with a join token")
		}
	case !errors.Is(err, fs.ErrNotExist):
		return nil, err
	}
	if id.Token == "" || o.JoinToken != "" && id.Service != o.Service {
		if o.JoinToken == "" {
			return nil, fault.Invalid("this machine has not joined %s yet", o.Service).
				Hint("make a join token with oskeld agent add, and give it in OSKELD_JOIN_TOKEN or with --join-token-file")
		}
		token, err := client.New(o.Service, "").Join(ctx, o.JoinToken, o.Name, a.call())
		if err != nil {
			return nil, err
		}
		id = identity{o.Service, o.Name, token}
		text, err := json.Marshal(id)
		if err != nil {
			return nil, err
		}
		if err := os.WriteFile(path, text, 0o600); err != nil {
			return nil, err
		}
	}
	a.Name = id.Name
	a.client = client.New(o.Service, id.Token)
	return a, nil
}

// look finds the machine's facts, to which the owner's are added.
func (a *Agent) look(ctx context.Context) {
	found := runner.Look(ctx)
	found["sandbox"] = a.Box.Fact()
	maps.Copy(found, a.Extra)
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.facts != nil && !maps.Equal(a.facts, found) {
		a.Log.Info("the machine's facts have changed")
	}
	a.facts, a.machine.Facts = found, found
}

// looks keeps the facts fresh, and takes unused tools away.
func (a *Agent) looks(ctx context.Context) {
	for {
		for _, digest := range a.machine.SweepTools(time.Now().Add(-a.KeepTools)) {
			a.Log.Info("an unused tool is removed", "sha256", digest)
		}
		if pause(ctx, a.Look); ctx.Err() != nil {
			return
		}
		a.look(ctx)
	}
}

func (a *Agent) call() assignment.Call {
	a.mu.Lock()
	defer a.mu.Unlock()
	return assignment.Call{Facts: a.facts, Places: a.Places, Free: max(0, a.Places-len(a.holds)), Holds: slices.Sorted(maps.Keys(a.holds))}
}

// Run takes and runs assignments until ctx ends, or one alone with Once. When ctx ends, running steps are ended
// and their assignments given back, for other agents to take at once. An error means that the service does not
// know this agent.
func (a *Agent) Run(ctx context.Context) error {
	a.clean()
	a.Log.Info("agent ready", "name", a.Name, "service", a.Service, "places", a.Places, "sandbox", a.Box.Fact())
	if !a.Box.On() && a.Box.Mode == runner.SandboxAuto {
		a.Log.Warn("steps are not shut in: bubblewrap does not work here")
	}
	var running sync.WaitGroup
	calls, stopCalls := context.WithCancel(context.WithoutCancel(ctx))
	var loops sync.WaitGroup
	loops.Go(func() { a.beats(calls) })
	loops.Go(func() { a.orders(calls) })
	loops.Go(func() { a.looks(calls) })
	err := a.takes(ctx, &running)
	done := make(chan struct{})
	go func() { running.Wait(); close(done) }()
	if a.Once && err == nil {
		select {
		case <-done:
		case <-ctx.Done():
		}
	}
	a.letGo()
	<-done
	stopCalls()
	loops.Wait()
	if err == nil {
		a.leave(context.WithoutCancel(ctx))
	}
	return err
}

// leave tells the service that the agent goes. Where it cannot be told, leases run out instead.
func (a *Agent) leave(ctx context.Context) {
	ctx, cancel := context.WithTimeout(ctx, 5*time.Second)
	defer cancel()
	if err := a.client.Leave(ctx); err != nil {
		a.Log.Warn("the service could not be told that this agent leaves", "error", err)
		return
	}
	a.Log.Info("agent left", "name", a.Name)
}

// clean ends what a killed agent of this directory left behind: processes, workspaces, spools.
// What they had not reported is lost with their lease.
func (a *Agent) clean() {
	for _, sub := range []string{"work", "spool"} {
		dir := filepath.Join(a.Dir, sub)
		entries, _ := os.ReadDir(dir)
		for _, e := range entries {
			runner.Sweep(e.Name())
			runner.Remove(filepath.Join(dir, e.Name()))
		}
	}
}

// takes asks for work while there are free places.
func (a *Agent) takes(ctx context.Context, running *sync.WaitGroup) error {
	wait := a.Beat / 10
	for ctx.Err() == nil {
		call := a.call()
		if call.Free == 0 {
			select {
			case <-ctx.Done():
			case <-a.moved:
			}
			continue
		}
		given, err := a.client.Take(ctx, call)
		if fault.Is(err, fault.KindUnknown) {
			return err
		}
		if err != nil {
			if ctx.Err() == nil {
				a.Log.Warn("the service gives no work", "error", err)
				pause(ctx, wait)
				wait = min(2*wait, a.Beat)
			}
			continue
		}
		wait = a.Beat / 10
		for _, as := range given {
			a.begin(running, as)
		}
		if a.Once && len(given) > 0 {
			return nil
		}
	}
	return nil
}

func pause(ctx context.Context, d time.Duration) {
	select {
	case <-ctx.Done():
	case <-time.After(d):
	}
}

func (a *Agent) begin(running *sync.WaitGroup, as assignment.Assignment) {
	ctx, lose := context.WithCancelCause(context.Background())
	stopped := make(chan struct{})
	stop := sync.OnceFunc(func() { close(stopped) })
	if as.Stopping {
		stop()
	}
	a.mu.Lock()
	a.holds[as.Fence] = held{lose, stop}
	a.mu.Unlock()
	running.Go(func() {
		a.Log.Info("assignment taken", "build", as.Name, "chain", as.Chain, "fence", as.Fence)
		if err := a.execute(ctx, as, lose, stopped); err != nil {
			a.Log.Warn("assignment dropped", "build", as.Name, "fence", as.Fence, "error", err)
		}
		lose(nil)
		a.mu.Lock()
		delete(a.holds, as.Fence)
		a.mu.Unlock()
		select {
		case a.moved <- struct{}{}:
		default:
		}
	})
}

// letGo ends all that runs.
func (a *Agent) letGo() {
	a.mu.Lock()
	defer a.mu.Unlock()
	for _, h := range a.holds {
		h.lose(errLeft)
	}
}

// obey carries out orders.
func (a *Agent) obey(o assignment.Orders) {
	a.mu.Lock()
	defer a.mu.Unlock()
	for _, fence := range o.Stop {
		if h, ok := a.holds[fence]; ok {
			h.stop()
		}
	}
	for _, fence := range o.Lost {
		if h, ok := a.holds[fence]; ok {
			h.lose(errLost)
		}
	}
}

func (a *Agent) beats(ctx context.Context) {
	for tick := time.NewTicker(a.Beat); ; {
		limited, cancel := context.WithTimeout(ctx, max(a.Beat, time.Second))
		if o, err := a.client.Beat(limited, a.call(), false); err == nil {
			a.obey(o)
		}
		cancel()
		select {
		case <-ctx.Done():
			tick.Stop()
			return
		case <-tick.C:
		}
	}
}

// orders holds a call open through which a stop comes at once.
func (a *Agent) orders(ctx context.Context) {
	for ctx.Err() == nil {
		call := a.call()
		if len(call.Holds) == 0 {
			pause(ctx, min(a.Beat, 200*time.Millisecond))
			continue
		}
		o, err := a.client.Beat(ctx, call, true)
		if err != nil {
			pause(ctx, a.Beat/5)
			continue
		}
		a.obey(o)
		if len(o.Stop)+len(o.Lost) > 0 {
			pause(ctx, 100*time.Millisecond) // it takes a moment to let go
		}
	}
}
