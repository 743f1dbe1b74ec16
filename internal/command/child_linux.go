package command

import "syscall"

// endsWithUs starts a process in a group of its own that is told to end when we end.
func endsWithUs() *syscall.SysProcAttr {
	return &syscall.SysProcAttr{Setpgid: true, Pdeathsig: syscall.SIGTERM}
}
