package rehearsal

import (
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"oskeld.dev/oskeld/internal/core/fault"
	"oskeld.dev/oskeld/internal/core/language"
	"oskeld.dev/oskeld/internal/core/plan"
	"oskeld.dev/oskeld/internal/core/progress"
	"oskeld.dev/oskeld/internal/core/view"
)

// source is a repository with a pipeline and some files, committed.
type source struct {
	t   *testing.T
	dir string
}

func newSource(t *testing.T, files map[string]string) *source {
	t.Helper()
	s := &source{t, t.TempDir()}
	s.git("init", "-q", "-b", "main")
	for name, text := range files {
		s.write(name, text)
	}
	s.git("add", "-A")
	s.git("commit", "-qm", "Begin")
	return s
}

func (s *source) git(args ...string) string {
	s.t.Helper()
	cmd := exec.Command("git", append([]string{"-C", s.dir, "-c", "user.name=Ida", "-c", "user.email=ida@heath.example"}, args...)...)
	out, err := cmd.CombinedOutput()
	if err != nil {
		s.t.Fatalf("git %v: %s", args, out)
	}
	return strings.TrimSpace(string(out))
}

func (s *source) write(name, text string) {
	s.t.Helper()
	path := filepath.Join(s.dir, name)
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		s.t.Fatal(err)
	}
	if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
		s.t.Fatal(err)
	}
}

func (s *source) read(name string) string {
	s.t.Helper()
	text, err := os.ReadFile(filepath.Join(s.dir, name))
	if err != nil {
		s.t.Error(err)
	}
	return string(text)
}

// options reads a pipeline for the source.
func (s *source) options(text string) Options {
	s.t.Helper()
	p, ds := language.Read("oskeld.toml", []byte("pipeline = \"hive\"\n"+text))
	if p == nil {
		s.t.Fatal(ds.Text())
	}
	asks, err := language.Choose(p.Asks, nil)
	if err != nil {
		s.t.Fatal(err)
	}
	return Options{Dir: s.dir, Work: s.t.TempDir(), Pipeline: p, Asks: asks, Jobs: 4, Secrets: map[string]string{}}
}

// rehearse runs it and gives the outcome with all that was printed.
func (s *source) rehearse(o Options) (Outcome, string) {
	s.t.Helper()
	r, err := Prepare(s.t.Context(), o)
	if err != nil {
		s.t.Fatal(err)
	}
	var said strings.Builder
	outcome, err := r.Run(s.t.Context(), nil, Watch{Lines: func(run int, lines []view.LogLine) {
		for _, l := range lines {
			said.WriteString(r.Plan.Runs[run].Title() + "| " + l.Text + "\n")
		}
	}})
	if err != nil {
		s.t.Fatal(err)
	}
	return outcome, said.String()
}

func (s *source) passes(text string) (Outcome, string) {
	s.t.Helper()
	outcome, said := s.rehearse(s.options(text))
	if outcome.State != progress.Passed {
		s.t.Fatalf("%s: %s\n%s", outcome.State, outcome.Cause, said)
	}
	return outcome, said
}

const everything = `
secrets = ["KEY"]
env = { FROM = "pipeline" }
[ask.label]
line = "it's \"quoted\""
[stage.make]
facts = { os = "linux" }
vary = { kind = ["small", "large"], tone = ["low", "high"] }
omit = [{ kind = "large", tone = "low" }]
exports = ["SIZE"]
carry = ["out/**"]
[[stage.make.step]]
stamp = { file = "about.txt", from = "about.txt.in" }
[[stage.make.step]]
stamp = { file = "about.json", set = { version = "{version}", "deep.kind" = "{vary.kind}" } }
[[stage.make.step]]
script = """
mkdir -p "out/$VARY_KIND-$VARY_TONE"
cp about.txt about.json "out/$VARY_KIND-$VARY_TONE/"
printf '%s\\n' "$VARY_KIND" > "$OSKELD_EXPORTS/SIZE"
"""
[[stage.make.step]]
name = "forgiven"
script = "exit 3"
forgive = true
[[stage.make.step]]
script = "exit 4"
off = true
[stage.look]
after = ["make"]
secrets = ["KEY"]
shell = ["bash", "-eu"]
when = "exports.SIZE['small low'] == 'small' && stages.make.state == 'passed'"
script = """
[[ "$ASK_LABEL" == "it's \\"quoted\\"" ]]
echo "key $KEY, $FROM, size $SIZE_large_high"
ls out
"""
[stage.never]
after = ["make"]
when = "exports.SIZE['small low'] == 'none'"
script = "exit 9"
[[stage.look.artifact]]
name = "made"
root = "out"
pack = "tar.zst"
file = "made-{version}.tar.zst"
store = "intake"
[stage.last]
after = ["never"]
script = "test -z \"$(git status --porcelain)\" || git status --porcelain"
`

func TestWholeLanguage(t *testing.T) {
	s := newSource(t, map[string]string{"about.txt.in": "v{version} {ask.label} {vary.tone}\n{changes}\nkeep { this } and ${that}\n", "about.txt": "", "about.json": "{\n  // kept\n  \"version\": \"0\",  \"deep\": {\"kind\":\"\"}\n}\n"})
	o := s.options(everything)
	o.Secrets["KEY"] = "hush-hush"
	outcome, said := s.rehearse(o)
	if outcome.State != progress.Passed {
		t.Fatalf("%s: %s\n%s", outcome.State, outcome.Cause, said)
	}
	for _, want := range []string{"look| key •••, pipeline, size large", "look| large-high", "look| small-low", "make small low| — step \"forgiven\" failed and is forgiven: exit 3 —"} {
		if !strings.Contains(strings.ReplaceAll(said, "***", "•••"), want) {
			t.Errorf("%q was not said:\n%s", want, said)
		}
	}
	states := map[string]progress.State{}
	for _, r := range outcome.Results {
		states[r.Run] = r.State
	}
	if len(states) != 6 || states["never"] != progress.Skipped || states["last"] != progress.Passed {
		t.Errorf("%v", states)
	}
	if len(outcome.Artifacts) != 1 || outcome.Artifacts[0].Path != ".oskeld/artifacts/intake/made/0.0.1-main.0.here/made-0.0.1-main.0.here.tar.zst" {
		t.Errorf("%+v", outcome.Artifacts)
	}
	if got := s.git("status", "--porcelain"); got != "" {
		t.Errorf("the working tree is left with\n%s", got)
	}
	kept := loadKept(s.dir)
	about := kept.Runs["make small low"].Carried
	if len(about) != 2 {
		t.Fatalf("carried %+v", about)
	}
	text, _ := os.ReadFile(filepath.Join(s.dir, Kept, "blobs", string(about[1].Digest)))
	if want := "v0.0.1-main.0.here it's \"quoted\" low\n- Begin (" + s.git("rev-parse", "HEAD")[:7] + ")\nkeep { this } and ${that}\n"; string(text) != want {
		t.Errorf("stamped %q, want %q", text, want)
	}
	text, _ = os.ReadFile(filepath.Join(s.dir, Kept, "blobs", string(about[0].Digest)))
	if want := "{\n  // kept\n  \"version\": \"0.0.1-main.0.here\",  \"deep\": {\"kind\":\"small\"}\n}\n"; string(text) != want {
		t.Errorf("stamped %q, want %q", text, want)
	}
}

// The first chain works in the tree: what it stamps is put back, also for those who look while others
// run; copies are made of the files as they were.
func TestStampedFilesArePutBack(t *testing.T) {
	s := newSource(t, map[string]string{"a.txt": "old\n", "a.in": "{version}\n"})
	if err := os.Chmod(filepath.Join(s.dir, "a.txt"), 0o755); err != nil {
		t.Fatal(err)
	}
	s.git("commit", "-qam", "Mode")
	outcome, said := s.passes(`
[stage.one]
[[stage.one.step]]
stamp = { file = "a.txt", from = "a.in" }
[[stage.one.step]]
stamp = { file = "new/b.txt", from = "a.in" }
[[stage.one.step]]
script = "cat a.txt new/b.txt; pwd"
[[stage.one.artifact]]
name = "a"
files = ["a.txt"]
store = "intake"
[stage.two]
after = ["one"]
script = "cat a.txt; test ! -e new"
`)
	if !strings.Contains(said, "one| 0.0.1-main.0.here\none| 0.0.1-main.0.here\none| "+s.dir) || !strings.Contains(said, "two| old\n") {
		t.Errorf("%+v\n%s", outcome, said)
	}
	if got := s.git("status", "--porcelain"); got != "" || s.read("a.txt") != "old\n" {
		t.Errorf("left: %s", got)
	}
	if _, err := os.Stat(filepath.Join(s.dir, Kept, "stamped")); err == nil {
		t.Error("the journal stays")
	}
}

// A rehearsal that is killed leaves stamped files; the next puts them back, but not one that somebody
// has changed since.
func TestAfterACrash(t *testing.T) {
	s := newSource(t, map[string]string{"a.txt": "old a\n", "b.txt": "old b\n"})
	if err := os.MkdirAll(filepath.Join(s.dir, Kept), 0o755); err != nil {
		t.Fatal(err)
	}
	j, _, err := openJournal(s.dir)
	if err != nil {
		t.Fatal(err)
	}
	for name, text := range map[string]string{"a.txt": "stamped a\n", "b.txt": "stamped b\n", "c.txt": "stamped c\n"} {
		if err := j.save(filepath.Join(s.dir, name), []byte(text)); err != nil {
			t.Fatal(err)
		}
		s.write(name, text)
	}
	s.write("b.txt", "mended by hand\n")
	outcome, _ := s.passes("[stage.one]\nscript = \"true\"\n")
	if s.read("a.txt") != "old a\n" || s.read("b.txt") != "mended by hand\n" {
		t.Errorf("a: %q, b: %q", s.read("a.txt"), s.read("b.txt"))
	}
	if _, err := os.Stat(filepath.Join(s.dir, "c.txt")); err == nil {
		t.Error("a file that was not there stays")
	}
	if len(outcome.Notes) != 1 || !strings.Contains(outcome.Notes[0], "b.txt was changed after it was stamped") {
		t.Fatalf("%q", outcome.Notes)
	}
	at := strings.Fields(outcome.Notes[0])
	if got := s.read(at[len(at)-1]); got != "old b\n" {
		t.Errorf("the saved copy holds %q", got)
	}
}

// Chains run side by side: each waits for the other's mark.
func TestSideBySide(t *testing.T) {
	s := newSource(t, map[string]string{"f": ""})
	meet := t.TempDir()
	text := `
[stage.begin]
script = "true"
[stage.pair]
after = ["begin"]
vary = { n = ["1", "2"] }
limit = "20s"
script = "touch ` + meet + `/$VARY_N; while ! test -e ` + meet + `/1 || ! test -e ` + meet + `/2; do sleep 0.01; done"
`
	s.passes(text)
	if err := os.RemoveAll(meet); err != nil {
		t.Fatal(err)
	}
	if err := os.Mkdir(meet, 0o755); err != nil {
		t.Fatal(err)
	}
	// Also beside the rest of a chain, of which they only need the beginning.
	s.passes(`
[stage.begin]
script = "true"
[stage.rest]
limit = "20s"
script = "touch ` + meet + `/rest; while ! test -e ` + meet + `/side; do sleep 0.01; done"
[stage.side]
after = ["begin"]
script = "touch ` + meet + `/side; while ! test -e ` + meet + `/rest; do sleep 0.01; done"
`)
	o := s.options(strings.Replace(text, `"20s"`, `"300ms"`, 1))
	o.Jobs = 1
	if outcome, _ := s.rehearse(o); outcome.State != progress.Failed {
		t.Errorf("with one job it %s", outcome.State)
	}
}

// Chains that want to be alone with the same name run one after the other.
func TestAlone(t *testing.T) {
	s := newSource(t, map[string]string{"f": ""})
	stall := filepath.Join(t.TempDir(), "stall")
	outcome, _ := s.rehearse(s.options(`
[stage.sell]
vary = { what = ["honey", "wax", "mead"] }
alone = "market"
script = "mkdir ` + stall + ` && sleep 0.05 && rmdir ` + stall + `"
`))
	if outcome.State != progress.Passed {
		t.Errorf("%s %s", outcome.State, outcome.Cause)
	}
}

// A variant's failure stops the others; what always runs comes all the same.
func TestHaltAndAlways(t *testing.T) {
	s := newSource(t, map[string]string{"f": ""})
	mark := filepath.Join(t.TempDir(), "mark")
	outcome, _ := s.rehearse(s.options(`
[stage.pair]
vary = { n = ["fails", "waits"] }
script = "if test $VARY_N = fails; then while ! test -e ` + mark + `; do sleep 0.01; done; exit 7; fi; touch ` + mark + `; sleep 60"
[stage.tidy]
after = ["pair"]
run = "always"
script = "true"
[stage.more]
script = "true"
`))
	got := map[string]string{}
	for _, r := range outcome.Results {
		got[r.Run] = string(r.State) + " " + r.Cause
	}
	if outcome.State != progress.Failed || !strings.HasPrefix(got["pair fails"], "failed step") || got["pair waits"] != "stopped variant failed: pair fails" || got["tidy"] != "passed " || got["more"] != "passed " {
		t.Errorf("%s: %q", outcome.State, got)
	}
}

func TestTries(t *testing.T) {
	s := newSource(t, map[string]string{"f": ""})
	dir := t.TempDir()
	outcome, said := s.passes(`
[stage.one]
tries = 3
exports = ["N"]
script = "echo x >> ` + dir + `/one; n=$(wc -l < ` + dir + `/one); echo $n > $OSKELD_EXPORTS/N; test $n -eq 3"
[stage.two]
[[stage.two.step]]
tries = 2
script = "echo $N; test -e ` + dir + `/two || { touch ` + dir + `/two; exit 5; }"
`)
	if notes := outcome.Results[0].Notes; len(notes) != 2 || !strings.Contains(notes[1], "try 2 of 3 failed") {
		t.Errorf("%q", notes)
	}
	if !strings.Contains(said, "two| 3\n") || !strings.Contains(said, "exit 5; try 2 of 2") {
		t.Error(said)
	}
}

func TestParts(t *testing.T) {
	s := newSource(t, map[string]string{"f": ""})
	text := `
[stage.one]
exports = ["WHO"]
carry = ["out/**"]
script = "mkdir -p out; echo carried > out/file; echo ida > $OSKELD_EXPORTS/WHO"
[stage.two]
after = ["one"]
vary = { n = ["1", "2"] }
script = "cat out/file; echo $WHO"
[stage.three]
script = "echo three"
`
	o := s.options(text)
	o.Part = plan.Part{From: []string{"two"}}
	if _, err := Prepare(t.Context(), o); err == nil || !strings.Contains(err.Error(), `what stage "one" carries is not there`) {
		t.Errorf("%v", err)
	}
	s.passes(text)
	o.Part.Variant = language.Variant{{Axis: "n", Value: "2"}}
	outcome, said := s.rehearse(o)
	if outcome.State != progress.Passed || said != "two 2| carried\ntwo 2| ida\nthree 2| three\n" {
		t.Errorf("%s\n%s", outcome.State, said)
	}
	o.Part = plan.Part{UpTo: []string{"one"}}
	if outcome, _ := s.rehearse(o); len(outcome.Results) != 1 {
		t.Errorf("%+v", outcome.Results)
	}
}

func TestClean(t *testing.T) {
	s := newSource(t, map[string]string{"f": "committed\n"})
	s.git("tag", "v1.4.0")
	s.write("f", "changed\n")
	o := s.options("[stage.one]\nscript = \"cat f; echo $OSKELD_VERSION $OSKELD_TAG; git describe --tags\"\n[[stage.one.artifact]]\nname = \"f\"\nfiles = [\"f\"]\nstore = \"intake\"\n")
	o.Clean = true
	if outcome, said := s.rehearse(o); outcome.Version != "1.4.0" || said != "one| committed\none| 1.4.0 v1.4.0\none| v1.4.0\n" {
		t.Errorf("%s\n%s", outcome.Version, said)
	}
	o.Clean = false
	if outcome, said := s.rehearse(o); outcome.Version != "1.4.1-main.0.here" || !strings.HasPrefix(said, "one| changed\none| 1.4.1-main.0.here\n") {
		t.Errorf("%s\n%s", outcome.Version, said)
	}
}

// What cannot be had is told before anything runs.
func TestToldBefore(t *testing.T) {
	s := newSource(t, map[string]string{"f": ""})
	o := s.options("[stage.one]\nscript = \"true\"\n[stage.two]\nafter = [\"one\"]\nfacts = { os = \"{vary.os}\" }\nvary = { os = [\"linux\", \"plan9\"] }\nscript = \"true\"\n[stage.three]\nafter = [\"two\"]\nscript = \"true\"\n")
	r, err := Prepare(t.Context(), o)
	if err != nil || len(r.LeftOut) != 2 || r.LeftOut[0] != (LeftOut{"two plan9", "needs os = plan9 (has linux)"}) || r.LeftOut[1] != (LeftOut{"three", "comes after two plan9"}) {
		t.Errorf("%+v, %v", r, err)
	}
	if text := r.Explain(); !strings.Contains(text, "chain 1, in the working tree\n  one\n") || !strings.Contains(text, "left out: two plan9 needs os = plan9") {
		t.Error(text)
	}
	o.Part.Variant = language.Variant{{Axis: "os", Value: "linux"}}
	if r, err = Prepare(t.Context(), o); err != nil || len(r.LeftOut) != 0 {
		t.Errorf("%+v, %v", r, err)
	}
	for want, text := range map[string]string{
		"nothing can be rehearsed here: one needs go >=99": "[stage.one]\nfacts = { go = \">=99\" }\nscript = \"true\"\n",
		`stage "one" needs secret KEY`:                     "secrets = [\"KEY\"]\n[stage.one]\nsecrets = [\"KEY\"]\nscript = \"true\"\n",
		"you are not signed in to a service":               "[stage.one]\n[[stage.one.step]]\nfetch = { artifact = \"intake/x@1\", into = \"d\" }\n",
	} {
		if _, err := Prepare(t.Context(), s.options(text)); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%v, want %q", err, want)
		}
	}
}

func TestUnhappy(t *testing.T) {
	s := newSource(t, map[string]string{"a.in": "{version}", "f": ""})
	for want, text := range map[string]string{
		`there is no shell "no-such-shell" here`:                "[stage.one]\nshell = [\"no-such-shell\"]\nscript = \"x\"\n",
		`there is no directory "nowhere" to work in`:            "[stage.one]\nin = \"nowhere\"\nscript = \"x\"\n",
		"there is no file none.in to stamp":                     "[stage.one]\ncarry = [\"x\"]\n[[stage.one.step]]\nstamp = { file = \"a\", from = \"none.in\" }\n",
		"export SECRET_OUT holds a secret; it is refused":       "secrets = [\"KEY\"]\n[stage.one]\nsecrets = [\"KEY\"]\nexports = [\"SECRET_OUT\"]\nscript = \"printf %s $KEY > $OSKELD_EXPORTS/SECRET_OUT\"\n",
		"`when` cannot be told: no such key: large":             "[stage.one]\nvary = { n = [\"small\"] }\nexports = [\"A\"]\nscript = \"echo x > $OSKELD_EXPORTS/A\"\n[stage.two]\nafter = [\"one\"]\nwhen = \"exports.A['large'] == ''\"\nscript = \"x\"\n",
		"time limit of 50ms":                                    "[stage.one]\nlimit = \"50ms\"\nscript = \"sleep 20\"\n",
		"duty not met: a test stage reads tests, and no report": "[stage.test]\nscript = \"true\"\nread = { tests = [\"none.xml\"] }\n",
	} {
		o := s.options(text)
		o.Secrets["KEY"] = "hush-hush"
		outcome, _ := s.rehearse(o)
		if outcome.State != progress.Failed || !strings.Contains(outcome.Cause, want) {
			t.Errorf("%s: %s, want %q", outcome.State, outcome.Cause, want)
		}
	}
	// A script in Windows line ends runs as any other.
	s.passes("[stage.one]\r\nscript = \"\"\"\r\necho one\r\ntest 1 = 1\r\n\"\"\"\r\n")
}

// Two rehearsals of one source do not meet, and a stop ends the running steps with all they started.
func TestTwoAtOnceAndStop(t *testing.T) {
	s := newSource(t, map[string]string{"f": ""})
	o := s.options("[stage.one]\nscript = \"echo begun; sleep 61 & sleep 62\"\n[stage.tidy]\nrun = \"always\"\nscript = \"echo tidied\"\n[stage.after]\nafter = [\"one\"]\nscript = \"x\"\n")
	r, err := Prepare(t.Context(), o)
	if err != nil {
		t.Fatal(err)
	}
	stop, begun := make(chan struct{}), make(chan struct{})
	var said strings.Builder
	once := sync.OnceFunc(func() { close(begun) })
	ended := make(chan Outcome, 1)
	go func() {
		outcome, _ := r.Run(context.Background(), stop, Watch{Lines: func(_ int, lines []view.LogLine) {
			for _, l := range lines {
				said.WriteString(l.Text + "\n")
			}
			once()
		}})
		ended <- outcome
	}()
	<-begun
	other, err := Prepare(t.Context(), o)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := other.Run(t.Context(), nil, Watch{}); !fault.Is(err, fault.KindConflict) || !strings.Contains(err.Error(), "another rehearsal runs in") {
		t.Errorf("%v", err)
	}
	began := time.Now()
	close(stop)
	outcome := <-ended
	if outcome.State != progress.Stopped || time.Since(began) > 10*time.Second || !strings.Contains(said.String(), "tidied") {
		t.Errorf("%s after %s\n%s", outcome.State, time.Since(began), said.String())
	}
	if out, _ := exec.Command("pgrep", "-f", "sleep 6[12]").Output(); len(out) > 0 {
		t.Errorf("left running: %s", out)
	}
}

// Outside a repository the directory itself is the source.
func TestWithoutGit(t *testing.T) {
	s := &source{t, t.TempDir()}
	s.write("f", "x\n")
	outcome, said := s.passes("[stage.one]\nscript = \"cat f\"\n[stage.two]\nafter = [\"one\"]\nscript = \"cat f\"\n")
	if outcome.Version != "0.0.1-detached.0.here" || said != "one| x\ntwo| x\n" {
		t.Errorf("%s\n%s", outcome.Version, said)
	}
}

// Twenty one-line steps; the floor is the same lines in one sh -eu each. go test -bench Steps tells.
func BenchmarkSteps(b *testing.B) {
	t := &testing.T{}
	s := &source{t, b.TempDir()}
	s.git("init", "-q", "-b", "main")
	s.write("f", "")
	s.git("add", "-A")
	s.git("commit", "-qm", "Begin")
	text := "[stage.one]\n" + strings.Repeat("[[stage.one.step]]\nscript = \"echo one\"\n", 20)
	p, _ := language.Read("f", []byte("pipeline = \"p\"\n"+text))
	b.Run("floor", func(b *testing.B) {
		for b.Loop() {
			for range 20 {
				if err := exec.Command("sh", "-eu", "-c", "echo one").Run(); err != nil {
					b.Fatal(err)
				}
			}
		}
	})
	b.Run("rehearsal", func(b *testing.B) {
		for b.Loop() {
			r, err := Prepare(b.Context(), Options{Dir: s.dir, Work: b.TempDir(), Pipeline: p, Jobs: 1})
			if err != nil {
				b.Fatal(err)
			}
			if o, err := r.Run(b.Context(), nil, Watch{}); err != nil || o.State != progress.Passed {
				b.Fatal(o, err)
			}
		}
	})
}
