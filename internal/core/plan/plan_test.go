package plan

import (
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
	p, err := Make(read(t, four))
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
}

func TestSettle(t *testing.T) {
	p, _ := Make(read(t, four))
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

func TestUnmet(t *testing.T) {
	p, _ := Make(read(t, four))
	if err := p.Unmet([]facts.Agent{{Name: "barrow", Facts: facts.Facts{"os": "linux", "go": "1.26.8"}}}); err != nil {
		t.Error(err)
	}
	err := p.Unmet([]facts.Agent{{Name: "barrow", Facts: facts.Facts{"os": "linux", "go": "1.20.0"}}})
	if err == nil || !strings.Contains(err.Error(), `no agent can run stage "restore": it needs go >=1.22, os linux; the nearest, barrow, lacks go >=1.22 (has 1.20.0)`) {
		t.Error(err)
	}
}
