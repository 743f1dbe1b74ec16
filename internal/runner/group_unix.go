//go:build unix && !linux

package runner

import (
	"os"
	"os/exec"
	"syscall"
)

// group is a command with everything it starts, as far as it stays in the command's process group.
type group struct{ pid int }

func newGroup(cmd *exec.Cmd, marker string) *group {
	cmd.Env = append(cmd.Env, markerName+"="+marker)
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	return &group{}
}

func (g *group) began(p *os.Process) error {
	g.pid = p.Pid
	return nil
}

func (g *group) end() { _ = syscall.Kill(-g.pid, syscall.SIGTERM) }

func (g *group) kill() { _ = syscall.Kill(-g.pid, syscall.SIGKILL) }

func (g *group) close() {}

// Sweep has nothing to find: this system does not show the environment of processes.
func Sweep(string) {}
