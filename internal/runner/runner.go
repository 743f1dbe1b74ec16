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
	"maps"
	"os"
	"path/filepath"
	"slices"
	"time"

	"github.com/gofrs/flock"

	"oskeld.dev/oskeld/internal/core/artifact"
	"oskeld.dev/oskeld/internal/core/assignment"
	"oskeld.dev/oskeld/internal/core/cache"
	"oskeld.dev/oskeld/internal/core/condition"
	"oskeld.dev/oskeld/internal/core/facts"
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
	Facts   facts.Facts       // the machine's tools and their versions
	Env     map[string]string // what the machine's owner gives to every step, such as where caches lie
	Box     Sandbox           // how steps are shut in
	Home    string            // the steps' HOME; "" for a private one in the workspace
	// Checkout lays the assignment's source into dir, or names a directory that has it already; nil
	// checks its commit out from a copy kept in Dir.
	Checkout func(ctx context.Context, a assignment.Assignment, dir string) (tree string, err error)
}

// Hooks are how a run tells what happens. Event and Segment must not wait long; Send may wait for
// as long as sending takes.
type Hooks struct {
	Event   func(assignment.Event)
	Segment func(assignment.Segment)
	// Send makes files' bytes known to the service; paths are absolute.
	Send func(ctx context.Context, files []SendFile) error
	// FindCache looks for directories that an earlier build saved; nil where nothing is kept.
	FindCache func(ctx context.Context, basis cache.Basis) (assignment.CacheFound, error)
	// Get opens the bytes of a carried file, or of a cache that was found.
	Get func(ctx context.Context, d artifact.Digest) (io.ReadCloser, error)
	// GetSmall gives the bytes of small carried files to put, each digest once; nil to Get them one by one.
	GetSmall func(ctx context.Context, files []artifact.File, put func(artifact.Digest, io.Reader) error) error
	// Fetch lays an artifact's files into a directory and gives their paths there.
	Fetch func(ctx context.Context, ref, dir string) ([]string, error)
	// Stamping is told of a file before text is written over it; nil where nobody wants it back.
	Stamping func(path string, text []byte) error
	// Stop is closed when the run is to stop: running steps end, and only stages that always run come
	// yet. Nil for never.
	Stop <-chan struct{}
}

// SendFile is a file whose bytes are to be sent. Again: this machine may soon want them again.
type SendFile struct {
	Path string
	artifact.File
	Again bool
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

	lost <-chan struct{} // closed when the assignment is lost

	toolLocks []*flock.Flock // of the tools in use

	prepared bool                     // the workspace is made
	cached   map[artifact.Digest]bool // keys of caches that are laid in, or will be saved
	exports  []condition.Export
	stages   map[string]condition.Stage
}

// Run executes the assignment to its end and removes the workspace. Every run of it ends in an
// event, unless ctx is cancelled: then the assignment was lost and nobody listens.
func (m Machine) Run(ctx context.Context, a assignment.Assignment, hooks Hooks) {
	c := &chain{Machine: m, a: a, hooks: hooks, root: filepath.Join(m.Dir, "work", a.Key.String()),
		lost: ctx.Done(), exports: slices.Clone(a.Scope.Exports), stages: map[string]condition.Stage{}, cached: map[artifact.Digest]bool{}}
	c.tree, c.home = filepath.Join(c.root, "tree"), filepath.Join(c.root, "home")
	c.temp, c.scripts = filepath.Join(c.root, "tmp"), filepath.Join(c.root, "scripts")
	maps.Copy(c.stages, a.Scope.Stages)
	for _, value := range a.Secrets {
		c.secrets = append(c.secrets, value)
	}
	c.secrets = append(c.secrets, a.Token)
	defer Remove(c.root)
	defer func() {
		for _, lock := range c.toolLocks {
			_ = lock.Unlock()
		}
	}()
	states := make([]progress.State, len(a.Runs))
	for i, run := range a.Runs {
		states[i] = c.run(ctx, run, states)
		c.stages[string(run.Stage.Name)] = condition.Stage{State: string(states[i])}
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
	log       *runLog
	began     time.Time
	event     assignment.Event
	logging   time.Duration // how long steps that had ended were waited for by their output
	limits    []string      // cgroups of the step that runs
	firstLine int64         // of this try
	toolDirs  []namedDir    // of the tools of a store that it is equipped with
	missed    []cache.Basis // caches that were not found, in whichever try looked for them
}

// alwaysLimit ends a stage that always runs and says no limit, where it runs after a stop.
const alwaysLimit = 10 * time.Minute

// run executes one stage of the chain and tells its end.
func (c *chain) run(ctx context.Context, run assignment.Run, states []progress.State) progress.State {
	switch {
	case run.Follows >= 0 && states[run.Follows] != progress.Passed && !run.Stage.Always:
		return progress.Skipped // the service knows why
	case run.Skip:
		return progress.Passed // by its own `when`: what follows may go on
	}
	hooks := c.hooks
	if run.Passed { // its first results stand
		hooks.Event, hooks.Segment = func(assignment.Event) {}, func(assignment.Segment) {}
		hooks.Send = nil
	}
	began := time.Now()
	s := &stageRun{chain: c, Run: run, began: began, log: newRunLog(run.Index, began, c.secrets, hooks.Segment)}
	if run.Late {
		if holds, err := s.holds(run.Stage.When, c.a.Scope.Asks); err != nil || !holds {
			return s.notRun(hooks, err)
		}
	}
	s.begin()
	hooks.Event(assignment.Event{Kind: assignment.RunStarted, Run: run.Index, Steps: s.steps()})
	tries := max(1, run.Stage.Tries)
	for try := 1; ; try++ {
		stage, cancel := s.context(ctx)
		err := s.execute(stage, hooks)
		s.event.State, s.event.Cause = outcome(stage, err)
		cancel()
		if err == nil {
			break
		}
		s.log.say(len(s.event.Steps)-1, "— %s: %s —", s.event.State, s.event.Cause)
		if try == tries || s.event.State != progress.Failed {
			break
		}
		s.log.say(len(s.event.Steps)-1, "— try %d of %d —", try+1, tries)
		notes := append(s.event.Notes, fmt.Sprintf("try %d of %d failed: %s", try, tries, s.event.Cause))
		s.begin()
		s.event.Notes = notes
	}
	s.log.flush()
	if s.event.State == progress.Passed && !run.Passed { // the service has told the first ones
		c.exports = append(c.exports, s.event.Exports...)
	}
	hooks.Event(s.event)
	return s.event.State
}

// begin makes the event of an attempt, with all its steps waiting.
func (s *stageRun) begin() {
	s.event = assignment.Event{Kind: assignment.RunEnded, Run: s.Index}
	s.firstLine = s.log.at()
	for n, step := range s.Stage.Steps {
		s.event.Steps = append(s.event.Steps, view.Step{Name: step.Title(n), State: progress.Waiting})
	}
}

// notRun tells that a stage is skipped by a `when` that only now could be told.
func (s *stageRun) notRun(hooks Hooks, err error) progress.State {
	e := assignment.Event{Kind: assignment.RunEnded, Run: s.Index, State: progress.Skipped, Cause: "when " + s.Stage.When + " is false"}
	if err != nil {
		hooks.Event(assignment.Event{Kind: assignment.RunStarted, Run: s.Index})
		e.State, e.Cause = progress.Failed, fmt.Sprintf("`when` cannot be told: %v", err)
	}
	hooks.Event(e)
	if err != nil {
		return progress.Failed
	}
	return progress.Passed
}

// context ends with the stage's limit, with the loss of the assignment, and, unless the stage always
// runs, with a stop.
func (s *stageRun) context(ctx context.Context) (context.Context, context.CancelFunc) {
	ctx, cancel := context.WithCancelCause(ctx)
	limit := s.Stage.Limit
	if s.Stage.Always {
		if limit == 0 {
			limit = alwaysLimit
		}
	} else if s.hooks.Stop != nil {
		go func() {
			select {
			case <-s.hooks.Stop:
				cancel(ErrStop)
			case <-ctx.Done():
			}
		}()
		select {
		case <-s.hooks.Stop:
			cancel(ErrStop) // before anything is started
		default:
		}
	}
	limited, stop := ctx, context.CancelFunc(func() {})
	if limit > 0 {
		limited, stop = context.WithTimeoutCause(ctx, limit, fmt.Errorf("time limit of %s", limit))
	}
	return limited, func() { stop(); cancel(nil) }
}

func (s *stageRun) execute(ctx context.Context, hooks Hooks) error {
	if !s.prepared {
		if err := s.prepare(ctx); err != nil {
			return err
		}
		s.prepared = true
	}
	if err := s.equip(ctx); err != nil {
		return err
	}
	s.findCaches(ctx)
	s.event.PreparingMS = time.Since(s.began).Milliseconds()
	working, logged := time.Now(), s.logging
	err := s.work(ctx, hooks)
	if err == nil {
		err = s.takeExports()
	}
	testErr := s.readTests(err == nil)
	logging := s.logging - logged
	s.event.WorkingMS = (time.Since(working) - logging).Milliseconds()
	s.event.DeliveringMS = logging.Milliseconds()
	if testErr != nil && (err == nil || s.event.Tests != nil) {
		return testErr // says more than the exit code of the script that ran them
	}
	if err != nil {
		return err
	}
	delivering := time.Now()
	defer func() { s.event.DeliveringMS += time.Since(delivering).Milliseconds() }()
	if s.Passed {
		return nil
	}
	if err := s.deliver(ctx, hooks); err != nil {
		return err
	}
	s.saveCaches(ctx)
	return nil
}

// prepare makes the workspace: directories, checkout, carried files.
func (s *stageRun) prepare(ctx context.Context) error {
	Remove(s.root)
	if s.Home != "" {
		s.home = s.Home
	}
	for _, dir := range []string{s.home, s.temp, s.scripts} {
		if err := os.MkdirAll(dir, 0o700); err != nil {
			return err
		}
	}
	checkout := s.Checkout
	if checkout == nil {
		checkout = s.checkout
	}
	tree, err := checkout(ctx, s.a, s.tree)
	if err != nil {
		return fmt.Errorf("checkout: %w", err)
	}
	s.tree = tree
	return s.layCarried(ctx)
}

// checkout lays the commit out from the copy of the source that is kept.
func (m Machine) checkout(ctx context.Context, a assignment.Assignment, dir string) (string, error) {
	src := a.Source
	remote := git.Remote{URL: src.URL, Credential: git.Credential{User: src.User, Password: src.Password, Key: src.Key}}
	source := git.CopyAt(m.sourceDir(src.URL), remote)
	if !source.Has(ctx, src.Commit) {
		if err := source.Fetch(ctx); err != nil {
			return "", err
		}
	}
	return dir, source.Checkout(ctx, src.Commit, dir)
}

// sourceDir is where the copy of a source is kept.
func (m Machine) sourceDir(url string) string {
	return filepath.Join(m.Dir, "sources", string(artifact.DigestOf([]byte(url))[:16]))
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
