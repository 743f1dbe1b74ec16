package test

import (
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"oskeld.dev/oskeld/internal/core/progress"
)

// desk is somebody's machine without any service.
type desk struct {
	t   *testing.T
	dir string
	env []string
}

func newDesk(t *testing.T, files map[string]string) desk {
	t.Helper()
	home := t.TempDir()
	d := desk{t, t.TempDir(), []string{"OSKELD_SESSION=" + home + "/none", "OSKELD_SERVICE=", "OSKELD_TOKEN=", "HOME=" + home, "NO_COLOR=1", "GOCACHE=" + goCache(t), "GOFLAGS=-mod=mod", "GOPROXY=off"}}
	for name, text := range files {
		d.write(name, text)
	}
	d.git("init", "-q", "-b", "main")
	d.git("add", "-A")
	d.git("commit", "-qm", "Begin")
	return d
}

func goCache(t *testing.T) string {
	out, err := exec.Command("go", "env", "GOCACHE").Output()
	if err != nil {
		t.Fatal(err)
	}
	return strings.TrimSpace(string(out))
}

func (d desk) write(name, text string) {
	d.t.Helper()
	path := filepath.Join(d.dir, name)
	if err := errors.Join(os.MkdirAll(filepath.Dir(path), 0o755), os.WriteFile(path, []byte(text), 0o644)); err != nil {
		d.t.Fatal(err)
	}
}

func (d desk) read(name string) string {
	d.t.Helper()
	text, err := os.ReadFile(filepath.Join(d.dir, name))
	if err != nil {
		d.t.Error(err)
	}
	return string(text)
}

func (d desk) git(args ...string) string {
	d.t.Helper()
	return repo{&world{t: d.t}, d.dir}.git(args...)
}

func (d desk) run(args ...string) (string, int) {
	d.t.Helper()
	cmd := exec.CommandContext(d.t.Context(), program, args...)
	cmd.Dir, cmd.Env = d.dir, append(os.Environ(), d.env...)
	out, err := cmd.CombinedOutput()
	if exit, ok := errors.AsType[*exec.ExitError](err); ok {
		return string(out), exit.ExitCode()
	}
	if err != nil {
		d.t.Fatal(err)
	}
	return string(out), 0
}

// says runs a command that ends with a code and says all of some texts.
func (d desk) says(code int, args []string, wants ...string) string {
	d.t.Helper()
	out, got := d.run(args...)
	if got != code {
		d.t.Errorf("oskeld %s: exit %d, want %d\n%s", strings.Join(args, " "), got, code, out)
	}
	for _, want := range wants {
		if !strings.Contains(out, want) {
			d.t.Errorf("oskeld %s does not say %q:\n%s", strings.Join(args, " "), want, out)
		}
	}
	return out
}

var goSource = map[string]string{
	"go.mod": "module heath.example/hive\n\ngo 1.22\n", ".gitignore": "out/\ntests.json\n",
	"main.go":      "package main\n\nfunc main() { println(weigh(3)) }\n\nfunc weigh(n int) int { return 2 * n }\n",
	"main_test.go": "package main\n\nimport \"testing\"\n\nfunc TestWeigh(t *testing.T) {\n\tif got := weigh(3); got != 6 {\n\t\tt.Errorf(\"got %d\", got)\n\t}\n}\n",
}

// What is proposed is accepted and runs; a failing test is shown first, with its file and line.
func TestProposeCheckRehearse(t *testing.T) {
	d := newDesk(t, goSource)
	d.says(3, []string{"check"}, "there is no oskeld.toml", "oskeld propose writes one")
	d.says(0, []string{"propose"}, "wrote "+d.dir+"/oskeld.toml", "found a Go module (go.mod)")
	d.says(4, []string{"propose"}, "is there already", "--force writes over the file")
	d.says(0, []string{"propose", "--force", "--all", "--store", "shelf"}, "wrote")
	if !strings.Contains(d.read("oskeld.toml"), "# tries = 2") {
		t.Error("--all shows no rare settings")
	}
	d.says(2, []string{"propose", "--print", "--answer", "tool=make"}, `nothing asks for "tool" here`)
	d.says(0, []string{"check"}, "is right: pipeline", "0 warnings")
	d.says(0, []string{"rehearse"}, "◆ passed package", "1 test, 0 failed", ".oskeld/artifacts/shelf/")
	if got := d.git("status", "--porcelain"); got != "?? oskeld.toml" {
		t.Errorf("left: %s", got)
	}
	d.write("main.go", strings.Replace(d.read("main.go"), "2 * n", "n", 1))
	out := d.says(1, []string{"rehearse", "test"}, "failed main_test.go:7  TestWeigh  heath.example/hive", "got 3", "1 test, 1 failed", "1 of 1 tests failed")
	if strings.Contains(out, "package") && strings.Contains(out, "passed package") {
		t.Error("it went on after the named stage")
	}
	d.says(0, []string{"rehearse", "--explain", "--only", "compile"}, "chain 1, in the working tree", "go build -trimpath")
	d.says(3, []string{"rehearse", "tset"}, `there is no stage "tset"`, `did you mean "test"?`)
	d.says(2, []string{"rehearse", "--only"}, "--only and --from go with the names of stages")
	d.says(0, []string{"check", "--format", "sarif"}, `"version": "2.1.0"`)
	d.write("oskeld.toml", "pipeline = \"x\"\n[stage.a]\nscirpt = \"x\"\n")
	d.says(1, []string{"check", "--format", "json"}, `"code": "S101"`, `"column": 1`)
	d.says(1, []string{"check", "--format", "sarif"}, `"ruleId": "S101"`, `"startLine": 3`)
	d.says(2, []string{"rehearse"}, `did you mean "script"?`, "has 1 error")
	d.says(0, []string{"explain", "s101"}, "a key that does not exist", "did you mean")
	d.says(3, []string{"explain", "S999"}, `there is no code "S999"`)
	d.says(3, []string{"propose", "nowhere"}, "there is no directory nowhere")
	d.says(3, []string{"check", "nowhere"}, "there is no nowhere")
	d.says(0, []string{"schema"}, `"$schema": "http://json-schema.org/draft-07/schema#"`)
}

const stamping = `pipeline = "hive"
[stage.one]
[[stage.one.step]]
stamp = { file = "about.txt", from = "about.in" }
[[stage.one.step]]
script = "cat about.txt; touch MARK; sleep 61"
[[stage.one.artifact]]
name = "about"
files = ["about.txt"]
store = "intake"
[stage.tidy]
run = "always"
script = "echo tidied"
`

// Killed in the middle, a rehearsal leaves a stamped file and a running step; the next puts the file
// back and ends the step. Ctrl-C does both at once and says where it stood.
func TestRehearseKilled(t *testing.T) {
	w := &world{t: t}
	d := newDesk(t, map[string]string{"about.in": "{version}\n", "about.txt": "old\n"})
	mark := filepath.Join(t.TempDir(), "mark")
	d.write("oskeld.toml", strings.Replace(stamping, "MARK", mark, 1))
	begun := func() *process {
		p := begin(t, append(d.env, "PWD="+d.dir), "rehearse", "--file", d.dir)
		w.until("the step has begun", func() bool { _, err := os.Stat(mark); return err == nil })
		if got := d.read("about.txt"); got != "0.0.1-main.0.here\n" {
			t.Errorf("stamped %q\n%s", got, p.log)
		}
		return p
	}
	begun().kill()
	if got := d.read("about.txt"); got == "old\n" {
		t.Error("nobody can have put it back yet")
	}
	if err := os.Remove(mark); err != nil {
		t.Fatal(err)
	}
	p := begun()
	p.end(syscall.SIGINT)
	if d.read("about.txt") != "old\n" {
		t.Errorf("about.txt holds %q", d.read("about.txt"))
	}
	for _, want := range []string{"stopping; again to kill", "⬙ stopped one", "tidied", "⬙ stopped hive", "note stamped files of a rehearsal that was killed were put back"} {
		if !strings.Contains(p.log.String(), want) {
			t.Errorf("%q was not said:\n%s", want, p.log)
		}
	}
	if out, _ := exec.Command("pgrep", "-f", "sleep 61").Output(); len(out) > 0 {
		t.Errorf("left running: %s", out)
	}
	if got := d.git("status", "--porcelain"); got != "?? oskeld.toml" {
		t.Errorf("left: %s", got)
	}
}

// A disk that fills up fails the stage with a clear word, and the stamped file is put back.
func TestRehearseFullDisk(t *testing.T) {
	if os.Getuid() != 0 {
		t.Skip("mounting a small disk needs root")
	}
	d := newDesk(t, map[string]string{"about.in": "{version}\n", "about.txt": "old\n"})
	small := filepath.Join(d.dir, ".oskeld")
	if err := os.Mkdir(small, 0o755); err != nil {
		t.Fatal(err)
	}
	if out, err := exec.Command("mount", "-t", "tmpfs", "-o", "size=256k", "tmpfs", small).CombinedOutput(); err != nil {
		t.Skipf("no small disk can be mounted here: %s", out)
	}
	t.Cleanup(func() { _ = exec.Command("umount", small).Run() })
	d.write("oskeld.toml", "pipeline = \"hive\"\n[stage.one]\n[[stage.one.step]]\nstamp = { file = \"about.txt\", from = \"about.in\" }\n[[stage.one.step]]\nscript = \"head -c 1000000 /dev/urandom > big\"\n[[stage.one.artifact]]\nname = \"big\"\nfiles = [\"big\"]\nstore = \"intake\"\n")
	d.says(1, []string{"rehearse"}, "no space left on device")
	if d.read("about.txt") != "old\n" {
		t.Errorf("about.txt holds %q", d.read("about.txt"))
	}
}

// Versions: each odd case is told.
func TestVersions(t *testing.T) {
	file := "pipeline = \"hive\"\n[stage.a]\nscript = \"true\"\n"
	origin := newDesk(t, map[string]string{"oskeld.toml": file})
	origin.says(0, []string{"version"}, "0.0.1-main.0.here\n", `no tag fits "v*": counted as 0.0.0`)
	origin.git("tag", "v1.4.0")
	origin.git("tag", "v1.10.0")
	origin.git("tag", "v1.4.0-rc.1")
	origin.says(0, []string{"version"}, "1.10.1-main.0.here\n", "the highest of v1.10.0, v1.4.0, v1.4.0-rc.1 on that commit", "tag v1.10.0 is on this commit")
	origin.says(0, []string{"version", "--ref", "v1.4.0"}, "1.4.0\n", "started by tag v1.4.0")
	origin.git("commit", "-q", "--allow-empty", "-m", "More")
	origin.says(0, []string{"version"}, "1.10.1-main.0.here\n", "nearest tag v1.10.0, 1 commit before")
	origin.git("tag", "v2.0.0-rc.1")
	origin.says(0, []string{"version"}, "2.0.0-main.0.here\n", "after the pre-release 2.0.0-rc.1 comes 2.0.0")

	clone := origin
	clone.dir = filepath.Join(t.TempDir(), "clone")
	origin.git("clone", "-q", origin.dir, clone.dir)
	clone.git("commit", "-q", "--allow-empty", "-m", "Mine")
	clone.git("tag", "v3.0.0")
	clone.says(0, []string{"version", "--ref", "v3.0.0"}, "3.0.0\n", "tag v3.0.0 is here and not at the origin", "git push origin v3.0.0")
	if out := clone.says(0, []string{"version", "--offline"}, "3.0.1-main.0.here\n"); strings.Contains(out, "origin") {
		t.Errorf("it asked the origin:\n%s", out)
	}
	clone.git("checkout", "-q", "--detach")
	clone.says(0, []string{"version", "--offline"}, "3.0.1-detached.0.here\n", "the head is detached")
	clone.says(3, []string{"version", "--ref", "nowhere"}, "nowhere")

	shallow := origin
	shallow.dir = filepath.Join(t.TempDir(), "shallow")
	origin.git("commit", "-q", "--allow-empty", "-m", "Newest")
	origin.git("clone", "-q", "--depth", "1", "--no-tags", "file://"+origin.dir, shallow.dir)
	shallow.says(0, []string{"version"}, "0.0.1-main.0.here\n", "the history here is cut", "git fetch --unshallow --tags")

	shallow.write("oskeld.toml", file+"[version]\nuntagged = \"{branch}-{number}\"\n")
	shallow.says(0, []string{"version", "--offline"}, "main-0.here\n", "this is not a semantic version")
	shallow.says(0, []string{"check"}, "warning W209")
}

// At a tag, with --clean, what is rehearsed has the digests that an agent gives it.
func TestRehearsalEqualsBuild(t *testing.T) {
	w := newWorld(t)
	w.agent("barrow", "--env", "GOCACHE="+goCache(t))
	files := map[string]string{"go.mod": goSource["go.mod"], "main.go": goSource["main.go"], "about.in": "{version} {commit}\n{changes}\n"}
	p := w.pipeline("hive", `
[stage.compile]
[[stage.compile.step]]
stamp = { file = "about.txt", from = "about.in" }
[[stage.compile.step]]
script = "go build -trimpath -o out/ . && cp about.txt out/"
[stage.package]
[[stage.package.artifact]]
name = "hive"
root = "out"
pack = "zip"
store = "intake"
`)
	p.commit("Weigh", files)
	p.git("tag", "v1.4.0")
	if d := w.await(w.start("hive", "v1.4.0")); d.State != progress.Passed {
		t.Fatal(d.Cause)
	}
	digest := strings.Fields(w.ok("fetch", "intake/hive@1.4.0", "--into", w.dir+"/got"))
	d := desk{t, filepath.Join(t.TempDir(), "clone"), []string{"OSKELD_SESSION=" + w.dir + "/none", "GOCACHE=" + goCache(t)}}
	p.git("clone", "-q", p.dir, d.dir)
	out := d.says(0, []string{"rehearse", "--clean"}, "hive 1.4.0")
	if !strings.Contains(out, digest[len(digest)-1]) {
		t.Errorf("the build has %s, the rehearsal\n%s", digest[len(digest)-1], out)
	}
}
