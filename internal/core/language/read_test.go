package language

import (
	"fmt"
	"os"
	"slices"
	"strings"
	"testing"
	"time"

	"oskeld.dev/oskeld/internal/core/condition"
)

// whole is the file that the page on the language shows.
var whole = func() string {
	text, err := os.ReadFile("testdata/whole.toml")
	if err != nil {
		panic(err)
	}
	return string(text)
}()

func TestReadWhole(t *testing.T) {
	p, ds := Read("oskeld.toml", []byte(whole))
	if len(ds) > 0 {
		t.Fatalf("diagnostics:\n%s", ds.Text())
	}
	if p.Name != "hivebook" || len(p.Stages) != 4 || len(p.Asks) != 2 || len(p.Starts) != 4 || p.Overlap != Together {
		t.Fatalf("got %+v", p)
	}
	if a := p.Asks[0]; a.Name != "profile" || a.Usual != "release" || a.Kind != condition.TextValue || len(a.Picks) != 2 {
		t.Errorf("ask: %+v", a)
	}
	if s := p.Starts[2]; s.Clock != "30 5 * * 1-5" || s.Zone != "Europe/Oslo" || s.Branch != "main" {
		t.Errorf("clock: %+v", s)
	}
	restore, _ := p.Stage("restore")
	if len(restore.Reuse) != 3 || restore.Cache[0].Dirs[0] != "~/go/pkg/mod" || restore.Cache[0].By[0] != "go.sum" {
		t.Errorf("restore: %+v", restore)
	}
	test, _ := p.Stage("test")
	if test.Follows != "restore" || test.Purpose != Test || test.ReadCoverage[0] != "cover.out" {
		t.Errorf("test stage: %+v", test)
	}
	compile, _ := p.Stage("compile")
	if compile.Follows != "" || !compile.HaltNever || len(compile.Variants()) != 3 || compile.Variants()[2].String() != "windows amd64" {
		t.Errorf("compile stage: %+v, variants %v", compile, compile.Variants())
	}
	if s := compile.Steps[0].Stamp; s == nil || s.From != "internal/about/about.txt.in" {
		t.Errorf("stamp: %+v", s)
	}
	pack, _ := p.Stage("package")
	a := pack.Artifacts[0]
	if a.Pack != PackZip || a.Spare != 30*24*time.Hour || a.File != "hivebook-{version}-linux-amd64.zip" || a.Duty != DutyFail {
		t.Errorf("artifact: %+v", a)
	}
}

// Every key of the language, in use.
func TestReadEverything(t *testing.T) {
	text, err := os.ReadFile("testdata/everything.toml")
	if err != nil {
		t.Fatal(err)
	}
	p, ds := Read("everything.toml", text)
	if len(ds) > 0 {
		t.Fatalf("diagnostics:\n%s", ds.Text())
	}
	var unused []string
	var look func(*Shape)
	look = func(s *Shape) {
		for _, k := range s.Keys {
			if !strings.Contains(string(text), k.Name) {
				unused = append(unused, s.Title+" "+k.Name)
			}
			if k.Inner != nil {
				look(k.Inner)
			}
		}
	}
	if look(PipelineShape); len(unused) > 0 {
		t.Errorf("the example does not show %v", unused)
	}
	try, _ := p.Stage("try")
	if try.Tries != 2 || !try.Always || try.Alone != "market" || try.Match[0] != "os" || !slices.Equal(try.Steps[0].Shell, []string{"bash", "-eu", "-o", "pipefail"}) {
		t.Errorf("try: %+v", try)
	}
	if got := p.Variants(try); len(got) != 3 || got[2].String() != "darwin" {
		t.Errorf("variants %v", got)
	}
}

func TestStarts(t *testing.T) {
	p, _ := Read("f", []byte(whole))
	at := time.Date(2026, 11, 25, 3, 0, 0, 0, time.UTC)
	next := p.Starts[2].Next(at, 3)
	if len(next) != 3 || next[0].Format(time.RFC3339) != "2026-11-25T05:30:00+01:00" || next[2].Format("Mon 15:04") != "Fri 05:30" {
		t.Errorf("%v", next)
	}
	for i, want := range []string{"a push to main, release/**, unless it touches only docs/**, **/*.md", "a pushed tag that fits v*",
		"the clock, 30 5 * * 1-5 in Europe/Oslo, on main", "a passed build of nectar, on main"} {
		if got := p.Starts[i].String(); got != want {
			t.Errorf("%q, want %q", got, want)
		}
	}
}

func TestChoose(t *testing.T) {
	p, _ := Read("f", []byte(whole))
	values, err := Choose(p.Asks, map[string]string{"label": `it's "quoted"`})
	if err != nil || values[0].Text != "release" || values[1].Text != `it's "quoted"` {
		t.Errorf("%+v, %v", values, err)
	}
	for want, chosen := range map[string]map[string]string{
		`there is no ask "profil"`:                  {"profil": "debug"},
		`"fast" cannot be picked for ask "profile"`: {"profile": "fast"},
		"more than one line":                        {"label": "a\nb"},
		"has 1048576 bytes; at most 4096 are taken": {"label": strings.Repeat("x", 1<<20)},
	} {
		if _, err := Choose(p.Asks, chosen); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%v, want %q", err, want)
		}
	}
	asks := []Ask{{Name: "deep", Kind: condition.FlagValue, Usual: "false"}, {Name: "jobs", Kind: condition.NumberValue, Usual: "4"}}
	for _, chosen := range []map[string]string{{"deep": "yes"}, {"jobs": "many"}, {"jobs": ""}} {
		if _, err := Choose(asks, chosen); err == nil {
			t.Errorf("%v was taken", chosen)
		}
	}
}

const routineText = `routine = "sign"
[ask.key]
pick = ["proof", "release"]
[[step]]
name   = "sign"
script = "echo $ASK_KEY"
when   = "ask.key != 'proof'"
[[step]]
script = "ls"
`

func TestExpand(t *testing.T) {
	p, ds := Read("f", []byte("pipeline = \"p\"\n[stage.a]\n[[stage.a.step]]\nname = \"signing\"\nin = \"out\"\nwhen = \"source.branch == 'main'\"\nroutine = { use = \"shelf/sign@1.2.0\", ask = { key = \"release\" } }\n"))
	if p == nil {
		t.Fatal(ds.Text())
	}
	if refs := p.Routines(); !slices.Equal(refs, []string{"shelf/sign@1.2.0"}) {
		t.Errorf("routines %v", refs)
	}
	wide, err := Expand(p, map[string][]byte{"shelf/sign@1.2.0": []byte(routineText)})
	if err != nil {
		t.Fatal(err)
	}
	steps := wide.Stages[0].Steps
	if len(steps) != 2 || steps[0].Name != "signing: sign" || steps[0].In != "out" || steps[0].Asks[0].Text != "release" || steps[0].UseWhen == "" || steps[1].Name != "signing: ls" {
		t.Errorf("%+v", steps)
	}
	if len(p.Stages[0].Steps) != 1 {
		t.Error("expanding changed the pipeline that it began from")
	}
	for text, want := range map[string]string{"": "has mistakes", "routine = \"x\"\n[[step]]\nscirpt = \"x\"\n": "S101",
		"routine = \"x\"\n[[step]]\nroutine = { use = \"a/b@1\" }\n": "a routine uses no other routine",
		"routine = \"x\"\n[[step]]\nscript = \"x\"\n":                `there is no ask "key"`} {
		if _, err := Expand(p, map[string][]byte{"shelf/sign@1.2.0": []byte(text)}); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%v, want %q", err, want)
		}
	}
}

const circleOfFive = "[stage.a]\nafter = [\"e\"]\nscript = \"x\"\n[stage.b]\nafter = [\"a\"]\nscript = \"x\"\n[stage.c]\nafter = [\"b\"]\nscript = \"x\"\n[stage.d]\nafter = [\"c\"]\nscript = \"x\"\n[stage.e]\nafter = [\"d\"]\nscript = \"x\"\n"

// Each mistake is found at its place, under its code, with its suggestion.
func TestMistakes(t *testing.T) {
	stage := "pipeline = \"p\"\n[stage.compile]\nscript = \"true\"\n"
	cases := []struct{ name, text, want string }{
		{"not TOML", "pipeline = ", "1:11: error S001"},
		{"key twice", "pipeline = \"a\"\npipeline = \"b\"\n", "error S001"},
		{"not UTF-8", "pipeline = \"\xff\"", "1:13: error S001: the file is not UTF-8"},
		{"no pipeline", "[stage.x]\nscript = \"true\"\n", "error S103: the file has no \"pipeline\""},
		{"no stage", "pipeline = \"p\"\n", "error S103: the file has no \"stage\""},
		{"unknown key", stage + "scirpt = \"x\"\n", "4:1: error S101: \"scirpt\" is not a key of stage compile\n    4 | scirpt = \"x\"\n      | ^^^^^^ did you mean \"script\"?"},
		{"top key below a table", stage + "summary = \"x\"\n", "4:1: error S101: \"summary\" is not a key of stage compile\n    4 | summary = \"x\"\n      | ^^^^^^^ it is a key of the file: write it above the first [table]"},
		{"unknown top key", "pipelin = \"p\"\n" + stage, "1:1: error S101"},
		{"wrong form", stage + "carry = \"out\"\n", "4:9: error S102: \"carry\" takes a list of texts"},
		{"wrong pick", stage + "purpose = \"tset\"\n", "did you mean \"test\"?"},
		{"bad name", "pipeline = \"../p\"\n[stage.a]\nscript=\"x\"\n", "1:12: error S102"},
		{"missing stage", stage + "[stage.b]\nafter = [\"complie\"]\nscript = \"x\"\n", "5:10: error S104: stage \"b\" comes after \"complie\", which does not exist\n    5 | after = [\"complie\"]\n      |          ^^^^^^^^^ did you mean \"compile\"?"},
		{"itself", "pipeline = \"p\"\n[stage.a]\nafter = [\"a\"]\nscript = \"x\"\n", "3:10: error S105: stage \"a\" comes after itself"},
		{"circle", "pipeline = \"p\"\n[stage.a]\nafter = [\"c\"]\nscript = \"x\"\n[stage.b]\nafter=[\"a\"]\nscript=\"x\"\n[stage.c]\nafter=[\"b\"]\nscript=\"x\"\n", "S105: stages wait for each other in a circle: a → c → b → a"},
		{"after and follows", stage + "[stage.b]\nafter = [\"compile\"]\nfollows = \"compile\"\nscript = \"x\"\n", "6:1: error S112"},
		{"script and steps", stage + "[[stage.compile.step]]\nscript = \"x\"\n", "3:1: error S112"},
		{"condition", stage + "when = \"source.brunch == 'main'\"\n", "4:16: error S107: condition: undefined field 'brunch'"},
		{"condition types", stage + "when = \"build.number == 'x'\"\n", "error S107: condition: found no matching overload"},
		{"condition not a truth", stage + "when = \"version\"\n", "4:9: error S107: condition: it must be true or false"},
		{"condition never told", stage + "when = \"1 / 0 == 1\"\n", "4:8: error S107: condition: it can never be told: division by zero"},
		{"condition never true", stage + "when = \"1 > 2\"\n", "4:8: warning W203: the condition is never true"},
		{"condition past escapes", stage + "when = \"source.branch == \\\"a\\\" || source.brunch == 'b'\"\n", "4:42: error S107: condition: undefined field 'brunch'"},
		{"condition over lines", stage + "when = \"\"\"\nsource.branch == 'a'\n  && source.brunch == 'b'\"\"\"\n", "6:13: error S107"},
		{"unknown ask", stage + "when = \"ask.profil == 'x'\"\n[ask.profile]\nline = \"\"\n", "4:9: error S107: condition: ask.profil is not known here\n    4 | when = \"ask.profil == 'x'\"\n      |         ^^^^^^^^^^ did you mean ask.profile?"},
		{"ask of another type", stage + "when = \"ask.jobs == '3'\"\n[ask.jobs]\nnumber = 3\n", "error S107: condition: found no matching overload"},
		{"condition on a stage", stage + "[stage.b]\nwhen = \"stages.complie.state == 'passed'\"\nscript = \"x\"\n", "5:16: error S104: condition: there is no stage \"complie\"\n    5 | when = \"stages.complie.state == 'passed'\"\n      |                ^^^^^^^ did you mean \"compile\"?"},
		{"condition on a stage beside", "pipeline = \"p\"\n[stage.a]\nscript = \"x\"\n[stage.b]\nscript = \"x\"\n[stage.c]\nafter = [\"a\"]\nwhen = \"stages.b.state == 'passed'\"\nscript = \"x\"\n", "8:16: error S104: condition: stage \"c\" does not wait for \"b\""},
		{"braces in braces", stage + "[[stage.compile.artifact]]\nname = \"a\"\nstore = \"s\"\nfiles = [\"x\"]\nfile = \"{version{tag}}\"\n", "8:17: error S108: a brace opens inside braces"},
		{"braces past escapes", stage + "[[stage.compile.artifact]]\nname = \"a\"\nstore = \"s\"\nfiles = [\"x\"]\nfile = \"\\u00e9-{verison}\"\n", "8:16: error S108: {verison} is not known here\n    8 | file = \"\\u00e9-{verison}\"\n      |                ^^^^^^^^^ did you mean {version}?"},
		{"vary in braces without vary", stage + "[[stage.compile.artifact]]\nname = \"a\"\nstore = \"s\"\npack = \"zip\"\nfile = \"{vary.os}\"\n", "error S108: {vary.os} is not known here"},
		{"variants deliver one file", stage + "vary = { os = [\"a\", \"b\"] }\n[[stage.compile.artifact]]\nname = \"a\"\nstore = \"s\"\npack = \"zip\"\n", "error S106: every variant of stage \"compile\" delivers"},
		{"vary without after", stage + "[stage.b]\nvary = { os = [\"a\"] }\nscript = \"x\"\n", "5:1: error S103: stage \"b\" varies, so it must say what it comes after"},
		{"omit of an unknown value", stage + "vary = { os = [\"linux\"] }\nomit = [{ os = \"linus\" }]\n", "5:16: error S116: \"linus\" is not a value of axis \"os\", so this omits nothing\n    5 | omit = [{ os = \"linus\" }]\n      |                ^^^^^^^ did you mean \"linux\"?"},
		{"also without an axis", stage + "vary = { os = [\"a\"], arch = [\"b\"] }\nalso = [{ os = \"c\" }]\n", "error S116: a combination that is added names all axes"},
		{"match of a foreign axis", stage + "vary = { os = [\"a\"] }\n[stage.b]\nafter = [\"compile\"]\nvary = { os = [\"a\"], arch = [\"c\"] }\nmatch = [\"arch\"]\nscript = \"x\"\n", "8:10: error S116: no stage that \"b\" comes after varies over \"arch\""},
		{"10,000 variants", stage + "vary = { a = [" + numbers(100) + "], b = [" + numbers(100) + "] }\n", "4:1: error S115: stage \"compile\" has 10000 variants; a build has at most 1000 stage runs"},
		{"variants of two stages", stage + "vary = { a = [" + numbers(30) + "], b = [" + numbers(30) + "] }\n[stage.c]\nscript = \"x\"\n", "S115: all stages with their variants are 1800 stage runs"},
		{"circle of five", "pipeline = \"p\"\n" + circleOfFive, "S105: stages wait for each other in a circle: a → e → d → c → b → a"},
		{"clock", stage + "[[start]]\nclock = \"61 5 * * *\"\n", "5:10: error S118: clock: \"61\" is not a minute"},
		{"zone", stage + "[[start]]\nclock = \"1 5 * * *\"\nzone = \"Europe/Osol\"\n", "6:8: error S118: \"Europe/Osol\" is not a time zone\n    6 | zone = \"Europe/Osol\"\n      |        ^^^^^^^^^^^^^ did you mean \"Europe/Oslo\"?"},
		{"two causes", stage + "[[start]]\npush = [\"main\"]\nclock = \"1 5 * * *\"\n", "6:1: error S112: start rule 1 has both `push` and `clock`"},
		{"after itself", stage + "[[start]]\nafter = \"p\"\n", "error S118: a pipeline that starts after itself"},
		{"two deeds", stage + "[stage.b]\n[[stage.b.step]]\nscript = \"x\"\nfetch = { artifact = \"s/a@1\", into = \"d\" }\n", "error S112: step 1 of stage b has both `script` and `fetch`"},
		{"no deed", stage + "[stage.b]\n[[stage.b.step]]\nname = \"x\"\n", "error S103: step 1 of stage b needs one of script, stamp, fetch, send, routine"},
		{"range", stage + "[stage.b]\n[[stage.b.step]]\nfetch = { artifact = \"s/a@^1.q\", into = \"d\" }\n", "error S121: \"^1.q\" is not a range of versions"},
		{"stamp of a strange file", stage + "carry = [\"x\"]\n[stage.b]\ncarry = [\"x\"]\n[[stage.b.step]]\nstamp = { file = \"a.yaml\", set = { v = \"{version}\" } }\n", "error S112: fields can be set in .json"},
		{"sends what it has not", stage + "[stage.b]\n[[stage.b.step]]\nsend = { artifact = \"q\", to = \"market\" }\n", "error S104: the pipeline delivers no artifact \"q\""},
		{"number as a text", stage + "tries = \"3\"\n", "4:9: error S102: \"tries\" takes a whole number"},
		{"too many tries", stage + "tries = 11\n", "4:9: error S102: \"tries\" takes 1 to 10"},
		{"shell", stage + "shell = \"fish\"\n", "4:9: error S102: \"fish\" is not a shell"},
		{"exports twice", stage + "exports = [\"A\"]\n[stage.b]\nexports = [\"A\"]\nscript = \"x\"\n", "6:12: error S106: stages \"compile\" and \"b\" both export \"A\""},
		{"UTF-16", "\xff\xfep\x00", "error S001: the file is UTF-16 text"},
		{"braces", "pipeline = \"p\"\n[version]\ntagged = \"{tga}\"\n[stage.a]\nscript = \"x\"\n", "3:11: error S108: {tga} is not known here\n    3 | tagged = \"{tga}\"\n      |           ^^^^^ did you mean {tag}?"},
		{"braces open", "pipeline = \"p\"\n[version]\nuntagged = \"1.{number\"\n[stage.a]\nscript = \"x\"\n", "3:15: error S108: a brace is not closed"},
		{"file without file", "pipeline = \"p\"\n[version]\nuntagged = \"{file}\"\n[stage.a]\nscript = \"x\"\n", "3:12: error S103"},
		{"path out", stage + "in = \"../x\"\n", "4:6: error S109: \"../x\" leaves its root"},
		{"pattern", stage + "carry = [\"a[\"]\n", "4:10: error S109"},
		{"fact misspelled", stage + "facts = { nodee = \">=20\" }\n", "4:11: warning W210: \"nodee\" is no fact that agents look up by themselves\n    4 | facts = { nodee = \">=20\" }\n      |           ^^^^^ did you mean \"node\"?"},
		{"word misspelled", stage + "facts = { os = \"linx\" }\n", "4:16: warning W210: no agent has os = \"linx\"\n    4 | facts = { os = \"linx\" }\n      |                ^^^^^^ did you mean \"linux\"?"},
		{"fact", stage + "facts = { go = \">=new\" }\n", "4:16: error S110"},
		{"facts clash", stage + "facts = { os = \"linux\" }\n[stage.b]\nfacts = { os = \"windows\" }\nscript = \"x\"\n", "6:1: error S110: os = \"linux\" and os = \"windows\" cannot both hold"},
		{"secret", stage + "secrets = [\"KEY\"]\n", "4:12: error S111"},
		{"length", stage + "limit = \"ten\"\n", "4:9: error S113"},
		{"test without report", "pipeline = \"p\"\n[stage.test]\nscript = \"x\"\n", "2:8: error S114"},
		{"unused secret", "pipeline = \"p\"\nsecrets = [\"KEY\"]\n[stage.a]\nscript = \"x\"\n", "2:12: warning W201"},
		{"braces in script", "pipeline = \"p\"\n[stage.a]\nscript = \"echo {version}\"\n", "3:16: warning W202: braces are not filled in scripts: {version} stays as it is\n    3 | script = \"echo {version}\"\n      |                ^^^^^^^^^ read $OSKELD_VERSION instead"},
		{"package without artifact", "pipeline = \"p\"\n[stage.package]\nscript = \"x\"\n", "2:8: warning W204"},
		{"nothing to do", "pipeline = \"p\"\n[stage.a]\n", "2:8: warning W205"},
		{"file without pack", stage + "[[stage.compile.artifact]]\nname=\"a\"\nstore=\"s\"\nfile=\"x\"\n", "error S112: `file` names one file"},
		{"same file twice", stage + strings.Repeat("[[stage.compile.artifact]]\nname=\"a\"\nstore=\"s\"\npack=\"zip\"\n", 2), "error S106"},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			_, ds := Read("oskeld.toml", []byte(c.text))
			if !strings.Contains(ds.Text(), c.want) {
				t.Errorf("want %q in\n%s", c.want, ds.Text())
			}
		})
	}
}

func TestAllMistakesAtOnce(t *testing.T) {
	text := "pipelin = 1\n[version]\ntagged = \"{x}\"\n[stage.a]\nscirpt = \"x\"\nafter = [\"zz\"]\nlimit = \"q\"\n"
	_, ds := Read("f", []byte(text))
	if ds.Errors() < 6 {
		t.Errorf("%d errors, want at least 6:\n%s", ds.Errors(), ds.Text())
	}
	if !slices.IsSortedFunc(ds, func(a, b Diagnostic) int { return a.Line - b.Line }) {
		t.Error("not in the order of the lines")
	}
}

func TestWindowsLinesAndBOM(t *testing.T) {
	p, ds := Read("f", []byte("\ufeff"+strings.ReplaceAll(whole, "\n", "\r\n")))
	if p == nil {
		t.Fatalf("refused:\n%s", ds.Text())
	}
	_, ds = Read("f", []byte("pipeline = \"p\"\r\n[stage.a]\r\nscirpt = \"x\"\r\nscript = \"x\"\r\n"))
	if got := ds[0]; got.Line != 3 || got.Column != 1 || strings.Contains(got.Source, "\r") {
		t.Errorf("got %+v", got)
	}
}

func TestTooLargeAndTooMany(t *testing.T) {
	if _, ds := Read("f", make([]byte, MostBytes+1)); ds.Errors() != 1 {
		t.Error("a file beyond the limit was read")
	}
	if _, ds := Read("f", []byte("env = { "+manyKeys(mostKeys)+" }\n")); len(ds) != 1 || ds[0].Code != "S001" {
		t.Error("a file with too many keys was read")
	}
	var b strings.Builder
	b.WriteString("pipeline = \"p\"\n")
	for i := range MostRuns + 1 {
		b.WriteString("[stage.s" + string(rune('a'+i%26)) + strings.Repeat("x", i/26) + "]\nscript=\"x\"\n")
	}
	if _, ds := Read("f", []byte(b.String())); ds.Errors() == 0 {
		t.Error("too many stages were taken")
	}
}

func TestStagesStandInAnyOrderOfTables(t *testing.T) {
	p, ds := Read("f", []byte("pipeline = \"p\"\n[[stage.a.step]]\nscript = \"x\"\n[stage.b]\nscript = \"y\"\n"))
	if p == nil || p.Stages[0].Name != "a" || p.Stages[1].Follows != "a" {
		t.Errorf("got %+v\n%s", p, ds.Text())
	}
}

func FuzzRead(f *testing.F) {
	f.Add([]byte(whole))
	if everything, err := os.ReadFile("testdata/everything.toml"); err == nil {
		f.Add(everything)
	}
	f.Add([]byte(routineText))
	f.Add([]byte("a=[{b='{c'}]\n[stage]\nx=1"))
	f.Add([]byte("pipeline='p'\n[[stage]]\n"))
	f.Fuzz(func(t *testing.T, text []byte) {
		p, ds := Read("f", text)
		if (p == nil) != (ds.Errors() > 0) {
			t.Errorf("pipeline %v with %d errors", p, ds.Errors())
		}
		ds.Text()
		if x, ds := ReadRoutine("f", text); (x == nil) != (ds.Errors() > 0) {
			t.Errorf("routine %v with %d errors", x, ds.Errors())
		}
	})
}

func TestDocumentedExample(t *testing.T) {
	text, err := os.ReadFile("../../../demo/sources/hivebook/1-hives/oskeld.toml")
	if err != nil {
		t.Fatal(err)
	}
	if _, ds := Read("oskeld.toml", text); len(ds) > 0 {
		t.Error(ds.Text())
	}
}

// A file of 5,000 lines is read in less than 100 ms; go test -bench Read5000 tells.
func BenchmarkRead5000(b *testing.B) {
	text := []byte("pipeline = \"p\"\n[ask.deep]\nflag = true\n")
	for i := range 250 {
		text = fmt.Appendf(text, "[stage.s%d]\n# %d\nfacts = { os = \"linux\", go = \">=1.22\" }\nwhen = \"ask.deep || source.branch == 'b%d'\"\nlimit = \"10m\"\nenv = { A = \"b\" }\ncarry = [\"out%d/**\"]\n\n", i, i, i, i)
		text = fmt.Appendf(text, "[[stage.s%d.step]]\nname = \"one\"\nscript = \"\"\"\ntrue\n\"\"\"\n\n[[stage.s%d.step]]\nname = \"two\"\nscript = \"true\"\nlimit = \"1m\"\n\n", i, i)
	}
	for b.Loop() {
		if p, ds := Read("f", text); p == nil {
			b.Fatal(ds.Text())
		}
	}
}

// A file that is wrong in thousands of places, all on one line, is told in bounded time and space.
func TestManyMistakes(t *testing.T) {
	_, ds := Read("f", []byte("pipeline = \"p\"\nenv = { "+manyKeys(6_000)+" }\n"))
	if len(ds) != MostDiagnostics || !strings.Contains(ds[len(ds)-1].Message, "more are not listed") {
		t.Errorf("%d diagnostics, the last %+v", len(ds), ds[len(ds)-1])
	}
	for _, d := range ds {
		if len(d.Source) > 4*sourceAround || !strings.Contains(d.Text(), "^") {
			t.Fatalf("%d bytes of source", len(d.Source))
		}
	}
}

func manyKeys(n int) string {
	var b strings.Builder
	for i := range n {
		fmt.Fprintf(&b, "%d-=\"\",", i)
	}
	return b.String() + "z = \"\""
}

func TestTitles(t *testing.T) {
	for script, want := range map[string]string{"echo hi": "echo hi", "\n# why\n  go test ./...\nexit": "go test ./...", "": "step 3", strings.Repeat("é", 80): strings.Repeat("é", 59) + "…"} {
		if got := (&Step{Script: script}).Title(2); got != want {
			t.Errorf("%q: %q", script, got)
		}
	}
}
