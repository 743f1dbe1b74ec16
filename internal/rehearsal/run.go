package rehearsal

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/singleflight"

	"oskeld.dev/oskeld/internal/core/artifact"
	"oskeld.dev/oskeld/internal/core/assignment"
	"oskeld.dev/oskeld/internal/core/basis"
	"oskeld.dev/oskeld/internal/core/condition"
	"oskeld.dev/oskeld/internal/core/logtext"
	"oskeld.dev/oskeld/internal/core/progress"
	"oskeld.dev/oskeld/internal/core/view"
	"oskeld.dev/oskeld/internal/runner"
)

// Watch is told what happens, by several goroutines but one at a time. Nil functions are left out.
type Watch struct {
	Moved func(run int, r Result)             // a run began, went on to another step, or ended
	Lines func(run int, lines []view.LogLine) // it printed
}

// Result is what became of a stage run.
type Result struct {
	Run        string                `json:"run"`
	State      progress.State        `json:"state"`
	Cause      string                `json:"cause,omitempty"`
	Began      time.Time             `json:"-"`
	Took       time.Duration         `json:"-"`
	TookMS     int64                 `json:"took_ms"`
	Steps      []view.Step           `json:"steps"`
	Notes      []string              `json:"notes,omitempty"`
	Tests      *assignment.Tests     `json:"tests,omitempty"`
	Exports    []condition.Export    `json:"exports,omitempty"`
	Deliveries []assignment.Delivery `json:"-"`
	carried    []artifact.File
}

// Delivered is a file that lies under .oskeld/artifacts.
type Delivered struct {
	Artifact string          `json:"artifact"`
	Path     string          `json:"path"` // from the top of the source
	Size     int64           `json:"size"`
	Digest   artifact.Digest `json:"digest"`
}

// Outcome of a rehearsal.
type Outcome struct {
	State     progress.State `json:"state"`
	Cause     string         `json:"cause,omitempty"`
	Version   string         `json:"version"`
	TookMS    int64          `json:"took_ms"`
	Results   []Result       `json:"runs"`
	LeftOut   []LeftOut      `json:"left_out,omitempty"`
	Artifacts []Delivered    `json:"artifacts"`
	Notes     []string       `json:"notes,omitempty"` // about stamped files
}

// run is a rehearsal in progress.
type run struct {
	*Rehearsal
	watch   Watch
	machine runner.Machine
	key     string
	stop    <-chan struct{}
	stamped *journal
	kept    kept
	files   []string           // of the working tree, before anything ran
	moved   chan struct{}      // something did, so that another chain may begin
	keeping singleflight.Group // by digest, for stages that keep the same bytes at once

	mu      sync.Mutex
	state   progress.Build
	results []Result
	fence   int64
}

// Run rehearses until all has ended. When stop is closed, running steps end and only what always runs
// comes yet; when ctx ends, all is killed. An error means that nothing could be run.
func (r *Rehearsal) Run(ctx context.Context, stop <-chan struct{}, watch Watch) (Outcome, error) {
	began := time.Now()
	lock, err := lockKept(r.Root)
	if err != nil {
		return Outcome{}, err
	}
	defer lock.Close()
	x := &run{Rehearsal: r, watch: watch, stop: stop, key: "rehearsal-" + string(artifact.DigestOf([]byte(r.Root))[:12]), moved: make(chan struct{}, 1)}
	runner.Sweep(x.key) // what a killed rehearsal has left running
	var notes []string
	if x.stamped, notes, err = openJournal(r.Root); err != nil {
		return Outcome{}, err
	}
	if err := x.begin(ctx); err != nil {
		return Outcome{}, err
	}
	x.schedule(ctx)
	more, err := x.stamped.putBack()
	outcome := Outcome{State: x.state.State, Cause: x.state.Cause, Version: string(r.Version), Results: x.results, LeftOut: r.LeftOut, Artifacts: []Delivered{}, Notes: append(notes, more...)}
	if err != nil {
		return outcome, err
	}
	if outcome.Artifacts, err = x.layArtifacts(); err != nil {
		return outcome, err
	}
	outcome.TookMS = time.Since(began).Milliseconds()
	return outcome, x.kept.save(r.Root)
}

// begin clears what earlier rehearsals kept and this one makes anew, and finds what copies are made of.
func (x *run) begin(ctx context.Context) error {
	x.machine = runner.Machine{Dir: x.Work, Program: x.Program, Service: x.Service, Env: x.Env, Home: x.Home, Checkout: x.checkout}
	x.kept = loadKept(x.Root)
	if len(x.Part.Only)+len(x.Part.From) == 0 {
		x.kept = kept{Runs: map[string]*keptRun{}}
		if err := os.RemoveAll(filepath.Join(x.Root, Kept, "blobs")); err != nil {
			return err
		}
	}
	if err := os.RemoveAll(filepath.Join(x.Root, Kept, "artifacts")); err != nil {
		return err
	}
	if x.here != nil && !x.Clean && len(x.Plan.Chains) > 1 || x.here == nil {
		var err error
		if x.files, err = x.treeFiles(ctx); err != nil {
			return err
		}
	}
	x.state, _ = progress.New(x.Plan)
	x.results = make([]Result, len(x.Plan.Runs))
	for i, r := range x.Plan.Runs {
		x.results[i] = Result{Run: r.Title(), State: x.state.Runs[i].State, Cause: x.state.Runs[i].Cause, Steps: []view.Step{}}
	}
	return nil
}

// schedule runs chains side by side, as many as there may be, until the build of them is over.
func (x *run) schedule(ctx context.Context) {
	ended := make(chan struct{})
	var all sync.WaitGroup
	running := 0
	stop := x.stop
	for {
		x.mu.Lock()
		for i, c := range x.state.Chains {
			if running >= max(1, x.Jobs) {
				break
			}
			if c.State == progress.ChainWaiting && ctx.Err() == nil && x.mayBeAlone(i) {
				running++
				fence := x.take(i)
				all.Go(func() { x.chain(ctx, i, fence); ended <- struct{}{} })
			}
		}
		over := x.state.State.Over()
		x.mu.Unlock()
		if running == 0 && (over || ctx.Err() != nil) {
			break
		}
		select {
		case <-ended:
			running--
		case <-x.moved: // a stage within a chain has passed that another chain waits for
		case <-stop:
			stop = nil
			x.apply(progress.Stop{Cause: "stopped here"})
		}
	}
	all.Wait()
	if ctx.Err() != nil { // whatever has not ended never will
		x.mu.Lock()
		x.state.State, x.state.Cause = progress.Stopped, "killed here"
		x.mu.Unlock()
	}
}

// mayBeAlone tells whether no other chain that runs has a name with which this one wants to be alone.
// The caller holds the lock.
func (x *run) mayBeAlone(chain int) bool {
	for _, name := range x.Plan.Alone(chain) {
		for i, c := range x.state.Chains {
			if i != chain && c.State == progress.ChainTaken && slices.Contains(x.Plan.Alone(i), name) {
				return false
			}
		}
	}
	return true
}

// take marks a chain as taken and gives its fence. The caller holds the lock.
func (x *run) take(chain int) int64 {
	x.fence++
	x.state, _ = x.state.Apply(progress.Taken{Chain: chain, Agent: "here", Fence: x.fence})
	return x.fence
}

func (x *run) apply(e progress.Event) {
	x.mu.Lock()
	defer x.mu.Unlock()
	x.applied(e)
}

// applied applies an event and tells what moved by it. The caller holds the lock.
func (x *run) applied(e progress.Event) {
	before := x.state
	x.state, _ = x.state.Apply(e)
	select {
	case x.moved <- struct{}{}:
	default:
	}
	for i, r := range x.state.Runs {
		if r.State == before.Runs[i].State && r.Cause == before.Runs[i].Cause {
			continue
		}
		res := &x.results[i]
		res.State, res.Cause = r.State, r.Cause
		if r.State == progress.Running {
			res.Began = time.Now()
		} else if !res.Began.IsZero() {
			res.Took = time.Since(res.Began)
			res.TookMS = res.Took.Milliseconds()
		}
		x.tell(i)
	}
}

func (x *run) tell(i int) {
	if x.watch.Moved != nil {
		x.watch.Moved(i, x.results[i])
	}
}

// chain runs one chain to its end.
func (x *run) chain(ctx context.Context, index int, fence int64) {
	halt := make(chan struct{})
	done := make(chan struct{})
	defer close(done)
	go x.haltWith(index, fence, halt, done)
	a := x.assignment(index, fence)
	files, err := x.carriedInto(index)
	if err != nil {
		x.apply(progress.Started{Run: x.Plan.Chains[index].Runs[0], Fence: fence})
		x.apply(progress.Ended{Run: x.Plan.Chains[index].Runs[0], Fence: fence, State: progress.Failed, Cause: err.Error()})
		return
	}
	a.Carried = files
	hooks := runner.Hooks{Event: func(e assignment.Event) { x.event(fence, e) }, Segment: x.segment, Send: x.keep, Get: x.open, Fetch: x.Fetch, Stop: halt}
	if x.inTree(index) {
		hooks.Stamping = x.stamped.save
	}
	x.machine.Run(ctx, a, hooks)
}

// haltWith closes halt when the rehearsal stops, or the chain's build wants it to stop.
func (x *run) haltWith(chain int, fence int64, halt chan<- struct{}, done <-chan struct{}) {
	defer close(halt)
	tick := time.NewTicker(50 * time.Millisecond) // of a variant's failure nobody is told otherwise
	defer tick.Stop()
	for {
		select {
		case <-done:
			return
		case <-x.stop:
			return
		case <-tick.C:
			x.mu.Lock()
			c := x.state.Chains[chain]
			x.mu.Unlock()
			if c.Fence == fence && c.Halt != "" {
				return
			}
		}
	}
}

// assignment is what an agent would get for the chain.
func (x *run) assignment(index int, fence int64) assignment.Assignment {
	x.mu.Lock()
	defer x.mu.Unlock()
	a := assignment.Assignment{Key: assignment.Key{Build: x.key, Chain: index, Fence: fence}, Name: string(x.Pipeline.Name) + "/0", Token: x.Token,
		Scope: x.scope, Names: x.Plan.Names, Values: maps.Clone(x.values), Secrets: map[string]string{}, Env: maps.Clone(x.Plan.Env)}
	if a.Env == nil {
		a.Env = map[string]string{}
	}
	maps.Copy(a.Env, map[string]string{"OSKELD_PIPELINE": x.values["pipeline"], "OSKELD_NUMBER": "0", "OSKELD_VERSION": x.values["version"],
		"OSKELD_COMMIT": x.scope.Source.Commit, "OSKELD_BRANCH": x.scope.Source.Branch, "OSKELD_TAG": x.scope.Source.Tag})
	for _, name := range basis.Unset(x.Plan.Runs[x.Plan.Chains[index].Runs[0]].Stage) { // as on an agent, though nothing is reused here
		delete(a.Env, name)
	}
	a.Equip = x.Plan.EquipDemand(x.Plan.Chains[index])
	a.Values["changes"] = x.notes()
	a.Scope.Exports, a.Scope.Stages = x.before(index)
	place := map[int]int{}
	for i, at := range x.Plan.Chains[index].Runs {
		place[at] = i
		r := x.Plan.Runs[at]
		follows := -1
		if r.Follows >= 0 {
			follows = place[r.Follows]
		}
		a.Runs = append(a.Runs, assignment.Run{Index: at, Follows: follows, Skip: r.Skip != "", Late: r.Late, Variant: r.Variant, Stage: r.Stage})
		for _, name := range r.Stage.Secrets {
			a.Secrets[name] = x.Secrets[name]
		}
	}
	return a
}

// notes are the commits since the version before, for stamps that ask.
func (x *run) notes() string {
	if x.here == nil || x.head.Commit == "" {
		return ""
	}
	text, err := x.here.Notes(context.Background(), x.head.Commit, x.Pipeline.Version.Tag, x.scope.Source.Tag != "")
	if err != nil {
		return ""
	}
	return text
}

// before gathers exports and states of what ended before a chain; also of an earlier rehearsal, where
// only a part runs. The caller holds the lock.
func (x *run) before(index int) (exports []condition.Export, stages map[string]condition.Stage) {
	stages = map[string]condition.Stage{}
	for i, r := range x.results {
		if r.State.Over() && x.Plan.Runs[i].Chain != index {
			exports = append(exports, r.Exports...)
			name := string(x.Plan.Runs[i].Stage.Name)
			if have, ok := stages[name]; !ok || have.State == string(progress.Passed) {
				stages[name] = condition.Stage{State: string(r.State)}
			}
		}
	}
	for i, r := range x.whole.Runs {
		if k := x.kept.Runs[r.Title()]; k != nil && !slices.Contains(x.from, i) {
			exports = append(exports, k.Exports...)
			if _, ok := stages[string(r.Stage.Name)]; !ok {
				stages[string(r.Stage.Name)] = condition.Stage{State: string(progress.Passed)}
			}
		}
	}
	return exports, stages
}

// event takes what the runner tells.
func (x *run) event(fence int64, e assignment.Event) {
	x.mu.Lock()
	defer x.mu.Unlock()
	res := &x.results[e.Run]
	if e.Steps != nil {
		res.Steps = e.Steps
	}
	switch e.Kind {
	case assignment.RunStarted:
		x.applied(progress.Started{Run: e.Run, Fence: fence})
	case assignment.StepMoved:
		x.tell(e.Run)
	case assignment.RunEnded:
		res.Notes, res.Tests, res.Exports, res.Deliveries, res.carried = e.Notes, e.Tests, e.Exports, e.Deliveries, e.Carried
		if e.State == progress.Passed {
			x.kept.Runs[res.Run] = &keptRun{Carried: e.Carried, Exports: e.Exports}
		}
		x.applied(progress.Ended{Run: e.Run, Fence: fence, State: e.State, Cause: e.Cause})
	}
}

func (x *run) segment(s assignment.Segment) {
	if x.watch.Lines == nil {
		return
	}
	lines, err := logtext.Unpack(s.Body, s.First)
	if err != nil {
		return // our own segment: it cannot be broken
	}
	x.mu.Lock()
	defer x.mu.Unlock()
	x.watch.Lines(s.Run, lines)
}

// carriedInto gathers what is laid into a chain's workspace: of this rehearsal, or of an earlier one
// where its stage does not run now.
func (x *run) carriedInto(index int) ([]artifact.File, error) {
	x.mu.Lock()
	defer x.mu.Unlock()
	first := x.from[x.Plan.Chains[index].Runs[0]]
	var all []artifact.File
	for _, i := range x.whole.Chains[x.whole.Runs[first].Chain].Carried {
		if at := slices.Index(x.from, i); at >= 0 {
			all = append(all, x.results[at].carried...)
		} else if k := x.kept.Runs[x.whole.Runs[i].Title()]; k != nil {
			all = append(all, k.Carried...)
		}
	}
	content, err := artifact.NewContent(all)
	if err != nil {
		return nil, err
	}
	return content.Files, nil
}

// layArtifacts lays what passing runs delivered under .oskeld/artifacts.
func (x *run) layArtifacts() ([]Delivered, error) {
	list := []Delivered{}
	var errs []error
	for _, r := range x.results {
		if r.State != progress.Passed {
			continue
		}
		for _, d := range r.Deliveries {
			for _, f := range d.Files {
				at := filepath.Join(Kept, "artifacts", string(d.Store), string(d.Name), string(x.Version), filepath.FromSlash(f.Path))
				if err := x.layOne(f, filepath.Join(x.Root, at)); err != nil {
					errs = append(errs, fmt.Errorf("%s: %w", f.Path, err))
					continue
				}
				list = append(list, Delivered{fmt.Sprintf("%s/%s@%s", d.Store, d.Name, x.Version), at, f.Size, f.Digest})
			}
		}
	}
	slices.SortFunc(list, func(a, b Delivered) int { return strings.Compare(a.Path, b.Path) })
	return list, errors.Join(errs...)
}
