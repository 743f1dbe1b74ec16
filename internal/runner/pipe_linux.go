package runner

import (
	"os"

	"golang.org/x/sys/unix"
)

// widen lets a pipe hold more than it does by itself, so that who writes waits less often for who reads. The
// kernel may refuse, to an ordinary user with many pipes.
func widen(pipe *os.File) {
	if c, err := pipe.SyscallConn(); err == nil {
		_ = c.Control(func(fd uintptr) { _, _ = unix.FcntlInt(fd, unix.F_SETPIPE_SZ, 1<<20) })
	}
}
