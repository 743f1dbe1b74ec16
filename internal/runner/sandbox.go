package runner

import (
	"os"
	"time"

	"oskeld.dev/oskeld/internal/core/fault"
)

// SandboxMode says whether steps are shut in.
type SandboxMode string

const (
	SandboxOff    SandboxMode = "off"    // they reach what the machine's user reaches
	SandboxAuto   SandboxMode = "auto"   // shut in where the system can
	SandboxStrict SandboxMode = "strict" // shut in, without the user's home and, unless it is allowed, without network
)

// Sandbox is how steps are shut in: they see the machine's files read-only, and write into their workspace,
// their own /tmp and the directories of Write. The zero value shuts nothing in.
type Sandbox struct {
	Mode      SandboxMode
	Network   bool     // also under strict
	Write     []string // absolute directories
	Memory    int64    // bytes that a step may have, 0 for no limit
	Processes int      // that a step may have at a time, 0 for no limit

	on bool // it was found to work
}

// On tells whether steps are shut in.
func (b Sandbox) On() bool { return b.on }

// Fact is how an agent says of itself whether it shuts steps in.
func (b Sandbox) Fact() string {
	if b.on {
		return string(b.Mode)
	}
	return string(SandboxOff)
}

// ParseSandboxMode reads off, auto or strict.
func ParseSandboxMode(text string) (SandboxMode, error) {
	switch m := SandboxMode(text); m {
	case SandboxOff, SandboxAuto, SandboxStrict:
		return m, nil
	}
	return "", fault.Invalid("%q is no kind of sandbox", text).On("sandbox").Hint("off, auto or strict")
}

// removeLimits removes the groups that kept a step's limits.
func (s *stageRun) removeLimits() {
	for _, dir := range s.limits {
		for range 100 {
			if os.Remove(dir) == nil {
				break
			}
			time.Sleep(2 * time.Millisecond) // the killed take a moment to go
		}
	}
	s.limits = nil
}
