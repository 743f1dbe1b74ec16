//go:build unix

package git

import (
	"os"
	"syscall"
)

// end asks a process to end.
func end(p *os.Process) error { return p.Signal(syscall.SIGTERM) }
