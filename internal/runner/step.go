package runner

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"oskeld.dev/oskeld/internal/core/assignment"
	"oskeld.dev/oskeld/internal/core/condition"
	"oskeld.dev/oskeld/internal/core/language"
	"oskeld.dev/oskeld/internal/core/progress"
	"oskeld.dev/oskeld/internal/core/view"
)

// stepName is what people read: the step's name, else the first line of its script.
func stepName(name, script string, n int) string {
	if name != "" {
		return name
	}
	for line := range strings.Lines(script) {
		if line = strings.TrimSpace(line); line != "" && !strings.HasPrefix(line, "#") {
			if r := []rune(line); len(r) > 60 {
				line = string(r[:59]) + "…"
			}
			return line
		}
	}
	return fmt.Sprintf("step %d", n+1)
}

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
		if step.When != "" {
			holds, err := s.holds(step.When)
			if err != nil {
				return fmt.Errorf("`when` of step %q: %w", shown.Name, err)
			}
			if !holds {
				shown.State, shown.Cause = progress.Skipped, "when "+step.When+" is false"
				continue
			}
		}
		began := time.Now()
		shown.State, shown.StartMS = progress.Running, began.Sub(s.began).Milliseconds()
		hooks.Event(assignment.Event{Kind: assignment.StepMoved, Run: s.Index, Steps: s.steps(), Times: s.event.Times})
		err := s.step(ctx, n, step)
		shown.TookMS = time.Since(began).Milliseconds()
		shown.State, shown.Cause = outcome(ctx, err)
		if exit, ok := errors.AsType[*exec.ExitError](err); ok && exit.Exited() {
			code := exit.ExitCode()
			shown.Exit = &code
		} else if err == nil {
			shown.Exit = new(int)
		}
		if err != nil {
			failed = fmt.Errorf("step %q: %w", shown.Name, inWords(ctx, err))
		}
	}
	return failed
}

func (s *stageRun) holds(when string) (bool, error) {
	c, err := condition.Compile(condition.When, when)
	if err != nil {
		return false, err
	}
	return c.Holds(s.a.Scope)
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

// step runs one script as `sh -eu FILE` and waits for all that it started.
func (s *stageRun) step(ctx context.Context, n int, step language.Step) error {
	if step.Limit > 0 {
		limited, cancel := context.WithTimeoutCause(ctx, step.Limit, fmt.Errorf("time limit of %s", step.Limit))
		defer cancel()
		ctx = limited
	}
	dir := filepath.Join(s.tree, s.Stage.In, step.In)
	if info, err := os.Stat(dir); err != nil || !info.IsDir() {
		return fmt.Errorf("there is no directory %q to work in", filepath.Join(s.Stage.In, step.In))
	}
	script := filepath.Join(s.scripts, fmt.Sprintf("%d-%d.sh", s.Index, n))
	if err := os.WriteFile(script, []byte(step.Script), 0o600); err != nil {
		return err
	}
	cmd := exec.Command("sh", "-eu", script)
	cmd.Dir, cmd.Env = dir, s.environment(step, dir)
	out, errs := s.log.stream(n, false), s.log.stream(n, true)
	p, err := begin(cmd, s.a.Key.String(), out, errs)
	if err != nil {
		return fmt.Errorf("sh cannot be started: %w", err)
	}
	err = p.wait(ctx)
	out.end()
	errs.end()
	if ctx.Err() != nil {
		return context.Cause(ctx)
	}
	return err
}

// environment is all that a step sees: a clean one, the pipeline's, the stage's, the step's, and
// the secrets that the stage names.
func (s *stageRun) environment(step language.Step, dir string) []string {
	env := map[string]string{
		"PATH": filepath.Dir(s.Program) + ":" + searchPath(), "HOME": s.home, "TMPDIR": s.temp, "PWD": dir,
		"LANG": "C.UTF-8", "LC_ALL": "C.UTF-8", "TERM": "dumb", "CI": "true", "USER": "oskeld", "SHELL": "/bin/sh",
		"OSKELD_SERVICE": s.Service, "OSKELD_TOKEN": s.a.Token,
		"OSKELD_STAGE": string(s.Stage.Name), "OSKELD_WORKSPACE": s.tree,
	}
	for _, more := range []map[string]string{s.Machine.Env, s.a.Env, s.Stage.Env, step.Env} {
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

func searchPath() string {
	if path := os.Getenv("PATH"); path != "" {
		return path
	}
	return "/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin"
}
