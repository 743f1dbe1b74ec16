package runner

import (
	"bytes"
	"errors"
	"io/fs"
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

// group is a command with everything it starts: a process group and, where we may make one, a cgroup.
type group struct {
	pid    int
	cgroup *os.File // nil where there is none
	marker string   // stands in the environment of all that the command starts
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

// newGroup readies a command that is to start in a group of its own.
func newGroup(cmd *exec.Cmd, marker string) *group {
	g := &group{marker: markerName + "=" + marker}
	cmd.Env = append(cmd.Env, g.marker)
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	root := cgroupRoot()
	if root == "" {
		return g
	}
	dir := filepath.Join(root, "oskeld-"+strconv.Itoa(os.Getpid())+"-"+strconv.FormatInt(cgroupCount.Add(1), 10))
	if os.Mkdir(dir, 0o755) == nil {
		if f, err := os.Open(dir); err == nil {
			g.cgroup = f
			cmd.SysProcAttr.UseCgroupFD, cmd.SysProcAttr.CgroupFD = true, int(f.Fd())
		}
	}
	return g
}

func (g *group) began(p *os.Process) error {
	g.pid = p.Pid
	return nil
}

// end asks the processes to end. A sandbox is not asked, for with it all that is in it would be killed at once.
func (g *group) end() {
	if nameOf(g.pid) != bubblewrap {
		_ = syscall.Kill(-g.pid, syscall.SIGTERM)
		return
	}
	eachMarked(g.marker+"\x00", func(pid int) {
		if nameOf(pid) != bubblewrap {
			_ = syscall.Kill(pid, syscall.SIGTERM)
		}
	})
}

// nameOf is the name of the program that a process runs.
func nameOf(pid int) string {
	comm, _ := os.ReadFile("/proc/" + strconv.Itoa(pid) + "/comm")
	return strings.TrimSpace(string(comm))
}

// kill ends everything that the command started and that still runs.
func (g *group) kill() {
	_ = syscall.Kill(-g.pid, syscall.SIGKILL)
	if g.cgroup != nil {
		_ = os.WriteFile(filepath.Join(g.cgroup.Name(), "cgroup.kill"), []byte("1"), 0)
		return
	}
	for range 20 { // until a look finds none: one may have started another meanwhile
		if !killMarked(g.marker + "\x00") {
			return
		}
		time.Sleep(5 * time.Millisecond)
	}
}

// killMarked kills the processes in whose environment a variable begins with the marker.
func killMarked(marker string) (found bool) {
	eachMarked(marker, func(pid int) { found = syscall.Kill(pid, syscall.SIGKILL) == nil || found })
	return found
}

// eachMarked calls f with the processes in whose environment a variable begins with the marker.
func eachMarked(marker string, f func(pid int)) {
	entries, err := os.ReadDir("/proc")
	if err != nil {
		return
	}
	for _, e := range entries {
		pid, err := strconv.Atoi(e.Name())
		if err != nil || pid == os.Getpid() {
			continue
		}
		env, err := os.ReadFile("/proc/" + e.Name() + "/environ")
		if err == nil && bytes.Contains(append([]byte{0}, env...), []byte("\x00"+marker)) {
			f(pid)
		}
	}
}

// close lets the group go once nothing runs in it.
func (g *group) close() {
	if g.cgroup == nil {
		return
	}
	removeGroup(g.cgroup.Name())
	g.cgroup.Close()
}

// Sweep kills what an earlier runner that was killed has left behind: processes marked with an
// attempt whose name begins with prefix, and the cgroups of runners that are gone, also those that kept limits.
func Sweep(prefix string) {
	killMarked(markerName + "=" + prefix)
	memory, _ := controllerRoot("memory")
	pids, _ := controllerRoot("pids")
	for _, root := range []string{cgroupRoot(), memory, pids} {
		if root == "" {
			continue
		}
		dirs, _ := filepath.Glob(filepath.Join(root, "oskeld-*-*"))
		for _, dir := range dirs {
			pid, _, _ := strings.Cut(strings.TrimPrefix(filepath.Base(dir), "oskeld-"), "-")
			if _, err := os.Stat("/proc/" + pid); err != nil {
				_ = os.WriteFile(filepath.Join(dir, "cgroup.kill"), []byte("1"), 0)
				removeGroup(dir)
			}
		}
	}
}

// removeGroup removes a cgroup once nothing runs in it: the killed take a moment to go.
func removeGroup(dir string) {
	for range 100 {
		if err := os.Remove(dir); err == nil || errors.Is(err, fs.ErrNotExist) {
			return
		}
		time.Sleep(2 * time.Millisecond)
	}
}
