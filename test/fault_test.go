package test

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"oskeld.dev/oskeld/internal/core/progress"
)

// gate is a file that a script waits for, so that a test holds a step where it wants.
func (w *world) gate(name string) (script string, open func()) {
	path := filepath.Join(w.dir, name)
	return fmt.Sprintf("while [ ! -e %s ]; do sleep 0.05; done", path), func() {
		if err := os.WriteFile(path, nil, 0o644); err != nil {
			w.t.Fatal(err)
		}
	}
}

// An agent that is killed in mid-step: its lease runs out, the work runs again elsewhere and ends
// right; what had passed before stands.
func TestAgentKilledInMidStep(t *testing.T) {
	w := newWorld(t)
	wait, open := w.gate("go")
	w.pipeline("hivebook", fmt.Sprintf("[stage.restore]\nscript = \"echo made > made.txt\"\n[stage.compile]\nscript = \"cat made.txt; echo begun; %s; echo done\"\n[[stage.compile.artifact]]\nname = \"made\"\nfiles = [\"made.txt\"]\nstore = \"intake\"\n", wait))
	first := w.agent("barrow")
	b := w.start("hivebook", "")
	w.printed(b, 1, "begun")
	first.kill()
	w.agent("heron")
	w.until("heron has the stage", func() bool { r := w.build(b).Runs[1]; return r.Agent == "heron" && r.State == progress.Running })
	open()
	d := w.await(b)
	if d.State != progress.Passed || d.Runs[0].Agent != "barrow" || d.Runs[1].Agent != "heron" || len(d.Artifacts) != 1 || d.Artifacts[0].State != "sealed" {
		t.Fatalf("%s %s: %+v", d.State, d.Cause, d.Runs)
	}
	if got := w.lines(b, 1); strings.Join(got, " ") != "made begun done" {
		t.Errorf("the log of the hand-out that passed: %q", got)
	}
	if out := w.ok("records", fmt.Sprintf("hivebook/%d", b.Number)); strings.Count(out, "agent lost") != 1 {
		t.Errorf("records:\n%s", out)
	}
	if out := w.ok("show", fmt.Sprintf("hivebook/%d", b.Number)); !strings.Contains(out, "compile: agent barrow was lost in the middle of it") {
		t.Error(out)
	}
}

// Calls for work whose caller has gone get none: what was cut off between is not given to a ghost, and what
// was given as the wire broke is given again at once.
func TestWorkIsNotGivenToGhosts(t *testing.T) {
	w := newWorld(t)
	wire := newWire(t, strings.TrimPrefix(w.address, "http://"))
	token := strings.TrimSpace(w.ok("agent", "add", "--quiet"))
	a := begin(t, []string{"OSKELD_JOIN_TOKEN=" + token}, "agent", "run", "--sandbox", "off", "--service", wire.address, "--dir", filepath.Join(w.dir, "barrow"), "--name", "barrow", "--beat", "500ms")
	w.until("the agent is ready", func() bool { return strings.Contains(a.log.String(), "agent ready") })
	w.pipeline("hivebook", "[stage.a]\nscript = \"echo here\"\n")
	for cut := range 3 {
		wire.set(true)
		b := w.start("hivebook", "") // the service does not know yet that nobody listens
		wire.set(false)
		if d := w.await(b); d.State != progress.Passed {
			t.Fatalf("cut %d: %s %s", cut, d.State, d.Cause)
		}
	}
	if out := w.ok("records"); strings.Contains(out, "agent lost") {
		t.Errorf("an agent counts as lost that never had the work:\n%s", out)
	}
}

// A service that is killed in mid-build and started again: the build goes on, and the log has no
// hole and no doubled line.
func TestServiceKilledInMidBuild(t *testing.T) {
	w := newWorld(t)
	wait, open := w.gate("go")
	w.pipeline("hivebook", fmt.Sprintf("[stage.compile]\nscript = \"i=0; while [ $i -lt 400 ]; do echo line $i; i=$((i+1)); [ $((i %% 20)) = 0 ] && sleep 0.02; done; %s; echo end\"\n", wait))
	w.agent("barrow")
	b := w.start("hivebook", "")
	w.printed(b, 0, "line 50")
	for range 3 {
		w.service.kill()
		w.serve()
	}
	w.printed(b, 0, "line 399")
	w.service.kill()
	open() // the agent ends while no service is up
	time.Sleep(200 * time.Millisecond)
	w.serve()
	d := w.await(b)
	lines := w.lines(b, 0)
	if d.State != progress.Passed || len(lines) != 401 || lines[400] != "end" {
		t.Fatalf("%s %s with %d lines", d.State, d.Cause, len(lines))
	}
	for i := range 400 {
		if lines[i] != "line "+strconv.Itoa(i) {
			t.Fatalf("line %d says %q", i+1, lines[i])
		}
	}
	if out := w.ok("records", "hivebook/1"); strings.Contains(out, "agent lost") {
		t.Errorf("time without a service counted against the agent:\n%s", out)
	}
}

// Our own PostgreSQL killed in mid-build: the service starts it again, and the build goes on.
func TestDatabaseKilledInMidBuild(t *testing.T) {
	w := newWorld(t)
	w.service.stop()
	dir := filepath.Join(w.dir, "own")
	if err := os.Chmod(filepath.Dir(w.dir), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.Chmod(w.dir, 0o755); err != nil {
		t.Fatal(err)
	}
	w.service = begin(t, []string{"OSKELD_DATABASE=", "OSKELD_OWNER_PASSWORD=" + password}, "serve", "--dir", dir,
		"--listen", strings.TrimPrefix(w.address, "http://"), "--owner", "ida", "--lease", "3s")
	w.ready(w.service, strings.TrimPrefix(w.address, "http://"))
	w.signIn()
	w.ok("project", "add", "heath")
	wait, open := w.gate("go")
	w.pipeline("hivebook", fmt.Sprintf("[stage.compile]\nscript = \"i=0; while [ $i -lt 200 ]; do echo line $i; i=$((i+1)); sleep 0.01; done; %s; echo end\"\n", wait))
	w.agent("barrow")
	b := w.start("hivebook", "")
	w.printed(b, 0, "line 20")
	text, err := os.ReadFile(filepath.Join(dir, "postgres", "postmaster.pid"))
	if err != nil {
		t.Fatal(err)
	}
	pid, _ := strconv.Atoi(strings.SplitN(string(text), "\n", 2)[0])
	if err := syscall.Kill(pid, syscall.SIGKILL); err != nil {
		t.Fatal(err)
	}
	w.until("the database is back", func() bool { return strings.Contains(w.service.log.String(), "started again") })
	w.ready(w.service, strings.TrimPrefix(w.address, "http://"))
	open()
	d := w.await(b)
	if lines := w.lines(b, 0); d.State != progress.Passed || len(lines) != 201 {
		t.Fatalf("%s %s with %d lines", d.State, d.Cause, len(lines))
	}
}

// A stop reaches a running step, also one that ignores TERM, and nothing that it started stays.
func TestStop(t *testing.T) {
	w := newWorld(t)
	mark := filepath.Join(w.dir, "daemon.pid")
	w.pipeline("hivebook", fmt.Sprintf(`
[stage.compile]
script = """
trap '' TERM
(trap '' TERM; exec setsid sleep 600) >/dev/null 2>&1 &
echo $! > %s
echo begun
while :; do sleep 0.1; done
"""
[stage.package]
duty = "none"
script = "echo never"
`, mark))
	w.agent("barrow")
	b := w.start("hivebook", "")
	w.printed(b, 0, "begun")
	began := time.Now()
	w.ok("stop", "hivebook/1")
	d := w.await(b)
	if d.State != progress.Stopped || d.Cause != "stopped by ida" || d.Runs[0].State != progress.Stopped {
		t.Errorf("%s %q: %+v", d.State, d.Cause, d.Runs)
	}
	if took := time.Since(began); took > 15*time.Second {
		t.Errorf("it took %s", took)
	}
	w.gone(mark)
	w.refused(4, "has ended already", "stop", "hivebook/1")
}

// gone fails when the process whose id stands in a file still runs.
func (w *world) gone(file string) {
	w.t.Helper()
	text, err := os.ReadFile(file)
	if err != nil {
		w.t.Fatal(err)
	}
	pid, _ := strconv.Atoi(strings.TrimSpace(string(text)))
	if pid < 2 {
		w.t.Fatalf("no process id in %q", text)
	}
	w.until("the process has gone", func() bool {
		state, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
		return err != nil || strings.Contains(string(state), ") Z ")
	})
}

// What scripts do to those who run them.
func TestScripts(t *testing.T) {
	w := newWorld(t)
	w.agent("barrow")
	daemon := filepath.Join(w.dir, "daemon.pid")
	cases := []struct {
		name, stages string
		state        progress.State
		cause        string // begins so
		check        func(lines []string) error
	}{
		{"fifty-megabytes", "[stage.a]\nscript = \"yes 'the heath is wide and the bees are many' | head -c 52428800\"\n", progress.Passed, "", func(lines []string) error {
			if n := 52428800 / 40; len(lines) != n {
				return fmt.Errorf("%d lines, want %d", len(lines), n)
			}
			return nil
		}},
		{"no-newline", "[stage.a]\nscript = \"printf abc; printf def >&2\"\n", progress.Passed, "", wants("abc", "def")},
		{"invalid-utf-8", "[stage.a]\nscript = 'printf \"a\\377b\\n\"'\n", progress.Passed, "", wants("a\uFFFDb")},
		{"carriage-returns", "[stage.a]\nscript = 'printf \"10%%\\r20%%\\r\\n\"'\n", progress.Passed, "", wants("20%")},
		{"daemon", "[stage.a]\nscript = \"setsid sleep 600 & echo $! > " + daemon + "; echo left\"\n", progress.Passed, "", wants("left")},
		{"exit", "[stage.a]\nscript = \"exit 3\"\n", progress.Failed, `a: step "exit 3": exit 3`, nil},
		{"unset-variable", "[stage.a]\nscript = \"echo $NOT_THERE\"\n", progress.Failed, `a: step "echo $NOT_THERE": exit 2`, nil},
		{"killed", "[stage.a]\nscript = \"kill -9 $$\"\n", progress.Failed, `a: step "kill -9 $$": signal: killed`, nil},
		{"limit", "[stage.a]\nlimit = \"300ms\"\nscript = \"echo x; sleep 60\"\n", progress.Failed, "a: time limit of 300ms", nil},
		{"step-limit", "[[stage.a.step]]\nlimit = \"300ms\"\nname = \"slow\"\nscript = \"sleep 60\"\n[[stage.a.step]]\nscript = \"echo never\"\n", progress.Failed, `a: step "slow": time limit of 300ms`, nil},
		{"skipped-step", "[[stage.a.step]]\nwhen = \"source.branch == 'other'\"\nscript = \"exit 1\"\n[[stage.a.step]]\nscript = \"echo ran\"\n", progress.Passed, "", wants("ran")},
		{"no-directory", "[stage.a]\nin = \"nowhere\"\nscript = \"true\"\n", progress.Failed, `a: step "true": there is no directory "nowhere"`, nil},
		{"nothing-matches", "[stage.a]\nscript = \"mkdir dist; touch dist/hivebook.zip\"\n[[stage.a.artifact]]\nname = \"x\"\nroot = \"dist\"\nfiles = [\"*.zp\"]\nstore = \"intake\"\n", progress.Failed,
			`a: artifact "x": nothing in dist matches *.zp; nearest there: hivebook.zip`, nil},
		{"no-root", "[stage.a]\nscript = \"true\"\n[[stage.a.artifact]]\nname = \"y\"\nroot = \"out\"\nstore = \"intake\"\n", progress.Failed, `a: artifact "y": there is no directory out`, nil},
		{"no-report", "[stage.test]\nread = { tests = [\"*.xml\"] }\nscript = \"touch report.txt\"\n", progress.Failed, "test: duty not met: a test stage reads tests, and no report was found: nothing in the workspace matches *.xml", nil},
		{"broken-report", "[stage.test]\nread = { tests = [\"*.xml\"] }\nscript = \"echo '<testsuite>' > r.xml\"\n", progress.Failed, "test: test report r.xml: the XML breaks off", nil},
		{"soft-duty", "[stage.test]\nduty = \"warn\"\nscript = \"true\"\n", progress.Passed, "", nil},
		{"links-stay-inside", "[stage.a]\nscript = \"mkdir out; ln -s /etc/passwd out/p\"\n[[stage.a.artifact]]\nname = \"z\"\nroot = \"out\"\nstore = \"intake\"\n", progress.Failed, "a: p: ", nil},
		{"clean-environment", "[stage.a]\nscript = \"env | cut -d= -f1 | sort | grep -c OSKELD_JOIN || true; ls -a $HOME | wc -l\"\n", progress.Passed, "", wants("0", "2")},
	}
	var builds []func()
	for _, c := range cases {
		w.pipeline(c.name, c.stages)
		b := w.start(c.name, "")
		builds = append(builds, func() {
			d := w.await(b)
			if d.State != c.state || !strings.HasPrefix(d.Cause, c.cause) {
				t.Errorf("%s: %s %q, want %s %q", c.name, d.State, d.Cause, c.state, c.cause)
			}
			if c.check != nil {
				if err := c.check(w.lines(b, 0)); err != nil {
					t.Errorf("%s: %v", c.name, err)
				}
			}
		})
	}
	for _, check := range builds {
		check()
	}
	w.gone(daemon)
	left, err := exec.Command("pgrep", "-f", w.dir+"/barrow/work").CombinedOutput()
	if err == nil {
		t.Errorf("processes are left: %s", left)
	}
	w.until("workspaces are removed", func() bool {
		entries, _ := os.ReadDir(filepath.Join(w.dir, "barrow", "work"))
		return len(entries) == 0
	})
}

func wants(lines ...string) func([]string) error {
	return func(got []string) error {
		for _, want := range lines {
			found := false
			for _, l := range got {
				found = found || strings.TrimSpace(l) == want
			}
			if !found {
				return fmt.Errorf("no line %q in %q", want, got)
			}
		}
		return nil
	}
}

// A start whose demands only an absent agent meets waits, and says for what.
func TestWaitsForAgent(t *testing.T) {
	w := newWorld(t)
	p := w.agent("barrow", "--fact", "scale=yes")
	w.pipeline("hivebook", "[stage.a]\nfacts = { scale = \"yes\" }\nscript = \"true\"\n")
	p.stop()
	b := w.start("hivebook", "")
	if wants := w.build(b).Runs[0].Wants; !strings.Contains(wants, "barrow") {
		t.Errorf("it waits for %q", wants)
	}
	begin(t, nil, "agent", "run", "--sandbox", "off", "--service", w.address, "--dir", filepath.Join(w.dir, "barrow"), "--fact", "scale=yes")
	if d := w.await(b); d.State != progress.Passed {
		t.Error(d.Cause)
	}
}
