package runner

import (
	"os"
	"os/exec"
	"syscall"
	"unsafe"

	"golang.org/x/sys/windows"
)

// group is a command with everything it starts, in a job object that ends with us.
type group struct {
	pid uint32
	job windows.Handle
}

func newGroup(cmd *exec.Cmd, marker string) *group {
	cmd.Env = append(cmd.Env, markerName+"="+marker)
	cmd.SysProcAttr = &syscall.SysProcAttr{CreationFlags: windows.CREATE_NEW_PROCESS_GROUP}
	return &group{}
}

// began puts the command into the job. What it started before that moment is not in it: a shell that
// has only just begun has started nothing.
func (g *group) began(p *os.Process) error {
	g.pid = uint32(p.Pid)
	job, err := windows.CreateJobObject(nil, nil)
	if err != nil {
		return err
	}
	g.job = job
	info := windows.JOBOBJECT_EXTENDED_LIMIT_INFORMATION{}
	info.BasicLimitInformation.LimitFlags = windows.JOB_OBJECT_LIMIT_KILL_ON_JOB_CLOSE
	if _, err := windows.SetInformationJobObject(job, windows.JobObjectExtendedLimitInformation, uintptr(unsafe.Pointer(&info)), uint32(unsafe.Sizeof(info))); err != nil {
		return err
	}
	process, err := windows.OpenProcess(windows.PROCESS_SET_QUOTA|windows.PROCESS_TERMINATE, false, g.pid)
	if err != nil {
		return nil // it has ended already
	}
	defer func() { _ = windows.CloseHandle(process) }()
	return windows.AssignProcessToJobObject(job, process)
}

func (g *group) end() { _ = windows.GenerateConsoleCtrlEvent(windows.CTRL_BREAK_EVENT, g.pid) }

func (g *group) kill() {
	if g.job != 0 {
		_ = windows.TerminateJobObject(g.job, 1)
	}
}

func (g *group) close() {
	if g.job != 0 {
		_ = windows.CloseHandle(g.job)
	}
}

// Sweep has nothing to find: the jobs of a runner that was killed ended with it.
func Sweep(string) {}
