package runner

import (
	"bytes"
	"context"
	"errors"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"
)

// Grace is how long a step may go on after TERM before everything it started is killed.
const Grace = 3 * time.Second

// process is one command with everything it starts, in a process group and, where the system
// allows it, in a cgroup of its own.
type process struct {
	cmd    *exec.Cmd
	cgroup *os.File
	marker string // stands in the environment of all that the command starts
	ended  chan struct{}
	err    error
}

var cgroupCount atomic.Int64

// cgroupRoot finds a cgroup v2 hierarchy in which we may make directories that can be killed as a whole.
var cgroupRoot = sync.OnceValue(func() string {
	for _, root := range []string{"/sys/fs/cgroup", "/sys/fs/cgroup/unified"} {
		probe, err := os.MkdirTemp(root, "oskeld-probe-")
		if err != nil {
			continue
		}
		_, err = os.Stat(filepath.Join(probe, "cgroup.kill"))
		os.Remove(probe)
		if err == nil {
			return root
		}
	}
	return ""
})

// begin starts a command. out and errors receive its output, each from one goroutine.
func begin(cmd *exec.Cmd, marker string, out, errs io.Writer) (*process, error) {
	p := &process{cmd: cmd, marker: markerName + "=" + marker, ended: make(chan struct{})}
	cmd.Env = append(cmd.Env, p.marker)
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	if root := cgroupRoot(); root != "" {
		dir := filepath.Join(root, "oskeld-"+strconv.Itoa(os.Getpid())+"-"+strconv.FormatInt(cgroupCount.Add(1), 10))
		if os.Mkdir(dir, 0o755) == nil {
			if f, err := os.Open(dir); err == nil {
				p.cgroup = f
				cmd.SysProcAttr.UseCgroupFD, cmd.SysProcAttr.CgroupFD = true, int(f.Fd())
			}
		}
	}
	outRead, outWrite, err := os.Pipe()
	if err != nil {
		return nil, err
	}
	errRead, errWrite, err := os.Pipe()
	if err != nil {
		return nil, errors.Join(err, outRead.Close(), outWrite.Close())
	}
	cmd.Stdout, cmd.Stderr = outWrite, errWrite
	err = cmd.Start()
	outWrite.Close()
	errWrite.Close()
	if err != nil {
		outRead.Close()
		errRead.Close()
		p.removeCgroup()
		return nil, err
	}
	var readers sync.WaitGroup
	for r, w := range map[*os.File]io.Writer{outRead: out, errRead: errs} {
		readers.Go(func() {
			_, _ = io.CopyBuffer(struct{ io.Writer }{w}, struct{ io.Reader }{r}, make([]byte, 64<<10))
		})
	}
	go func() {
		p.err = cmd.Wait()
		p.killAll() // a daemon left behind ends with its step
		done := make(chan struct{})
		go func() { readers.Wait(); close(done) }()
		select {
		case <-done:
		case <-time.After(2 * time.Second): // somebody we could not find still holds the pipe
		}
		outRead.Close()
		errRead.Close()
		<-done
		p.removeCgroup()
		close(p.ended)
	}()
	return p, nil
}

// markerName is the variable by which processes of a step are known where there is no cgroup.
const markerName = "OSKELD_ATTEMPT"

// wait waits for the end. When ctx ends first, the processes get TERM, and after the grace KILL.
func (p *process) wait(ctx context.Context) error {
	select {
	case <-p.ended:
		return p.err
	case <-ctx.Done():
	}
	_ = syscall.Kill(-p.cmd.Process.Pid, syscall.SIGTERM)
	select {
	case <-p.ended:
	case <-time.After(Grace):
		p.killAll()
		<-p.ended
	}
	return p.err
}

// killAll ends everything that the command started and that still runs.
func (p *process) killAll() {
	_ = syscall.Kill(-p.cmd.Process.Pid, syscall.SIGKILL)
	if p.cgroup != nil {
		_ = os.WriteFile(filepath.Join(p.cgroup.Name(), "cgroup.kill"), []byte("1"), 0)
		return
	}
	for range 20 { // until a look finds none: one may have started another meanwhile
		if !killMarked(p.marker) {
			return
		}
		time.Sleep(5 * time.Millisecond)
	}
}

// killMarked kills the processes whose environment holds the marker.
func killMarked(marker string) (found bool) {
	entries, err := os.ReadDir("/proc")
	if err != nil {
		return false
	}
	for _, e := range entries {
		pid, err := strconv.Atoi(e.Name())
		if err != nil || pid == os.Getpid() {
			continue
		}
		env, err := os.ReadFile("/proc/" + e.Name() + "/environ")
		if err == nil && bytes.Contains(append([]byte{0}, env...), []byte("\x00"+marker+"\x00")) {
			found = syscall.Kill(pid, syscall.SIGKILL) == nil || found
		}
	}
	return found
}

func (p *process) removeCgroup() {
	if p.cgroup == nil {
		return
	}
	for range 100 {
		if os.Remove(p.cgroup.Name()) == nil {
			break
		}
		time.Sleep(2 * time.Millisecond) // the killed take a moment to go
	}
	p.cgroup.Close()
}

// Sweep kills what an earlier runner that was killed has left behind: processes marked with an
// attempt whose name begins with prefix, and empty cgroups of processes that are gone.
func Sweep(prefix string) {
	entries, _ := os.ReadDir("/proc")
	for _, e := range entries {
		pid, err := strconv.Atoi(e.Name())
		if err != nil {
			continue
		}
		env, err := os.ReadFile("/proc/" + e.Name() + "/environ")
		if err == nil && bytes.Contains(append([]byte{0}, env...), []byte("\x00"+markerName+"="+prefix)) {
			_ = syscall.Kill(pid, syscall.SIGKILL)
		}
	}
	root := cgroupRoot()
	dirs, _ := filepath.Glob(filepath.Join(root, "oskeld-*-*"))
	for _, dir := range dirs {
		pid, _, _ := strings.Cut(strings.TrimPrefix(filepath.Base(dir), "oskeld-"), "-")
		if _, err := os.Stat("/proc/" + pid); root != "" && err != nil {
			_ = os.WriteFile(filepath.Join(dir, "cgroup.kill"), []byte("1"), 0)
			os.Remove(dir)
		}
	}
}
