package test

import (
	"archive/zip"
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"oskeld.dev/oskeld/internal/core/progress"
	"oskeld.dev/oskeld/internal/core/view"
)

const jobStages = `
secrets = ["SIGNING_KEY"]

[stage.restore]
carry = ["mods/**"]
script = "mkdir mods; echo honey > mods/m.txt"

[stage.test]
read = { tests = ["report.xml"] }
script = """
test "$CI" = true
echo '<testsuite name="hive"><testcase name="larch" time="0.1"/><testcase name="juniper"/></testsuite>' > report.xml
"""

[stage.compile]
after = ["restore"]
carry = ["out/**"]
script = "mkdir out; cat mods/m.txt > out/hive.txt; echo $OSKELD_VERSION >> out/hive.txt; chmod +x out/hive.txt"

[stage.package]
after = ["compile", "test"]
secrets = ["SIGNING_KEY"]
script = "echo key is $SIGNING_KEY; echo signed > out/hive.sig"

[[stage.package.artifact]]
name = "hivebook"
root = "out"
pack = "zip"
store = "intake"
`

// The whole job by hand, as README tells it: from a commit to a promoted, traced, verified artifact.
func TestWholeJob(t *testing.T) {
	w := newWorld(t)
	r := w.pipeline("hivebook", jobStages)
	r.git("tag", "v1.4.0")
	w.agent("barrow", "--places", "2")
	if out, code := w.run("bees-know-the-way\n", "secret", "set", "SIGNING_KEY", "--project", "heath"); code != 0 {
		t.Fatal(out)
	}
	out, code := w.run("", "start", "hivebook", "--ref", "v1.4.0", "--follow")
	if code != 0 {
		t.Fatalf("exit %d\n%s", code, out)
	}
	for _, want := range []string{"hivebook/1 1.4.0", "◆ passed package", "package │ key is •••", "test: 2 tests, 0 failed", "intake/hivebook@1.4.0  1 file"} {
		if !strings.Contains(out, want) {
			t.Errorf("start --follow does not say %q:\n%s", want, out)
		}
	}
	if strings.Contains(out, "bees-know-the-way") {
		t.Error("the secret stands in the log")
	}
	for args, want := range map[string]string{
		"builds hivebook":            "hivebook/1",
		"show hivebook/1":            `version 1.4.0 from "{tag}", started by tag v1.4.0`,
		"list intake":                "intake/hivebook@1.4.0",
		"show intake/hivebook@1.4.0": "hivebook-1.4.0.zip",
		"source show hivebook":       "1 tags: v1.4.0",
		"pipeline list":              "passed 1",
		"agent list":                 "barrow",
		"records hivebook/1":         "build passed",
		"store list":                 "never",
		"status":                     "signed in as ida, an owner",
	} {
		if out := w.ok(strings.Fields(args)...); !strings.Contains(out, want) {
			t.Errorf("oskeld %s does not say %q:\n%s", args, want, out)
		}
	}
	fetched := filepath.Join(w.dir, "got", "hivebook-1.4.0.zip")
	w.ok("fetch", "intake/hivebook@1.4.0", "--into", "got")
	z, err := zip.OpenReader(fetched)
	if err != nil {
		t.Fatal(err)
	}
	if len(z.File) != 2 || z.File[1].Name != "hive.txt" || z.File[1].Mode().Perm() != 0o755 {
		t.Errorf("the zip holds %v", z.File)
	}
	z.Close()
	w.promotes()
	w.traces(fetched)
}

func (w *world) promotes() {
	w.t.Helper()
	write := func(name, text string) {
		if err := os.WriteFile(filepath.Join(w.dir, name), []byte(text), 0o644); err != nil {
			w.t.Fatal(err)
		}
	}
	write("proving.toml", "store = \"proving\"\nrank = 1\nfrom = [\"intake\"]\n[[rule]]\nsay = \"Tests ran\"\nthat = \"tests.total > 0 && tests.complete\"\n")
	write("shelf.toml", "store = \"shelf\"\nrank = 2\nrewrite = \"never\"\nfrom = [\"proving\"]\n[[rule]]\nsay = \"Many tests ran\"\nthat = \"tests.stage('test').total > 100\"\n")
	write("broken.toml", "store = \"broken\"\n[[rule]]\nsay = \"x\"\nthat = \"tests.totl > 0\"\n")
	w.ok("store", "add", "proving", "--project", "heath", "--file", "proving.toml")
	w.ok("store", "add", "shelf", "--project", "heath", "--file", "shelf.toml")
	if out := w.ok("store", "set", "shelf", "--summary", "released"); !strings.Contains(out, "admits from proving") || !strings.Contains(out, "Many tests ran") || !strings.Contains(out, "rewrite never") {
		w.t.Errorf("setting one thing lost others:\n%s", out)
	}
	w.refused(2, "undefined field 'totl'", "store", "add", "broken", "--project", "heath", "--file", "broken.toml")
	w.refused(4, "store shelf does not admit from intake", "promote", "intake/hivebook@1.4.0", "--to", "shelf")
	if out := w.ok("promote", "intake/hivebook@1.4.0", "--to", "proving", "--dry-run"); !strings.Contains(out, "would be admitted") {
		w.t.Error(out)
	}
	w.refused(3, "no proving/hivebook@1.4.0", "show", "proving/hivebook@1.4.0")
	if out := w.ok("promote", "intake/hivebook@1.4.0", "--to", "proving", "--mark", "beta"); !strings.Contains(out, "◆ Tests ran  2 ran, every test stage was read") {
		w.t.Error(out)
	}
	w.refused(4, "1.4.0 is in proving already", "promote", "intake/hivebook@1.4.0", "--to", "proving")
	w.refused(4, "⬗ Many tests ran  2 ran in test", "promote", "proving/hivebook:beta", "--to", "shelf")
	if out := w.ok("records"); !strings.Contains(out, "promotion refused") {
		w.t.Error(out)
	}
}

func (w *world) traces(file string) {
	w.t.Helper()
	out := w.ok("trace", file)
	for _, want := range []string{"intake/hivebook@1.4.0#hivebook-1.4.0.zip", "proving/hivebook@1.4.0#hivebook-1.4.0.zip [beta]  promoted by ida", "made by hivebook/1 1.4.0", "2 tests, 0 failed"} {
		if !strings.Contains(out, want) {
			w.t.Errorf("trace does not say %q:\n%s", want, out)
		}
	}
	key := filepath.Join(w.dir, "key.pem")
	if err := os.WriteFile(key, []byte(w.ok("status", "--key")), 0o644); err != nil {
		w.t.Fatal(err)
	}
	w.ok("verify", file, "--save", file+".statement.json")
	w.service.stop() // from here on without the service
	if out := w.ok("verify", file, "--key", key); !strings.Contains(out, "◆ verified") || !strings.Contains(out, "build hivebook/1") {
		w.t.Error(out)
	}
	if err := os.WriteFile(file, []byte("changed"), 0o644); err != nil {
		w.t.Fatal(err)
	}
	w.refused(4, "is not about this file", "verify", file, "--key", key)
	w.refused(5, "cannot be reached", "builds")
}

// What a script fetches from a store is recorded as the build's input, and found from there.
func TestInputsAreRecorded(t *testing.T) {
	w := newWorld(t)
	w.agent("barrow")
	lib := filepath.Join(w.dir, "nectar.txt")
	if err := os.WriteFile(lib, []byte("sweet"), 0o644); err != nil {
		t.Fatal(err)
	}
	w.ok("deliver", "intake/nectar@1.0.0", lib)
	w.refused(4, "version 1.0.0 of nectar in store intake is taken: it was delivered by ida", "deliver", "intake/nectar@1.0.0", filepath.Join(w.dir, "session.json"))
	w.pipeline("hivebook", "[stage.restore]\nscript = \"oskeld fetch intake/nectar@1.0.0 --into third; cat third/nectar.txt; ! oskeld project list 2>/dev/null || true; oskeld deliver intake/x@1 third/nectar.txt || echo may not\"\n")
	d := w.await(w.start("hivebook", ""))
	if d.State != progress.Passed || len(d.Inputs) != 1 || d.Inputs[0].Name != "nectar" || d.Inputs[0].Stage != "restore" {
		t.Fatalf("%s %s, inputs %+v", d.State, d.Cause, d.Inputs)
	}
	if log := strings.Join(w.lines(d.Build, 0), "\n"); !strings.Contains(log, "sweet") || !strings.Contains(log, "may not") {
		t.Error(log)
	}
	var tr view.Trace
	if err := json.Unmarshal([]byte(w.ok("trace", lib, "--json")), &tr); err != nil {
		t.Fatal(err)
	}
	if len(tr.Uses) != 1 || tr.Uses[0].Build != "hivebook/1" || tr.Build != nil {
		t.Errorf("trace: %+v", tr)
	}
}

// A start that cannot work is refused in its first second, says what to do, takes no number and
// leaves a record.
func TestRefusedStarts(t *testing.T) {
	w := newWorld(t)
	w.agent("barrow")
	p := w.pipeline("hivebook", "[stage.package]\nscript = \"echo x > x\"\n[[stage.package.artifact]]\nname = \"x\"\nfiles = [\"x\"]\nstore = \"intake\"\n[version]\nuntagged = \"1.0.0\"\n")
	change := func(text string) {
		p.commit("Change", map[string]string{"oskeld.toml": "pipeline = \"hivebook\"\n" + text})
	}
	if d := w.await(w.start("hivebook", "main")); d.State != progress.Passed {
		t.Fatal(d.Cause)
	}
	refused := 0
	try := func(code int, want string, args ...string) {
		t.Helper()
		w.refused(code, want, append([]string{"start", "hivebook"}, args...)...)
		refused++
	}
	try(4, "version 1.0.0 of x in store intake is taken: build hivebook/1 made it")
	try(3, `no branch, tag or commit "nowhere" in the source`, "--ref", "nowhere")
	try(2, `is not a branch, tag or commit`, "--ref", "--upload-pack=x")
	change("[stage.a]\nscript = \"x\"\nsecrets = [\"KEY\"]\n[stage.b]\nscirpt = \"x\"\n")
	try(2, `did you mean "script"?`)
	change("secrets = [\"KEY\"]\n[stage.a]\nscript = \"true\"\nsecrets = [\"KEY\"]\n")
	try(4, `secret KEY is missing, and stage "a" needs it`)
	change("[stage.a]\nscript = \"true\"\nfacts = { go = \">=99\" }\n")
	try(4, "no agent can run stage \"a\": it needs go >=99; the nearest, barrow, lacks go >=99")
	change("[stage.a]\nscript = \"true\"\n[[stage.a.artifact]]\nname = \"x\"\nstore = \"nowhere\"\n")
	try(4, `into store "nowhere", which is not there`)
	change("[stage.a]\nscript = \"true\"\n[version]\nuntagged = \"{branch}/{number}\"\n")
	try(2, `gives "main/57", which is not a version`)
	p.git("rm", "-q", "oskeld.toml")
	p.git("commit", "-qm", "Drop the file")
	try(3, "the source has no oskeld.toml at commit")
	if err := os.Rename(p.dir, p.dir+".away"); err != nil {
		t.Fatal(err)
	}
	try(5, "does not answer")
	if err := os.Rename(p.dir+".away", p.dir); err != nil {
		t.Fatal(err)
	}
	if n := strings.Count(w.ok("records", "pipeline hivebook"), "start refused"); n != refused {
		t.Errorf("%d refused starts are on record, want %d", n, refused)
	}
	change("[stage.a]\nscript = \"true\"\n")
	if b := w.start("hivebook", ""); b.Number != 2 {
		t.Errorf("refused starts took numbers: the next is %d", b.Number)
	}
}

// Pushing a branch is not a right to secrets.
func TestUntrustedRefs(t *testing.T) {
	w := newWorld(t)
	w.agent("barrow")
	p := w.pipeline("hivebook", "secrets = [\"KEY\"]\n[stage.a]\nscript = \"true\"\nsecrets = [\"KEY\"]\n")
	w.run("value-of-key", "secret", "set", "KEY", "--project", "heath")
	w.ok("source", "set", "hivebook", "--trust", "main")
	branch := `try"it's;$(touch)`
	p.git("branch", branch)
	w.refused(4, "source hivebook does not trust "+branch, "start", "hivebook", "--ref", branch)
	p.git("checkout", "-q", branch)
	p.commit("No secret", map[string]string{"oskeld.toml": "pipeline = \"hivebook\"\n[stage.a]\nscript = \"echo $OSKELD_BRANCH $OSKELD_VERSION\"\n"})
	d := w.await(w.start("hivebook", branch))
	if d.State != progress.Passed || d.Trusted || d.Version != "0.0.1-try-it-s-touch.1" {
		t.Errorf("%s %s trusted %v: %s", d.State, d.Version, d.Trusted, d.Cause)
	}
	if log := w.lines(d.Build, 0); log[0] != branch+" "+d.Version {
		t.Errorf("the branch came as %q", log[0])
	}
	p.commit("Delivers", map[string]string{"oskeld.toml": "pipeline = \"hivebook\"\n[stage.a]\nscript = \"true\"\n[[stage.a.artifact]]\nname = \"x\"\nstore = \"intake\"\n"})
	w.refused(4, `store "intake" does not admit builds of`, "start", "hivebook", "--ref", branch)
}
