package runner

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"

	"oskeld.dev/oskeld/internal/core/fault"
)

// bubblewrap makes the sandbox, with namespaces of the kernel.
const bubblewrap = "bwrap"

// Ready finds out whether the sandbox and the limits work here. Under auto a machine without goes on
// without; limits that cannot be kept are an error in any mode.
func (b Sandbox) Ready(ctx context.Context) (Sandbox, error) {
	if b.Mode != SandboxOff && b.Mode != "" {
		out, err := exec.CommandContext(ctx, bubblewrap, append(walls(nil), "true")...).CombinedOutput()
		if b.on = err == nil; err != nil && b.Mode == SandboxStrict {
			said := strings.TrimSpace(string(out))
			if said == "" {
				said = err.Error()
			}
			return b, fault.Unavailable("steps cannot be shut in here: %s", said).
				Hint("apt-get install bubblewrap, and let users make namespaces; or start the agent with --sandbox auto")
		}
	}
	if b.Processes > 0 && os.Geteuid() == 0 && !mayLimit("pids") {
		return b, fault.Unavailable("the processes of a step cannot be limited here: there is no cgroup with the controller \"pids\" to make groups in").
			Hint("run the agent as a user of its own, or leave --step-processes out")
	}
	for _, dir := range b.Write {
		if info, err := os.Stat(dir); err != nil || !info.IsDir() || !filepath.IsAbs(dir) {
			return b, fault.Invalid("%q is no directory that steps could write into", dir).On("sandbox-write").Hint("name one that is there, from the root on")
		}
	}
	return b, nil
}

// walls are bubblewrap's arguments for a view of the machine that can only be read.
func walls(more []string) []string {
	args := []string{"--ro-bind", "/", "/", "--dev", "/dev", "--proc", "/proc", "--tmpfs", "/tmp", "--tmpfs", "/dev/shm",
		"--unshare-pid", "--unshare-ipc", "--die-with-parent", "--cap-drop", "ALL"}
	return append(args, more...)
}

// shutIn puts a step's command into the sandbox and under its limits.
func (s *stageRun) shutIn(argv []string) ([]string, error) {
	b := s.Box
	if b.on {
		var more []string
		if b.Mode == SandboxStrict {
			if !b.Network {
				more = append(more, "--unshare-net")
			}
			if home, err := os.UserHomeDir(); err == nil && home != "/" {
				more = append(more, "--tmpfs", home)
			}
		}
		// The machine's directory holds its token and other builds: steps see their own workspace of it, the
		// copy of their source, with which their checkout shares its objects, and their tools.
		more = append(more, "--tmpfs", s.Dir)
		for _, dir := range append([]string{s.sourceDir(s.a.Source.URL), s.Program}, s.toolRoots()...) {
			more = append(more, "--ro-bind-try", dir, dir)
		}
		more = append(more, "--bind", s.root, s.root)
		for _, dir := range b.Write {
			more = append(more, "--bind", dir, dir)
		}
		argv = append(append([]string{bubblewrap}, walls(more)...), append([]string{"--"}, argv...)...)
	}
	return b.limited(argv, fmt.Sprintf("oskeld-%d-%d-%d", os.Getpid(), s.Index, s.a.Fence), &s.limits)
}

// limited lets a command run under the limits: in cgroups where we may make some, else by the limits of
// each process.
func (b Sandbox) limited(argv []string, name string, made *[]string) ([]string, error) {
	var procs, limits []string
	for _, l := range []struct {
		controller, file, old, option string
		most                          int64
	}{{"memory", "memory.max", "memory.limit_in_bytes", "--data", b.Memory}, {"pids", "pids.max", "pids.max", "--nproc", int64(b.Processes)}} {
		if l.most == 0 {
			continue
		}
		root, old := controllerRoot(l.controller)
		if root == "" {
			limits = append(limits, l.option+"="+strconv.FormatInt(l.most, 10))
			continue
		}
		dir := filepath.Join(root, name)
		if err := os.Mkdir(dir, 0o755); err != nil && !os.IsExist(err) {
			return nil, err
		}
		*made = append(*made, dir)
		file := l.file
		if old {
			file = l.old
		}
		if err := os.WriteFile(filepath.Join(dir, file), []byte(strconv.FormatInt(l.most, 10)), 0); err != nil {
			return nil, err
		}
		procs = append(procs, filepath.Join(dir, "cgroup.procs"))
	}
	if len(limits) > 0 {
		argv = append(append([]string{"prlimit"}, limits...), append([]string{"--"}, argv...)...)
	}
	if len(procs) > 0 { // a shell enters the groups before it becomes the command
		enter := `while [ "$1" != -- ]; do echo $$ > "$1" || exit 125; shift; done; shift; exec "$@"`
		argv = append(append([]string{"/bin/sh", "-c", enter, "sh"}, append(procs, "--")...), argv...)
	}
	return argv, nil
}

// mayLimit tells whether we may make cgroups of a controller.
func mayLimit(controller string) bool {
	root, _ := controllerRoot(controller)
	return root != ""
}

// controllerRoot is where cgroups with a controller can be made: in the hierarchy that all share, or in the
// old one of its own; "" for nowhere.
func controllerRoot(controller string) (root string, old bool) {
	for _, at := range []struct {
		root string
		old  bool
	}{{"/sys/fs/cgroup", false}, {"/sys/fs/cgroup/" + controller, true}} {
		if !at.old {
			text, err := os.ReadFile(filepath.Join(at.root, "cgroup.subtree_control"))
			if err != nil || !strings.Contains(" "+strings.TrimSpace(string(text))+" ", " "+controller+" ") {
				continue
			}
		}
		probe, err := os.MkdirTemp(at.root, "oskeld-probe-")
		if err == nil {
			os.Remove(probe)
			return at.root, at.old
		}
	}
	return "", false
}
