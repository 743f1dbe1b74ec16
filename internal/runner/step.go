package runner

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"

	"oskeld.dev/oskeld/internal/core/assignment"
	"oskeld.dev/oskeld/internal/core/condition"
	"oskeld.dev/oskeld/internal/core/language"
	"oskeld.dev/oskeld/internal/core/progress"
	"oskeld.dev/oskeld/internal/core/view"
)

func (s *stageRun) steps() []view.Step { return slices.Clone(s.event.Steps) }

// work runs the steps in order; after one that failed the others are skipped.
func (s *stageRun) work(ctx context.Context, hooks Hooks) error {
	var failed error
	for n, step := range s.Stage.Steps {
		shown := &s.event.Steps[n]
		if failed != nil {
			shown.State, shown.Cause = progress.Skipped, "an earlier step failed"
			continue
		}
		skip, err := s.skip(step)
		if err != nil {
			return fmt.Errorf("`when` of step %q: %w", shown.Name, err)
		}
		if skip != "" {
			shown.State, shown.Cause = progress.Skipped, skip
			continue
		}
		began, logged := time.Now(), s.logging
		shown.State, shown.StartMS, shown.Line = progress.Running, began.Sub(s.began).Milliseconds(), s.log.at()
		if n == 0 {
			shown.Line = s.firstLine // what prepared the stage is told under its first step
		}
		hooks.Event(assignment.Event{Kind: assignment.StepMoved, Run: s.Index, Steps: s.steps(), Times: s.event.Times})
		err = s.tryStep(ctx, n, step)
		shown.TookMS = (time.Since(began) - (s.logging - logged)).Milliseconds()
		shown.State, shown.Cause = outcome(ctx, err)
		if exit, ok := errors.AsType[*exec.ExitError](err); ok && exit.Exited() {
			code := exit.ExitCode()
			shown.Exit = &code
		} else if err == nil {
			shown.Exit = new(int)
		}
		switch {
		case err == nil:
		case step.Forgive && ctx.Err() == nil:
			note := fmt.Sprintf("step %q failed and is forgiven: %s", shown.Name, inWords(ctx, err))
			s.event.Notes = append(s.event.Notes, note)
			s.log.say(n, "— %s —", note)
		default:
			failed = fmt.Errorf("step %q: %w", shown.Name, inWords(ctx, err))
		}
	}
	return failed
}

// skip says why a step is not run, "" when it is.
func (s *stageRun) skip(step language.Step) (string, error) {
	if step.Off {
		return "off", nil
	}
	if step.Send != nil {
		return "outlets are reached from the service only", nil
	}
	asks := step.Asks
	if asks == nil {
		asks = s.a.Scope.Asks
	}
	for _, when := range []struct {
		text string
		asks []condition.Value
	}{{step.UseWhen, s.a.Scope.Asks}, {step.When, asks}} {
		if when.text == "" {
			continue
		}
		if holds, err := s.holds(when.text, when.asks); err != nil || !holds {
			return "when " + when.text + " is false", err
		}
	}
	return "", nil
}

// tryStep does a step as often as it may be tried.
func (s *stageRun) tryStep(ctx context.Context, n int, step language.Step) error {
	for try := 1; ; try++ {
		err := s.do(ctx, n, step)
		if err == nil || try >= step.Tries || ctx.Err() != nil {
			return err
		}
		s.event.Notes = append(s.event.Notes, fmt.Sprintf("step %q, try %d of %d: %s", step.Title(n), try, step.Tries, inWords(ctx, err)))
		s.log.say(n, "— %s; try %d of %d —", inWords(ctx, err), try+1, step.Tries)
	}
}

// do does a step's one deed.
func (s *stageRun) do(ctx context.Context, n int, step language.Step) error {
	if step.Limit > 0 {
		limited, cancel := context.WithTimeoutCause(ctx, step.Limit, fmt.Errorf("time limit of %s", step.Limit))
		defer cancel()
		ctx = limited
	}
	switch {
	case step.Stamp != nil:
		return s.stamp(n, *step.Stamp)
	case step.Fetch != nil:
		return s.fetch(ctx, n, *step.Fetch)
	case step.Script != "":
		return s.script(ctx, n, step)
	}
	return fmt.Errorf("%s is not known to this agent", step.Title(n))
}

// holds tells a condition with all that has happened in the chain so far.
func (s *stageRun) holds(when string, asks []condition.Value) (bool, error) {
	names := s.a.Names
	names.Asks = map[string]condition.ValueKind{}
	for _, a := range asks {
		names.Asks[a.Name] = a.Kind
	}
	names.Axes = nil
	for _, pair := range s.Variant {
		names.Axes = append(names.Axes, pair.Axis)
	}
	c, err := condition.Compile(condition.When, when, names)
	if err != nil {
		return false, err
	}
	scope := s.a.Scope
	scope.Asks, scope.Vary, scope.Exports, scope.Stages = asks, s.Variant.Map(), s.exports, s.stages
	return c.Holds(scope)
}

// inWords says how a process ended.
func inWords(ctx context.Context, err error) error {
	if ctx.Err() != nil {
		return context.Cause(ctx)
	}
	if exit, ok := errors.AsType[*exec.ExitError](err); ok {
		if exit.Exited() {
			return fmt.Errorf("exit %d", exit.ExitCode())
		}
		return errors.New(exit.Error())
	}
	return err
}

// script runs one script in its shell and waits for all that it started.
func (s *stageRun) script(ctx context.Context, n int, step language.Step) error {
	dir := filepath.Join(s.tree, s.Stage.In, step.In)
	if info, err := os.Stat(dir); err != nil || !info.IsDir() {
		return fmt.Errorf("there is no directory %q to work in", filepath.Join(s.Stage.In, step.In))
	}
	shell := step.Shell
	if len(shell) == 0 {
		shell = []string{"sh", "-eu"}
	}
	script := filepath.Join(s.scripts, fmt.Sprintf("%d-%d%s", s.Index, n, endings[filepath.Base(shell[0])]))
	if err := os.WriteFile(script, []byte(step.Script), 0o600); err != nil {
		return err
	}
	if _, err := exec.LookPath(shell[0]); err != nil {
		return fmt.Errorf("there is no shell %q here", shell[0])
	}
	argv, err := s.shutIn(append(slices.Clone(shell), script))
	if err != nil {
		return err
	}
	defer s.removeLimits()
	cmd := exec.Command(argv[0], argv[1:]...)
	cmd.Dir, cmd.Env = dir, s.environment(step, dir)
	out, errs := s.log.stream(n, false), s.log.stream(n, true)
	printed := newIntake(s.root, s.log)
	p, err := begin(cmd, s.a.Key.String(), intakeWriter{printed, out}, intakeWriter{printed, errs})
	if err != nil {
		printed.close(s.lost)
		return fmt.Errorf("%s cannot be started: %w", shell[0], err)
	}
	err = p.wait(ctx)
	if ctx.Err() != nil {
		err = context.Cause(ctx)
	}
	ended := time.Now()
	printed.close(s.lost)
	out.end()
	errs.end()
	s.logging += time.Since(ended)
	return err
}

// endings are those that shells ask of a script's file.
var endings = map[string]string{"sh": ".sh", "bash": ".sh", "pwsh": ".ps1", "python3": ".py"}

// environment is all that a step sees: a clean one, the pipeline's, the stage's, the step's, and
// the secrets that the stage names.
func (s *stageRun) environment(step language.Step, dir string) []string {
	path := []string{filepath.Dir(s.Program)}
	for _, t := range s.toolDirs {
		path = append(path, t.bin())
	}
	env := map[string]string{
		"PATH": strings.Join(append(path, searchPath()), string(os.PathListSeparator)), "HOME": s.home, "TMPDIR": s.temp, "PWD": dir,
		"LANG": "C.UTF-8", "LC_ALL": "C.UTF-8", "TERM": "dumb", "CI": "true", "USER": "oskeld", "SHELL": "/bin/sh",
		"OSKELD_SERVICE": s.Service, "OSKELD_TOKEN": s.a.Token,
		"OSKELD_STAGE": string(s.Stage.Name), "OSKELD_WORKSPACE": s.tree,
	}
	env["OSKELD_EXPORTS"] = s.exportsDir()
	maps.Copy(env, systemEnv(s.home, s.temp))
	for _, t := range s.toolDirs {
		env["OSKELD_TOOL_"+strings.ToUpper(notName.ReplaceAllString(t.name, "_"))] = t.dir
	}
	for _, more := range []map[string]string{s.Machine.Env, s.a.Env, s.values(step), s.Stage.Env, step.Env} {
		maps.Copy(env, more)
	}
	for _, name := range s.Stage.Secrets {
		env[name] = s.a.Secrets[name]
	}
	list := make([]string, 0, len(env))
	for _, name := range slices.Sorted(maps.Keys(env)) {
		list = append(list, name+"="+env[name])
	}
	return list
}

// values are the variables that stand for asks, the variant and exports.
func (s *stageRun) values(step language.Step) map[string]string {
	env := map[string]string{}
	for _, asks := range [][]condition.Value{s.a.Scope.Asks, step.Asks} {
		for _, a := range asks {
			env["ASK_"+strings.ToUpper(a.Name)] = a.Text
		}
	}
	for _, pair := range s.Variant {
		env["VARY_"+strings.ToUpper(pair.Axis)] = pair.Value
	}
	for _, e := range s.exports {
		if e.Variant == "" || e.Variant == s.Variant.String() {
			env[e.Name] = e.Text
		}
		if e.Variant != "" {
			env[e.Name+"_"+notName.ReplaceAllString(e.Variant, "_")] = e.Text
		}
	}
	return env
}

var notName = regexp.MustCompile(`[^A-Za-z0-9]+`)

func searchPath() string {
	if path := os.Getenv("PATH"); path != "" {
		return path
	}
	return "/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin"
}
