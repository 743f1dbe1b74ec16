package language

import (
	"os"
	"slices"
	"strings"
	"testing"
	"time"
)

const whole = `pipeline = "hivebook"
summary  = "Field notebook for beekeepers"
secrets  = ["SIGNING_KEY"]
env      = { CGO_ENABLED = "0" }

[version]
tag      = "v*"
tagged   = "{tag}"
untagged = "{tag.next_patch}-{branch}.{number}"

[stage.restore]
facts  = { os = "linux", go = ">=1.22" }
script = "go mod download"

[stage.test]
script = "go test -json ./... > tests.json"
read   = { tests = ["tests.json"] }
limit  = "10m"

[stage.compile]
after = ["restore"]
carry = ["out/**"]

[[stage.compile.step]]
name   = "compile"
env    = { GOOS = "linux" }
when   = "source.branch == 'main'"
script = """
go build -o out/ ./...
"""

[stage.package]
after   = ["compile", "test"]
secrets = ["SIGNING_KEY"]
script  = "sh tools/sign.sh out"

[[stage.package.artifact]]
name  = "hivebook"
root  = "out"
files = ["**", "!**/*.map"]
pack  = "zip"
file  = "hivebook-{version}.zip"
store = "intake"
spare = "30d"
`

func TestReadWhole(t *testing.T) {
	p, ds := Read("oskeld.toml", []byte(whole))
	if len(ds) > 0 {
		t.Fatalf("diagnostics:\n%s", ds.Text())
	}
	if p.Name != "hivebook" || len(p.Stages) != 4 {
		t.Fatalf("got %q with %d stages", p.Name, len(p.Stages))
	}
	test, _ := p.Stage("test")
	if test.Follows != "restore" || test.Purpose != Test || test.Limit != 10*time.Minute {
		t.Errorf("test stage: %+v", test)
	}
	compile, _ := p.Stage("compile")
	if compile.Follows != "" || !slices.Equal(compile.Carry, []string{"out/**"}) || compile.Steps[0].Env["GOOS"] != "linux" {
		t.Errorf("compile stage: %+v", compile)
	}
	pack, _ := p.Stage("package")
	a := pack.Artifacts[0]
	if a.Pack != PackZip || a.Spare != 30*24*time.Hour || a.File != "hivebook-{version}.zip" || a.Duty != DutyFail {
		t.Errorf("artifact: %+v", a)
	}
}

// Each mistake is found at its place, under its code, with its suggestion.
func TestMistakes(t *testing.T) {
	stage := "pipeline = \"p\"\n[stage.compile]\nscript = \"true\"\n"
	cases := []struct{ name, text, want string }{
		{"not TOML", "pipeline = ", "1:11: error S001"},
		{"key twice", "pipeline = \"a\"\npipeline = \"b\"\n", "error S001"},
		{"not UTF-8", "pipeline = \"\xff\"", "1:1: error S001: the file is not UTF-8"},
		{"no pipeline", "[stage.x]\nscript = \"true\"\n", "error S103: the file has no \"pipeline\""},
		{"no stage", "pipeline = \"p\"\n", "error S103: the file has no \"stage\""},
		{"unknown key", stage + "scirpt = \"x\"\n", "4:1: error S101: \"scirpt\" is not a key of stage compile\n    4 | scirpt = \"x\"\n      | ^^^^^^ did you mean \"script\"?"},
		{"unknown top key", "pipelin = \"p\"\n" + stage, "1:1: error S101"},
		{"wrong form", stage + "carry = \"out\"\n", "4:9: error S102: \"carry\" takes a list of texts"},
		{"wrong pick", stage + "purpose = \"tset\"\n", "did you mean \"test\"?"},
		{"bad name", "pipeline = \"../p\"\n[stage.a]\nscript=\"x\"\n", "1:12: error S102"},
		{"missing stage", stage + "[stage.b]\nafter = [\"complie\"]\nscript = \"x\"\n", "5:10: error S104: stage \"b\" comes after \"complie\", which does not exist\n    5 | after = [\"complie\"]\n      |          ^^^^^^^^^ did you mean \"compile\"?"},
		{"itself", "pipeline = \"p\"\n[stage.a]\nafter = [\"a\"]\nscript = \"x\"\n", "3:10: error S105: stage \"a\" comes after itself"},
		{"circle", "pipeline = \"p\"\n[stage.a]\nafter = [\"c\"]\nscript = \"x\"\n[stage.b]\nafter=[\"a\"]\nscript=\"x\"\n[stage.c]\nafter=[\"b\"]\nscript=\"x\"\n", "S105: stages wait for each other in a circle: a → c → b → a"},
		{"after and follows", stage + "[stage.b]\nafter = [\"compile\"]\nfollows = \"compile\"\nscript = \"x\"\n", "6:1: error S112"},
		{"script and steps", stage + "[[stage.compile.step]]\nscript = \"x\"\n", "3:1: error S112"},
		{"condition", stage + "when = \"source.brunch == 'main'\"\n", "4:15: error S107: condition: undefined field 'brunch'"},
		{"condition types", stage + "when = \"build.number == 'x'\"\n", "error S107: condition: found no matching overload"},
		{"condition not a truth", stage + "when = \"version\"\n", "4:9: error S107: condition: a condition must be true or false"},
		{"braces", "pipeline = \"p\"\n[version]\ntagged = \"{tga}\"\n[stage.a]\nscript = \"x\"\n", "3:11: error S108: {tga} is not known here\n    3 | tagged = \"{tga}\"\n      |           ^^^^^ did you mean {tag}?"},
		{"braces open", "pipeline = \"p\"\n[version]\nuntagged = \"1.{number\"\n[stage.a]\nscript = \"x\"\n", "3:15: error S108: a brace is not closed"},
		{"file without file", "pipeline = \"p\"\n[version]\nuntagged = \"{file}\"\n[stage.a]\nscript = \"x\"\n", "3:12: error S103"},
		{"path out", stage + "in = \"../x\"\n", "4:6: error S109: \"../x\" leaves its root"},
		{"pattern", stage + "carry = [\"a[\"]\n", "4:10: error S109"},
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
	var b strings.Builder
	b.WriteString("pipeline = \"p\"\n")
	for i := range MostStages + 1 {
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
	f.Add([]byte("a=[{b='{c'}]\n[stage]\nx=1"))
	f.Add([]byte("pipeline='p'\n[[stage]]\n"))
	f.Fuzz(func(t *testing.T, text []byte) {
		p, ds := Read("f", text)
		if (p == nil) != (ds.Errors() > 0) {
			t.Errorf("pipeline %v with %d errors", p, ds.Errors())
		}
		ds.Text()
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
