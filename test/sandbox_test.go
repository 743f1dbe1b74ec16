package test

import (
	"os"
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
