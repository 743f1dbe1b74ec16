package runner

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"
)

func alive(pid int) bool {
	stat, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	return err == nil && !strings.Contains(string(stat), ") Z ")
}

func readPid(t *testing.T, file string) int {
	t.Helper()
	for end := time.Now().Add(10 * time.Second); time.Now().Before(end); time.Sleep(10 * time.Millisecond) {
		text, err := os.ReadFile(file)
		if pid, convErr := strconv.Atoi(strings.TrimSpace(string(text))); err == nil && convErr == nil {
			return pid
		}
	}
	t.Fatal("no process id was written")
	return 0
}

func awaitGone(t *testing.T, pid int) {
	t.Helper()
	for end := time.Now().Add(10 * time.Second); alive(pid); time.Sleep(10 * time.Millisecond) {
		if time.Now().After(end) {
			t.Fatalf("process %d still runs", pid)
		}
	}
}

// A daemon that fled into a session of its own ends with its step, and its hold on the pipe does
// not keep the step waiting.
func TestDaemonEndsWithItsStep(t *testing.T) {
	pidFile := filepath.Join(t.TempDir(), "pid")
	var out, errs bytes.Buffer
	began := time.Now()
	p, err := begin(exec.Command("sh", "-c", "setsid sh -c 'echo $$ > "+pidFile+"; exec sleep 600' & while [ ! -s "+pidFile+" ]; do sleep 0.01; done; echo out; echo err >&2"), "test-daemon", &out, &errs)
	if err != nil {
		t.Fatal(err)
	}
	if err := p.wait(t.Context()); err != nil {
		t.Error(err)
	}
	if time.Since(began) > 10*time.Second {
		t.Error("the daemon kept the step waiting")
	}
	if out.String() != "out\n" || errs.String() != "err\n" {
		t.Errorf("%q %q", out.String(), errs.String())
	}
	awaitGone(t, readPid(t, pidFile))
	if p.group.cgroup != nil {
		if _, err := os.Stat(p.group.cgroup.Name()); err == nil {
			t.Error("the cgroup stays behind")
		}
	}
}

// Where there is no cgroup, what fled is found by the marker in its environment.
func TestDaemonIsFoundByItsMarker(t *testing.T) {
	pidFile := filepath.Join(t.TempDir(), "pid")
	cmd := exec.Command("sh", "-c", "setsid sh -c 'echo $$ > "+pidFile+"; exec sleep 600' &")
	cmd.Env = append(os.Environ(), markerName+"=test-marker-7")
	if err := cmd.Run(); err != nil {
		t.Fatal(err)
	}
	pid := readPid(t, pidFile)
	if killMarked(markerName + "=test-marker" + "\x00") {
		t.Error("a marker that only begins alike was taken")
	}
	if !killMarked(markerName + "=test-marker-7" + "\x00") {
		t.Error("nothing was found")
	}
	awaitGone(t, pid)
}

// After a kill of the agent, its next start ends what was left.
func TestSweep(t *testing.T) {
	pidFile := filepath.Join(t.TempDir(), "pid")
	cmd := exec.Command("sh", "-c", "setsid sh -c 'echo $$ > "+pidFile+"; exec sleep 600' &")
	cmd.Env = append(os.Environ(), markerName+"=build-0-4")
	if err := cmd.Run(); err != nil {
		t.Fatal(err)
	}
	pid := readPid(t, pidFile)
	left := ""
	if root, _ := controllerRoot("memory"); root != "" { // where it kept limits
		left = filepath.Join(root, fmt.Sprintf("oskeld-%d-0-4", cmd.Process.Pid))
		if err := os.Mkdir(left, 0o755); err != nil {
			t.Fatal(err)
		}
	}
	Sweep("build-0-4")
	awaitGone(t, pid)
	if _, err := os.Stat(left); left != "" && err == nil {
		os.Remove(left)
		t.Errorf("%s is left", left)
	}
}

func TestStopIsGentleFirst(t *testing.T) {
	file := filepath.Join(t.TempDir(), "said")
	p, err := begin(exec.Command("sh", "-c", "trap 'echo bye > "+file+"; exit 3' TERM; echo ready; while :; do sleep 0.05; done"), "test-term", &bytes.Buffer{}, &bytes.Buffer{})
	if err != nil {
		t.Fatal(err)
	}
	ctx, cancel := context.WithTimeout(t.Context(), 300*time.Millisecond)
	defer cancel()
	err = p.wait(ctx)
	if exit, ok := errors.AsType[*exec.ExitError](err); !ok || exit.ExitCode() != 3 {
		t.Errorf("it ended with %v", err)
	}
	if text, _ := os.ReadFile(file); string(text) != "bye\n" {
		t.Error("it was not told to end first")
	}
}

func TestRemoveWithoutRights(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "tree")
	if err := os.MkdirAll(filepath.Join(dir, "a", "b"), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := errors.Join(os.WriteFile(filepath.Join(dir, "a", "b", "f"), nil, 0o444), os.Chmod(filepath.Join(dir, "a", "b"), 0o500), os.Chmod(filepath.Join(dir, "a"), 0o500)); err != nil {
		t.Fatal(err)
	}
	Remove(dir)
	if _, err := os.Stat(dir); err == nil {
		t.Error("it stays")
	}
}
