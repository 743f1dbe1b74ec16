//go:build !linux

package runner

import (
	"context"
	"runtime"

	"oskeld.dev/oskeld/internal/core/fault"
)

// Ready tells that this system has no sandbox that we could use.
func (b Sandbox) Ready(context.Context) (Sandbox, error) {
	if b.Mode == SandboxStrict || b.Memory > 0 || b.Processes > 0 {
		return b, fault.Unavailable("steps can be shut in and limited on Linux only, and this is %s", runtime.GOOS).Hint("start the agent with --sandbox off")
	}
	return b, nil
}

func (s *stageRun) shutIn(argv []string) ([]string, error) { return argv, nil }
