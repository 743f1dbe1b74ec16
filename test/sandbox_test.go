package test

import (
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"oskeld.dev/oskeld/internal/core/progress"
)

// Steps that are shut in write into their workspace alone, and see neither the agent's token nor other builds.
func TestSandbox(t *testing.T) {
	w := newWorld(t)
	shared := filepath.Join(w.dir, "shared")
	if err := os.Mkdir(shared, 0o777); err != nil {
		t.Fatal(err)
	}
	w.agent("barrow", "--sandbox", "auto", "--sandbox-write", shared)
	w.pipeline("hivebook", `
[stage.make]
script = """
touch `+w.dir+`/was-here
for place in /etc/oskeld-was-here /usr/bin/was-here; do if touch $place 2>/dev/null; then echo wrote $place; exit 1; fi; done
if cat `+w.dir+`/barrow/agent.json 2>/dev/null; then exit 1; fi
ls `+w.dir+`/barrow/work | wc -l
echo mine > /tmp/mine; echo more > "$TMPDIR/more"; echo x > made.txt; git log --oneline | wc -l
echo kept > `+shared+`/kept; oskeld --version > /dev/null; (setsid sleep 300 &)
"""
[stage.deny]
after = ["make"]
script = "test ! -e /tmp/mine; grep CapEff /proc/self/status"
[stage.asks]
after = []
facts = { sandbox = "auto" }
script = "true"
`)
	b := w.start("hivebook", "")
	if d := w.await(b); d.State != progress.Passed {
		t.Fatalf("%s\n%s", d.Cause, w.said(b, 0))
	}
	if said := w.said(b, 1); !strings.Contains(said, "0000000000000000") {
		t.Error(said)
	}
	if text, err := os.ReadFile(filepath.Join(shared, "kept")); err != nil || string(text) != "kept\n" {
		t.Errorf("%q %v", text, err)
	}
	for _, place := range []string{"/tmp/mine", filepath.Join(w.dir, "was-here")} {
		if _, err := os.Stat(place); err == nil {
			t.Error("a step wrote ", place)
		}
	}
}

// A stop gives what runs in the sandbox its grace; strict takes the network away; limits hold.
func TestSandboxStrict(t *testing.T) {
	w := newWorld(t)
	w.agent("barrow", "--sandbox", "strict", "--step-memory", "200MiB")
	w.pipeline("hivebook", `
[stage.make]
script = """
trap 'echo asked to end; exit 9' TERM
if oskeld whoami 2>&1; then exit 1; fi
echo waiting; while :; do sleep 0.1; done
"""
`)
	w.pipeline("smoker", "[stage.burn]\nshell = [\"python3\"]\nscript = \"\"\"\nx = bytearray(100 << 20)\nprint('small', flush=True)\ny = bytearray(400 << 20)\nprint('large')\n\"\"\"\n")
	b := w.start("hivebook", "")
	w.until("it runs", func() bool { return strings.Contains(w.said(b, 0), "waiting") })
	w.ok("stop", "hivebook/1")
	if d := w.await(b); d.State != progress.Stopped || !strings.Contains(w.said(b, 0), "asked to end") {
		t.Errorf("%s %s\n%s", d.State, d.Cause, w.said(b, 0))
	}
	burn := w.start("smoker", "")
	if d := w.await(burn); d.State != progress.Failed || !strings.Contains(w.said(burn, 0), "small") || strings.Contains(w.said(burn, 0), "large") {
		t.Errorf("%s %s\n%s", d.State, d.Cause, w.said(burn, 0))
	}
	began := time.Now()
	p := begin(t, nil, "agent", "run", "--service", w.address, "--dir", filepath.Join(w.dir, "x"), "--sandbox", "loose")
	<-p.ended
	if !strings.Contains(p.log.String(), `"loose" is no kind of sandbox`) || time.Since(began) > time.Minute {
		t.Error(p.log.String())
	}
}

// An agent of an ordinary user shuts its steps in as well, keeps limits, and leaves no process behind.
func TestSandboxOfOrdinaryUser(t *testing.T) {
	if os.Getuid() != 0 {
		t.Skip("only root can start an agent as somebody else; the other tests run as this ordinary user")
	}
	const nobody = 65534
	w := newWorld(t)
	home, err := os.MkdirTemp("", "oskeld-ordinary-")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(home) })
	own := filepath.Join(home, "oskeld")
	text, err := os.ReadFile(program)
	if err := errors.Join(err, os.WriteFile(own, text, 0o755), os.Chown(home, nobody, nobody)); err != nil {
		t.Fatal(err)
	}
	r := w.repo("hivebook")
	r.commit("Begin", map[string]string{"oskeld.toml": `pipeline = "hivebook"
[stage.make]
script = """
id -u; ls -d ` + home + `/agent/* | wc -l; grep CapEff /proc/self/status
touch ` + home + `/was-here # its own home is hidden: this goes nowhere
for place in /tmp/../var/tmp/was-here /etc/was-here; do if touch $place 2>/dev/null; then echo wrote $place; exit 1; fi; done
if cat ` + home + `/agent/agent.json 2>/dev/null; then exit 1; fi
echo here > /tmp/mine; (setsid sh -c 'while :; do sleep 0.1; done' &)
"""
[stage.burn]
after = []
shell = ["python3"]
script = """
x = bytearray(50 << 20)
print('small', flush=True)
y = bytearray(400 << 20)
print('large')
"""
`})
	address := gitServer(t, filepath.Join(w.dir, "sources"), "reader", "pass-w0rd-of-git") + "/hivebook/.git"
	if out, code := w.run("pass-w0rd-of-git\n", "source", "add", "hivebook", address, "--project", "heath", "--user", "reader", "--password-stdin"); code != 0 {
		t.Fatal(out)
	}
	w.ok("pipeline", "add", "hivebook", "--source", "hivebook")
	token := strings.TrimSpace(w.ok("agent", "add", "--quiet"))
	a := beginProgram(t, "setpriv", []string{"OSKELD_JOIN_TOKEN=" + token, "HOME=" + home}, "--reuid=65534", "--regid=65534", "--clear-groups",
		own, "agent", "run", "--service", w.address, "--dir", filepath.Join(home, "agent"), "--name", "barrow", "--sandbox", "strict", "--step-memory", "300MiB")
	w.until("the agent has joined", func() bool { return strings.Contains(a.log.String(), "agent ready") })
	b := w.start("hivebook", "")
	d := w.await(b)
	if said := w.said(b, 0); d.Runs[0].State != progress.Passed || !strings.Contains(said, "65534") || !strings.Contains(said, "0000000000000000") {
		t.Errorf("%s %s\n%s", d.Runs[0].State, d.Runs[0].Cause, said)
	}
	if said := w.said(b, 1); d.Runs[1].State != progress.Failed || !strings.Contains(said, "small") || strings.Contains(said, "large") {
		t.Errorf("%s %s\n%s", d.Runs[1].State, d.Runs[1].Cause, said)
	}
	if _, err := os.Stat(filepath.Join(home, "was-here")); err == nil {
		t.Error("a step wrote into the agent's home")
	}
	a.stop()
	if left, err := exec.Command("pgrep", "-u", "65534", "-f", "sleep 0.1").Output(); err == nil {
		t.Errorf("left behind: %s", left)
	}
	if left, err := os.ReadDir(filepath.Join(home, "agent", "work")); err != nil || len(left) > 0 {
		t.Errorf("workspaces left: %v %v", left, err)
	}
}
