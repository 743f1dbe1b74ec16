package plan

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"oskeld.dev/oskeld/internal/core/condition"
	"oskeld.dev/oskeld/internal/core/facts"
	"oskeld.dev/oskeld/internal/core/language"
)

func read(t *testing.T, text string) *language.Pipeline {
	t.Helper()
	p, ds := language.Read("f", []byte("pipeline = \"p\"\n"+text))
	if p == nil {
		t.Fatal(ds.Text())
	}
	return p
}

const four = `
[stage.restore]
facts = { os = "linux" }
carry = ["mods/**"]
script = "x"
[stage.check]
facts = { go = ">=1.22" }
carry = ["gen/**"]
script = "x"
[stage.compile]
after = ["check"]
when = "source.branch == 'main'"
carry = ["out/**"]
script = "x"
[stage.pack]
after = ["compile"]
[[stage.pack.artifact]]
name = "p"
root = "out-{branch}"
pack = "zip"
file = "p-{version}.zip"
store = "intake"
`

func TestMake(t *testing.T) {
	p, err := Make(read(t, four), nil)
	if err != nil {
		t.Fatal(err)
	}
	if got := p.String(); got != "restore → check (go >=1.22, os linux)\ncompile (any agent)\npack (any agent)\n" {
		t.Error(got)
	}
	if !slices.Equal(p.Chains[1].Carried, []int{1, 0}) || !slices.Equal(p.Chains[1].Needs, []int{1}) {
		t.Errorf("compile gets %v, needs %v", p.Chains[1].Carried, p.Chains[1].Needs)
	}
	if !slices.Equal(p.Chains[2].Carried, []int{2}) {
		t.Errorf("pack gets %v: not what stages further back carry", p.Chains[2].Carried)
	}
	if got := p.Seen(p.Chains[1]); !slices.Equal(got, []int{0, 1, 2}) {
		t.Errorf("compile sees %v", got)
	}
}

func TestSettle(t *testing.T) {
	p, _ := Make(read(t, four), nil)
	values := map[string]string{"version": "1.2.3", "branch": "side"}
	got, err := p.Settle(condition.Scope{Source: condition.Source{Branch: "side"}}, values)
	if err != nil {
		t.Fatal(err)
	}
	if got.Runs[2].Skip == "" || p.Runs[2].Skip != "" {
		t.Errorf("skip %q, in the plan before %q", got.Runs[2].Skip, p.Runs[2].Skip)
	}
	if a := got.Runs[3].Stage.Artifacts[0]; a.File != "p-1.2.3.zip" || a.Root != "out-side" {
		t.Errorf("artifact %+v", a)
	}
	if a := p.Runs[3].Stage.Artifacts[0]; a.File != "p-{version}.zip" {
		t.Error("settling changed the plan it began from")
	}
	if got := got.Targets(); len(got) != 1 || got[0] != (Target{"intake", "p"}) {
		t.Errorf("targets %v", got)
	}
}

const varied = `
[ask.mode]
pick = ["small", "fast"]
[stage.compile]
vary = { os = ["linux", "windows"], arch = ["amd64", "arm64"] }
omit = [{ os = "windows", arch = "arm64" }]
facts = { os = "{vary.os}" }
carry = ["out/**"]
script = "x"
[stage.check]
script = "x"
when = "vary.os == 'linux' && ask.mode == 'fast'"
[stage.try]
after = ["check"]
match = ["os"]
vary = { os = ["linux", "windows"] }
halt = "never"
script = "x"
when = "stages.check.state == 'passed'"
[stage.pack]
after = ["check", "try"]
run = "always"
[[stage.pack.artifact]]
name = "p"
pack = "zip"
file = "p-{ask.mode}.zip"
store = "intake"
`

func TestVariants(t *testing.T) {
	asks := []condition.Value{{Name: "mode", Kind: condition.TextValue, Text: "fast"}}
	p, err := Make(read(t, varied), asks)
	if err != nil {
		t.Fatal(err)
	}
	want := `compile linux amd64 → check linux amd64 (os linux)
compile linux arm64 → check linux arm64 (os linux)
compile windows amd64 → check windows amd64 (os windows)
try linux (any agent)
try windows (any agent)
pack (any agent)
`
	if got := p.String(); got != want {
		t.Errorf("got\n%swant\n%s", got, want)
	}
	if try := p.Runs[6]; try.Title() != "try linux" || !slices.Equal(try.After, []int{3, 4}) || try.Halting {
		t.Errorf("%s comes after %v, halting %v", try.Title(), try.After, try.Halting)
	}
	if !p.Runs[0].Halting {
		t.Errorf("the failure of compile linux amd64 stops no other variant")
	}
	if !slices.Equal(p.Chains[5].Carried, []int{0, 1, 2}) || len(p.Chains[5].Needs) != 5 {
		t.Errorf("pack: %+v", p.Chains[5])
	}
	settled, err := p.Settle(condition.Scope{}, map[string]string{"version": "1.0.0"})
	if err != nil {
		t.Fatal(err)
	}
	if settled.Runs[3].Skip != "" || settled.Runs[5].Skip == "" || !settled.Runs[6].Late || settled.Runs[8].Stage.Artifacts[0].File != "p-fast.zip" {
		t.Errorf("%+v", settled.Runs)
	}
}

func TestSelect(t *testing.T) {
	p, _ := Make(read(t, varied), []condition.Value{{Name: "mode", Kind: condition.TextValue, Text: "fast"}})
	linux := language.Variant{{Axis: "os", Value: "linux"}}
	for _, c := range []struct {
		part    Part
		want    string
		missing int
	}{
		{Part{UpTo: []string{"check"}, Variant: linux}, "compile linux amd64 → check linux amd64 (os linux)\ncompile linux arm64 → check linux arm64 (os linux)\n", 0},
		{Part{Only: []string{"check"}, Variant: language.Variant{{Axis: "arch", Value: "arm64"}}}, "check linux arm64 (os linux)\n", 0},
		{Part{From: []string{"try"}}, "try linux (any agent)\ntry windows (any agent)\npack (any agent)\n", 3},
	} {
		got, from, err := p.Select(c.part)
		if err != nil || got.String() != c.want || len(p.Missing(from)) != c.missing {
			t.Errorf("%+v: %v, %d missing\n%s", c.part, err, len(p.Missing(from)), got)
		}
		for i, r := range got.Runs {
			if r.Follows >= i || slices.ContainsFunc(r.After, func(n int) bool { return n >= i }) {
				t.Errorf("%s needs what comes later", r.Title())
			}
		}
	}
	for want, part := range map[string]Part{`there is no stage "chek"`: {UpTo: []string{"chek"}}, `no stage varies over "oz"`: {Variant: language.Variant{{Axis: "oz", Value: "x"}}},
		`"mac" is not a value of axis "os"`: {Variant: language.Variant{{Axis: "os", Value: "mac"}}}} {
		if _, _, err := p.Select(part); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%v, want %q", err, want)
		}
	}
}

// 1,000 stage runs are planned in less than 200 ms; go test -bench Make tells.
func BenchmarkMake(b *testing.B) {
	var many strings.Builder
	many.WriteString("pipeline = \"p\"\n[stage.first]\nscript = \"x\"\n[stage.a]\nafter = [\"first\"]\nscript = \"x\"\nvary = { n = [")
	for i := range 499 {
		fmt.Fprintf(&many, "\"%d\", ", i)
	}
	many.WriteString("] }\ncarry = [\"x\"]\nwhen = \"vary.n != '7'\"\n[stage.b]\nscript = \"x\"\n[stage.last]\nafter = [\"b\"]\nscript = \"x\"\n")
	p, ds := language.Read("f", []byte(many.String()))
	if p == nil {
		b.Fatal(ds.Text())
	}
	for b.Loop() {
		made, err := Make(p, nil)
		if err == nil {
			_, err = made.Settle(condition.Scope{}, map[string]string{"version": "1"})
		}
		if err != nil {
			b.Fatal(err)
		}
	}
}

func TestUnmet(t *testing.T) {
	p, _ := Make(read(t, four), nil)
	if err := p.Unmet([]facts.Agent{{Name: "barrow", Facts: facts.Facts{"os": "linux", "go": "1.26.8"}}}); err != nil {
		t.Error(err)
	}
	err := p.Unmet([]facts.Agent{{Name: "barrow", Facts: facts.Facts{"os": "linux", "go": "1.20.0"}}})
	if err == nil || !strings.Contains(err.Error(), `no agent can run stage "restore": it needs go >=1.22, os linux; the nearest, barrow, lacks go >=1.22 (has 1.20.0)`) {
		t.Error(err)
	}
}
