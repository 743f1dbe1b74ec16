package test

import (
	"encoding/json"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"oskeld.dev/oskeld/internal/core/progress"
)

const routineFile = `routine = "label"
[ask.colour]
pick = ["plain", "red"]
[[step]]
name   = "paint"
script = "echo painted $ASK_COLOUR for $OSKELD_VERSION"
when   = "ask.colour == 'red'"
`

// What the language can say runs on agents as well: variants, asks, stamps, exports, late conditions,
// routines, fetched artifacts, forgiven steps and what always runs.
func TestWholeLanguage(t *testing.T) {
	w := newWorld(t)
	w.agent("barrow", "--places", "3")
	file := filepath.Join(w.dir, "routine.toml")
	if err := os.WriteFile(file, []byte(routineFile), 0o644); err != nil {
		t.Fatal(err)
	}
	w.ok("deliver", "intake/label@1.2.0", file)
	honey := filepath.Join(w.dir, "honey.txt")
	if err := os.WriteFile(honey, []byte("clear\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	for _, version := range []string{"1.3.0", "1.3.9", "2.0.0", "1.3.10-rc.1"} {
		w.ok("deliver", "intake/honey@"+version, honey)
	}
	p := w.pipeline("hive", `
[ask.mode]
pick = ["small", "fast"]
[stage.make]
vary = { os = ["linux", "windows"] }
facts = { os = "linux" }
exports = ["SIZE"]
carry = ["out/**"]
[[stage.make.step]]
stamp = { file = "about.txt", from = "about.in" }
[[stage.make.step]]
script = "mkdir -p out; cp about.txt out/$VARY_OS.txt; echo $VARY_OS-$ASK_MODE > $OSKELD_EXPORTS/SIZE"
[[stage.make.step]]
script = "exit 3"
forgive = true
[[stage.make.step]]
fetch = { artifact = "intake/honey@^1.3", into = "lib" }
[stage.look]
after = ["make"]
when = "exports.SIZE['windows'] == 'windows-fast'"
[[stage.look.step]]
script = "cat out/linux.txt out/windows.txt; echo $SIZE_linux"
[[stage.look.step]]
routine = { use = "intake/label@1.2.0", ask = { colour = "red" } }
[[stage.look.artifact]]
name = "made-{ask.mode}"
root = "out"
pack = "tar.zst"
file = "made-{version}.tar.zst"
store = "intake"
[stage.tidy]
after = ["look"]
run = "always"
when = "stages.look.state == 'skipped'"
script = "echo nothing was made"
`)
	p.commit("Stamp", map[string]string{"about.in": "{version} {vary.os} {ask.mode}\n{changes}\n"})
	out := w.ok("start", "hive", "--ask", "mode=fast", "--follow")
	for _, want := range []string{"make windows │ stamped about.txt with version 0.0.1-main.1", "fetched honey.txt from intake/honey@1.3.9", "look │ 0.0.1-main.1 windows fast", "look │ - Stamp (",
		"look │ linux-fast", "look │ painted red for 0.0.1-main.1", `note on make linux: step "exit 3" failed and is forgiven: exit 3`, "tidy: when stages.look.state == 'skipped' is false"} {
		if !strings.Contains(out, want) {
			t.Errorf("%q was not said:\n%s", want, out)
		}
	}
	out = w.ok("show", "hive/1")
	for _, want := range []string{`asks mode "fast"`, "SIZE = windows-fast  make windows", "intake/honey@1.3.9#honey.txt", "make linux"} {
		if !strings.Contains(out, want) {
			t.Errorf("%q is not shown:\n%s", want, out)
		}
	}
	w.ok("fetch", "intake/made-fast@0.0.1-main.1", "--into", filepath.Join(w.dir, "got"))
	out = w.ok("start", "hive", "--follow")
	if !strings.Contains(out, "look: when exports.SIZE['windows'] == 'windows-fast' is false") || !strings.Contains(out, "nothing was made") {
		t.Error(out)
	}
	w.refused(2, `"slow" cannot be picked for ask "mode"`, "start", "hive", "--ask", "mode=slow")
	w.refused(2, `there is no ask "mood"`, "start", "hive", "--ask", "mood=fast")
	if out := w.ok("fetch", "intake/honey@>=1, <2", "--into", filepath.Join(w.dir, "range")); !strings.Contains(out, "honey.txt") {
		t.Error(out)
	}
	w.refused(3, "no version of intake/honey fits ^7", "fetch", "intake/honey@^7")
}

// A variant's failure stops the others on their agents, and a stop lets pass what always runs.
func TestHaltAndStop(t *testing.T) {
	w := newWorld(t)
	w.agent("barrow", "--places", "2")
	mark := filepath.Join(w.dir, "mark")
	w.pipeline("hive", `
[stage.pair]
vary = { n = ["fails", "waits"] }
script = "if test $VARY_N = fails; then while ! test -e `+mark+`; do sleep 0.02; done; exit 7; fi; touch `+mark+`; sleep 60"
[stage.tidy]
after = ["pair"]
run = "always"
script = "echo tidied"
`)
	d := w.await(w.start("hive", ""))
	if d.State != progress.Failed || d.Runs[1].State != progress.Stopped || d.Runs[1].Cause != "variant failed: pair fails" || d.Runs[2].State != progress.Passed {
		t.Errorf("%s: %+v", d.State, d.Runs)
	}
	w.pipeline("comb", `
[stage.long]
script = "echo begun; sleep 60"
[stage.tidy]
run = "always"
script = "echo tidied"
`)
	b := w.start("comb", "")
	w.printed(b, 0, "begun")
	w.ok("stop", "comb/1")
	if d := w.await(b); d.State != progress.Stopped || d.Runs[0].State != progress.Stopped || d.Runs[1].State != progress.Passed {
		t.Errorf("%s: %+v", d.State, d.Runs)
	}
}

// check --against tells in one go what would refuse the build.
func TestCheckAgainst(t *testing.T) {
	w := newWorld(t)
	w.agent("barrow")
	p := w.pipeline("hive", "[stage.a]\nscript = \"true\"\n[[stage.a.artifact]]\nname = \"hive\"\nfiles = [\"oskeld.toml\"]\nstore = \"intake\"\n")
	p.git("tag", "v1.0.0")
	if d := w.await(w.start("hive", "v1.0.0")); d.State != progress.Passed {
		t.Fatal(d.Cause)
	}
	file := filepath.Join(w.dir, "oskeld.toml")
	write := func(text string) {
		if err := os.WriteFile(file, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	write(`pipeline = "hive"
secrets = ["KEY"]
[[start]]
after = "nectar"
[stage.a]
facts = { go = ">=99" }
secrets = ["KEY"]
[[stage.a.step]]
routine = { use = "intake/label@1.2.0" }
[[stage.a.step]]
fetch = { artifact = "intake/honey@^1", into = "lib" }
[[stage.a.step]]
send = { artifact = "hive", to = "market" }
[[stage.a.artifact]]
name = "hive"
store = "intaek"
`)
	out, code := w.run("", "check", "--against", file)
	for _, want := range []string{"2:12: error S201: project heath has no secret \"KEY\"", "4:9: error S207: there is no pipeline \"nectar\"", "6:1: error S203: no agent can run stage \"a\": it needs go >=99; the nearest, barrow",
		"9:19: error S204: routine intake/label@1.2.0 cannot be had", "11:22: error S206: no version of intake/honey fits ^1", "13:34: error S207: there is no outlet \"market\"", "16:9: error S202: project heath has no store \"intaek\"", "did you mean \"intake\"?", "7 errors"} {
		if code != 1 || !strings.Contains(out, want) {
			t.Errorf("exit %d, %q was not said:\n%s", code, want, out)
		}
	}
	write("pipeline = \"hive\"\n[stage.a]\nscript = \"true\"\n[[stage.a.artifact]]\nname = \"hive\"\nfiles = [\"other\"]\nstore = \"intake\"\n")
	w.ok("check", "--against", file)
	p.commit("Another", map[string]string{"other": "x"})
	p.git("tag", "-f", "v1.0.0")
	if out, code := w.run("", "check", "--against", "--ref", "v1.0.0", file); code != 1 || !strings.Contains(out, "error S205: version 1.0.0 of hive in store intake is taken: build hive/1 made it") {
		t.Errorf("exit %d\n%s", code, out)
	}
	write("pipeline = \"comb\"\n[stage.a]\nscript = \"true\"\n")
	w.refused(3, "this service has no pipeline \"comb\"", "check", "--against", file)
	w.ok("check", "--against", "--project", "heath", file)
	out = w.ok("version", "--against", "--file", p.dir)
	if !strings.HasPrefix(out, "1.0.1-main.2\n") {
		t.Error(out)
	}
}

// The schema is there for editors without a token, and the file is shown with all that it says.
func TestPublishedFile(t *testing.T) {
	w := newWorld(t)
	response, err := http.Get(w.address + "/api/v1/schema")
	if err != nil {
		t.Fatal(err)
	}
	defer response.Body.Close()
	var schema struct {
		ID         string         `json:"$id"`
		Properties map[string]any `json:"properties"`
	}
	if err := json.NewDecoder(response.Body).Decode(&schema); err != nil || schema.ID == "" || schema.Properties["stage"] == nil {
		t.Errorf("%+v, %v", schema, err)
	}
	w.pipeline("hive", "[ask.deep]\nflag = true\n[[start]]\nclock = \"30 5 * * *\"\nzone = \"Europe/Oslo\"\n[stage.a]\nscript = \"true\"\n")
	r, body := w.ask("GET", "/api/v1/pipelines/hive/file", nil, nil)
	for _, want := range []string{`"says":"the clock, 30 5 * * * in Europe/Oslo, on the default branch"`, `"next":["`, `"kind":"flag"`, `"chains":["a (any agent)"]`, `"diagnostics":[]`} {
		if r.StatusCode != 200 || !strings.Contains(string(body), want) {
			t.Errorf("%d: %q does not stand in\n%s", r.StatusCode, want, body)
		}
	}
	repo := w.repo("bare")
	repo.commit("Begin", map[string]string{"Makefile": "all:\n\ttrue\ncheck:\n\ttrue\n"})
	w.ok("source", "add", "bare", repo.dir, "--project", "heath")
	r, body = w.ask("GET", "/api/v1/sources/bare/proposal", nil, nil)
	if r.StatusCode != 200 || !strings.Contains(string(body), `make all`) || !strings.Contains(string(body), `store = \"intake\"`) {
		t.Errorf("%d: %s", r.StatusCode, body)
	}
}
