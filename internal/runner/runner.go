// Package runner executes a chain on this machine: checkout, workspace, processes, log,
// deliveries. It knows no service; what happens goes out through Hooks.
//
//	machine := runner.Machine{Dir: dir, Program: "/usr/bin/oskeld"}
//	machine.Run(ctx, assignment, hooks)
package runner

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"time"

	"oskeld.dev/oskeld/internal/core/artifact"
	"oskeld.dev/oskeld/internal/core/assignment"
	"oskeld.dev/oskeld/internal/core/progress"
	"oskeld.dev/oskeld/internal/core/view"
	"oskeld.dev/oskeld/internal/git"
)

// Machine is where chains run. Dir holds the copies of sources and the workspaces; Program is the
// oskeld that stands on the steps' PATH; Service is where it finds the service.
type Machine struct {
	Dir     string
	Program string
	Service string
	Env     map[string]string // what the machine's owner gives to every step, such as where caches lie
}

// Hooks are how a run tells what happens. Event and Segment must not wait long; Send may wait for
// as long as sending takes.
type Hooks struct {
	Event   func(assignment.Event)
	Segment func(Segment)
	// Send makes files' bytes known to the service; paths are absolute.
	Send func(ctx context.Context, files []SendFile) error
	// Get opens the bytes of a carried file.
	Get func(ctx context.Context, d artifact.Digest) (io.ReadCloser, error)
}

// SendFile is a file whose bytes are to be sent.
type SendFile struct {
	Path string
	artifact.File
}

// ErrStop is the cause of a context with which a run is stopped by an order.
var ErrStop = errors.New("stopped")

// chain is a run of an assignment in its workspace.
type chain struct {
	Machine
	a       assignment.Assignment
	hooks   Hooks
	root    string // holds all directories below
	tree    string // the checkout, where steps work
	home    string
	temp    string
	scripts string
	secrets []string

	prepared bool // the workspace is made
}

// Run executes the assignment to its end and removes the workspace. ctx ending stops it; its
// cause is shown. Every run of the assignment ends in an event, unless ctx is cancelled without
// ErrStop: then the assignment was lost and nobody listens.
func (m Machine) Run(ctx context.Context, a assignment.Assignment, hooks Hooks) {
	c := &chain{Machine: m, a: a, hooks: hooks, root: filepath.Join(m.Dir, "work", a.Key.String())}
	c.tree, c.home = filepath.Join(c.root, "tree"), filepath.Join(c.root, "home")
	c.temp, c.scripts = filepath.Join(c.root, "tmp"), filepath.Join(c.root, "scripts")
	for _, value := range a.Secrets {
		c.secrets = append(c.secrets, value)
	}
	c.secrets = append(c.secrets, a.Token)
	defer Remove(c.root)
	states := make([]progress.State, len(a.Runs))
	for i, run := range a.Runs {
		states[i] = c.run(ctx, run, states)
	}
}

// Remove removes a tree also where a step took the right to write from its directories.
func Remove(dir string) {
	if os.RemoveAll(dir) == nil {
		return
	}
	_ = filepath.WalkDir(dir, func(path string, d os.DirEntry, err error) error {
		if d != nil && d.IsDir() {
			_ = os.Chmod(path, 0o700)
		}
		return nil
	})
	_ = os.RemoveAll(dir)
}

// stageRun is one stage being run.
type stageRun struct {
	*chain
	assignment.Run
	log   *runLog
	began time.Time
	event assignment.Event
}

// run executes one stage of the chain and tells its end.
func (c *chain) run(ctx context.Context, run assignment.Run, states []progress.State) progress.State {
	switch {
	case run.Follows >= 0 && states[run.Follows] != progress.Passed:
		return progress.Skipped // the service knows why
	case run.Skip:
		return progress.Passed // by its own `when`: what follows may go on
	}
	hooks := c.hooks
	if run.Passed { // its first results stand
		hooks.Event, hooks.Segment = func(assignment.Event) {}, func(Segment) {}
		hooks.Send = nil
	}
	began := time.Now()
	s := &stageRun{chain: c, Run: run, began: began, log: newRunLog(run.Index, began, c.secrets, hooks.Segment)}
	s.event = assignment.Event{Kind: assignment.RunEnded, Run: run.Index}
	for n, step := range run.Stage.Steps {
		s.event.Steps = append(s.event.Steps, view.Step{Name: stepName(step.Name, step.Script, n), State: progress.Waiting})
	}
	hooks.Event(assignment.Event{Kind: assignment.RunStarted, Run: run.Index, Steps: s.steps()})
	stage, cancel := ctx, func() {}
	if limit := run.Stage.Limit; limit > 0 {
		stage, cancel = context.WithTimeoutCause(ctx, limit, fmt.Errorf("time limit of %s", limit))
	}
	defer cancel()
	err := s.execute(stage, hooks)
	s.event.State, s.event.Cause = outcome(stage, err)
	if err != nil {
		s.log.say(len(s.event.Steps)-1, "— %s: %s —", s.event.State, s.event.Cause)
	}
	s.log.flush()
	hooks.Event(s.event)
	return s.event.State
}

func (s *stageRun) execute(ctx context.Context, hooks Hooks) error {
	if !s.prepared {
		if err := s.prepare(ctx); err != nil {
			return err
		}
		s.prepared = true
	}
	s.event.PreparingMS = time.Since(s.began).Milliseconds()
	working := time.Now()
	err := s.work(ctx, hooks)
	testErr := s.readTests(err == nil)
	s.event.WorkingMS = time.Since(working).Milliseconds()
	if testErr != nil && (err == nil || s.event.Tests != nil) {
		return testErr // says more than the exit code of the script that ran them
	}
	if err != nil {
		return err
	}
	delivering := time.Now()
	defer func() { s.event.DeliveringMS = time.Since(delivering).Milliseconds() }()
	if s.Passed {
		return nil
	}
	return s.deliver(ctx, hooks)
}

// prepare makes the workspace: directories, checkout, carried files.
func (s *stageRun) prepare(ctx context.Context) error {
	Remove(s.root)
	for _, dir := range []string{s.home, s.temp, s.scripts} {
		if err := os.MkdirAll(dir, 0o700); err != nil {
			return err
		}
	}
	src := s.a.Source
	remote := git.Remote{URL: src.URL, Credential: git.Credential{User: src.User, Password: src.Password, Key: src.Key}}
	source := git.CopyAt(filepath.Join(s.Dir, "sources", string(artifact.DigestOf([]byte(src.URL))[:16])), remote)
	if !source.Has(ctx, src.Commit) {
		if err := source.Fetch(ctx); err != nil {
			return fmt.Errorf("checkout: %w", err)
		}
	}
	if err := source.Checkout(ctx, src.Commit, s.tree); err != nil {
		return fmt.Errorf("checkout: %w", err)
	}
	for _, f := range s.a.Carried {
		if err := s.lay(ctx, f); err != nil {
			return fmt.Errorf("carried file %s: %w", f.Path, err)
		}
	}
	return nil
}

// lay writes a carried file into the tree, never through a link that leaves it.
func (s *stageRun) lay(ctx context.Context, f artifact.File) error {
	if err := artifact.CheckPath(f.Path); err != nil {
		return err
	}
	root, err := os.OpenRoot(s.tree)
	if err != nil {
		return err
	}
	defer root.Close()
	if err := root.MkdirAll(filepath.Dir(f.Path), 0o755); err != nil {
		return err
	}
	from, err := s.hooks.Get(ctx, f.Digest)
	if err != nil {
		return err
	}
	defer from.Close()
	mode := os.FileMode(0o644)
	if f.Executable {
		mode = 0o755
	}
	_ = root.Remove(f.Path)
	to, err := root.OpenFile(f.Path, os.O_CREATE|os.O_WRONLY|os.O_EXCL, mode)
	if err != nil {
		return err
	}
	n, err := io.Copy(to, from)
	if err = errors.Join(err, to.Close()); err == nil && n != f.Size {
		err = fmt.Errorf("%d bytes came, %d were promised", n, f.Size)
	}
	return err
}

// outcome tells how a stage run ended, in words.
func outcome(ctx context.Context, err error) (progress.State, string) {
	switch {
	case err == nil:
		return progress.Passed, ""
	case ctx.Err() != nil && errors.Is(context.Cause(ctx), ErrStop):
		return progress.Stopped, "stopped while it ran"
	case ctx.Err() != nil:
		return progress.Failed, context.Cause(ctx).Error()
	}
	return progress.Failed, err.Error()
}
