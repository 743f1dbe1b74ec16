package test

import (
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"oskeld.dev/oskeld/internal/core/progress"
	"oskeld.dev/oskeld/internal/core/view"
)

const reusing = `
secrets = ["KEY"]
[version]
untagged = "1.0.{number}"
[ask.size]
pick = ["small", "large"]
usual = "small"
[stage.make]
reuse = ["src/**", "*.lock"]
exports = ["COUNT"]
carry = ["out/**"]
script = """
echo "version ${OSKELD_VERSION-unset} commit ${OSKELD_COMMIT-unset} pipeline $OSKELD_PIPELINE"
mkdir out; cat src/* > out/jar; echo 3 > "$OSKELD_EXPORTS/COUNT"
"""
[[stage.make.artifact]]
name = "jar"
root = "out"
files = ["jar"]
store = "intake"
[stage.look]
duty = "warn"
script = "printf '1..1\nok 1 - sweet\n' > r.tap"
read = { tests = ["r.tap"] }
[stage.wrap]
after = ["make"]
reuse = ["none"]
secrets = ["KEY"]
script = "test $COUNT = 3; cp out/jar wrapped"
[[stage.wrap.artifact]]
name = "wrapped"
files = ["wrapped"]
store = "intake"
[stage.tell]
after = ["wrap"]
script = "echo told $OSKELD_VERSION"
`

// A build takes over what has not changed, chain by chain, under its own version, and says what has.
func TestReuse(t *testing.T) {
	w := newWorld(t)
	w.agent("barrow", "--places", "2")
	w.input("one", "secret", "set", "KEY", "--project", "heath")
	r := w.pipeline("hivebook", reusing)
	r.commit("Source", map[string]string{"src/a": "heather", "a.lock": "1"})
	states := func(d view.BuildDetail) string {
		var list []string
		for _, r := range d.Runs {
			list = append(list, r.Name+" "+string(r.State))
		}
		return strings.Join(list, ", ")
	}
	build := func(want string, args ...string) view.BuildDetail {
		t.Helper()
		out := w.ok(append([]string{"start", "hivebook", "--json"}, args...)...)
		var b view.Build
		w.decode(out, &b)
		d := w.await(b)
		if got := states(d); d.State != progress.Passed || got != want {
			t.Fatalf("%s %s\ngot  %s\nwant %s\n%s", d.State, d.Cause, got, want, w.ok("show", "hivebook/"+strings.TrimPrefix(b.Version, "1.0.")))
		}
		return d
	}
	const all = "make passed, look passed, wrap passed, tell passed"
	const taken = "make reused, look reused, wrap reused, tell passed"
	first := build(all)
	if out := w.said(first.Build, 0); out != "version unset commit unset pipeline hivebook" {
		t.Errorf("a reusable chain sees what differs from build to build: %s", out)
	}
	if first.Runs[0].Reuse != "nothing to take over yet" {
		t.Error(first.Runs[0].Reuse)
	}
	second := build(taken)
	if second.Runs[0].Cause != "from hivebook/1" || len(second.Artifacts) != 2 || second.Runs[1].Tests == nil || second.Runs[1].Tests.Total != 1 || len(second.Runs[0].Exports) != 1 {
		t.Errorf("%+v", second)
	}
	for _, a := range second.Artifacts {
		if a.State != "sealed" || a.Version != "1.0.2" || a.Files != 1 {
			t.Errorf("%+v", a)
		}
	}
	if out := w.said(second.Build, 3); !strings.Contains(out, "told 1.0.2") {
		t.Error(out)
	}
	// What the basis does not hold changes nothing; what it holds does, and is named.
	r.commit("Words", map[string]string{"README.md": "x"})
	build(taken)
	r.commit("More", map[string]string{"src/b": "clover"})
	if d := build(all); d.Runs[0].Reuse != "changed since hivebook/1: src/b" || d.Runs[2].Reuse != "changed since hivebook/1: carried files" {
		t.Errorf("%q %q", d.Runs[0].Reuse, d.Runs[2].Reuse)
	}
	if d := build(all, "--ask", "size=large"); d.Runs[0].Reuse != "changed since hivebook/4: asks" {
		t.Error(d.Runs[0].Reuse)
	}
	w.input("two", "secret", "set", "KEY", "--project", "heath")
	if d := build("make reused, look reused, wrap passed, tell passed"); d.Runs[2].Reuse != "changed since hivebook/5: asks; secret KEY" && d.Runs[2].Reuse != "changed since hivebook/4: secret KEY" {
		t.Error(d.Runs[2].Reuse)
	}
	if d := build(all, "--fresh"); d.Runs[0].Reuse != "begun fresh, as was asked" {
		t.Error(d.Runs[0].Reuse)
	}
	text, err := os.ReadFile(filepath.Join(r.dir, "oskeld.toml"))
	if err != nil {
		t.Fatal(err)
	}
	r.commit("Another step", map[string]string{"oskeld.toml": strings.Replace(string(text), "ok 1 - sweet", "ok 1 - sweeter", 1)})
	if d := build("make passed, look passed, wrap reused, tell passed"); !strings.Contains(d.Runs[0].Reuse, "stage look") {
		t.Error(d.Runs[0].Reuse)
	}
	if out := w.ok("show", "hivebook/8"); !strings.Contains(out, "make is not reused: changed since hivebook/7: stage look") || !strings.Contains(out, "❖ reused") {
		t.Error(out)
	}
	build(all, "--ref", "main", "--fresh")
	// A version in a file's name belongs to the basis.
	r.commit("Version in the name", map[string]string{"oskeld.toml": strings.Replace(string(text), "root = \"out\"\nfiles", "root = \"out\"\npack = \"zip\"\nfile = \"jar-{version}.zip\"\nfiles", 1)})
	build("make passed, look passed, wrap reused, tell passed")
	build("make passed, look passed, wrap reused, tell passed")
}

// What failed elsewhere is taken over where it passed, and what a ref that is not trusted made never is.
func TestReuseOfOtherBuilds(t *testing.T) {
	w := newWorld(t)
	w.agent("barrow")
	flag := filepath.Join(w.dir, "mended")
	r := w.pipeline("hivebook", "[stage.a]\nreuse = [\"src/**\"]\nscript = \"echo a\"\n[stage.b]\nafter = [\"a\"]\nscript = \"test -e "+flag+"\"\n")
	r.commit("Source", map[string]string{"src/a": "heather"})
	w.ok("source", "set", "hivebook", "--trust", "main")
	r.git("branch", "try")
	if d := w.await(w.start("hivebook", "try")); d.State != progress.Failed || d.Runs[0].State != progress.Passed {
		t.Fatal(d.Cause)
	}
	if d := w.await(w.start("hivebook", "main")); d.Runs[0].State != progress.Passed {
		t.Errorf("what a ref that is not trusted made was taken over: %s", d.Runs[0].State)
	}
	if err := os.WriteFile(flag, nil, 0o644); err != nil {
		t.Fatal(err)
	}
	d := w.await(w.start("hivebook", "main"))
	if d.State != progress.Passed || d.Runs[0].State != progress.Reused || d.Runs[0].Cause != "from hivebook/2" {
		t.Errorf("%s %s %s", d.State, d.Runs[0].State, d.Runs[0].Cause)
	}
	if err := w.owner.Call(t.Context(), http.MethodPost, "/api/v1/builds/hivebook/3/again?fresh=true", nil, &view.Build{}); err != nil {
		t.Fatal(err)
	}
	if d := w.await(view.Build{Pipeline: "hivebook", Number: 4}); d.Runs[0].State != progress.Passed {
		t.Errorf("again and fresh: %s", d.Runs[0].State)
	}
}

// A build that waited for another of its branch takes over what that one made when its turn comes; one of
// which all is taken over lets the next one go on at once.
func TestReuseInTurn(t *testing.T) {
	w := newWorld(t)
	w.agent("barrow")
	wait, open := w.gate("go")
	r := w.pipeline("hivebook", "overlap = \"queue\"\n[stage.a]\nreuse = [\"src/**\"]\nscript = \"echo begun; "+wait+"\"\n[stage.b]\nafter = [\"a\"]\nreuse = [\"src/**\"]\nscript = \"echo b\"\n")
	r.commit("Source", map[string]string{"src/a": "heather"})
	first := w.start("hivebook", "main")
	w.printed(first, 0, "begun")
	second, third := w.start("hivebook", "main"), w.start("hivebook", "main")
	w.waitsFor(third, 0, "waits for build hivebook/2 of the same branch to end")
	open()
	w.await(first)
	for _, b := range []view.Build{second, third} {
		d := w.await(b)
		for _, r := range d.Runs {
			if d.State != progress.Passed || r.State != progress.Reused || r.Cause != "from hivebook/1" {
				t.Errorf("build %d: %s, stage %s %s %q: %s", b.Number, d.State, r.Name, r.State, r.Cause, r.Reuse)
			}
		}
	}
}
