package basis

import (
	"encoding/json"
	"slices"
	"testing"

	"oskeld.dev/oskeld/internal/core/artifact"
	"oskeld.dev/oskeld/internal/core/condition"
	"oskeld.dev/oskeld/internal/core/language"
	"oskeld.dev/oskeld/internal/core/plan"
)

const file = `pipeline = "hive"
secrets = ["KEY"]
[ask.size]
pick = ["small", "large"]
usual = "small"
[stage.make]
reuse = ["src/**"]
script = "make"
[stage.pack]
secrets = ["KEY"]
script = "pack"
`

func made(t *testing.T, text string, asks map[string]string) plan.Plan {
	t.Helper()
	p, ds := language.Read("oskeld.toml", []byte(text))
	if p == nil {
		t.Fatal(ds.Text())
	}
	chosen, err := language.Choose(p.Asks, asks)
	if err != nil {
		t.Fatal(err)
	}
	out, err := plan.Make(p, chosen)
	if err != nil {
		t.Fatal(err)
	}
	out, err = out.Settle(condition.Scope{}, map[string]string{"version": "1.0.0"})
	if err != nil {
		t.Fatal(err)
	}
	return out
}

func inputs() Inputs {
	return Inputs{Files: "f", Secrets: map[string]string{"KEY": "1", "OTHER": "1"}, Values: map[string]string{"version": "1.0.0", "number": "7", "commit": "c", "branch": "main", "tag": ""}}
}

// What belongs to a basis changes it, by name; what does not leaves it as it is.
func TestChanged(t *testing.T) {
	before := Of(made(t, file, nil), 0, inputs())
	changed := func(text string, asks map[string]string, change func(*Inputs)) []string {
		in := inputs()
		if change != nil {
			change(&in)
		}
		return Of(made(t, text, asks), 0, in).Changed(before)
	}
	for _, c := range []struct {
		what   string
		text   string
		asks   map[string]string
		change func(*Inputs)
		want   []string
	}{
		{"nothing", file, nil, nil, nil},
		{"files", file, nil, func(in *Inputs) { in.Files = "g" }, []string{Files}},
		{"an ask", file, map[string]string{"size": "large"}, nil, []string{"asks"}},
		{"a secret", file, nil, func(in *Inputs) { in.Secrets["KEY"] = "2" }, []string{"secret KEY"}},
		{"another secret", file, nil, func(in *Inputs) { in.Secrets["OTHER"] = "2" }, nil},
		{"version and commit", file, nil, func(in *Inputs) { in.Values["version"], in.Values["commit"] = "2.0.0", "d" }, nil},
		{"a script", file + "env = { X = \"1\" }\n", nil, nil, []string{"stage pack"}},
		{"carried files", file, nil, func(in *Inputs) { in.Carried = []artifact.File{{Path: "x", Digest: "d"}} }, []string{"carried files"}},
		{"exports", file, nil, func(in *Inputs) { in.Exports = []condition.Export{{Name: "X", Text: "1"}} }, []string{"exports of earlier stages"}},
		{"limits and caches", file + "limit = \"5m\"\ntries = 2\ncache = [{ dirs = [\"d\"], by = [\"l\"] }]\n", nil, nil, nil},
		{"facts", file + "facts = { go = \">=1.22\" }\n", nil, nil, []string{"facts and equipped tools"}},
		{"another stage", file + "[stage.more]\nscript = \"more\"\n", nil, nil, []string{"stage more"}},
	} {
		if got := changed(c.text, c.asks, c.change); !slices.Equal(got, c.want) {
			t.Errorf("%s: %q, want %q", c.what, got, c.want)
		}
	}
}

// Build values belong to the basis where they are listed or used, and are unset elsewhere.
func TestBuildValues(t *testing.T) {
	for text, want := range map[string][]string{
		file: nil,
		"pipeline = \"hive\"\n[stage.make]\nreuse = [\"src/**\"]\nreuse_with = [\"version\"]\nscript = \"make\"\n":                                                                                {"version"},
		"pipeline = \"hive\"\n[stage.make]\nreuse = [\"src/**\"]\n[[stage.make.step]]\nstamp = { file = \"a\", from = \"b\" }\n[[stage.make.artifact]]\nname=\"a\"\nstore=\"s\"\nfiles=[\"a\"]\n": buildValues,
		"pipeline = \"hive\"\n[stage.make]\nreuse = [\"src/**\"]\n[[stage.make.step]]\nscript = \"x\"\nwhen = \"source.branch == 'main'\"\n":                                                      {"branch"},
		"pipeline = \"hive\"\n[stage.make]\nreuse = [\"src/**\"]\n[[stage.make.step]]\nscript = \"x\"\nwhen = \"build.by == 'ida'\"\n":                                                            buildValues,
	} {
		p := made(t, text, nil)
		b := Of(p, 0, inputs())
		var got []string
		for _, name := range buildValues {
			if _, ok := b[name]; ok {
				got = append(got, name)
			}
		}
		if !slices.Equal(got, want) {
			t.Errorf("%q in the basis of\n%s\nwant %q", got, text, want)
		}
	}
	if got := Unset(language.Stage{Reuse: []string{"x"}, ReuseWith: []string{"version", "tag"}}); !slices.Equal(got, []string{"OSKELD_NUMBER", "OSKELD_COMMIT", "OSKELD_BRANCH"}) {
		t.Error(got)
	}
	if got := Unset(language.Stage{}); got != nil {
		t.Errorf("a chain that is not reusable lacks %q", got)
	}
}

// A plan that was written down and read again gives the same basis.
func TestSameAfterReading(t *testing.T) {
	for name, text := range map[string]string{"plain": "pipeline = \"hive\"\n[stage.make]\nreuse = [\"src/**\"]\nscript = \"make\"\n", "with asks": file,
		"rich": `pipeline = "hive"
env = { A = "1" }
[stage.make]
reuse = ["src/**"]
env = { B = "2" }
equip = { go = "^1.22" }
cache = [{ dirs = ["c"], by = ["l"] }]
carry = ["out/**"]
[[stage.make.step]]
name = "stamp"
stamp = { file = "v.json", set = { version = "{version}" } }
[[stage.make.step]]
name = "get"
fetch = { artifact = "intake/hive@^1", into = "in" }
[[stage.make.step]]
name = "run"
script = "make"
shell = ["bash"]
env = { C = "3" }
[[stage.make.artifact]]
name = "hive"
files = ["out/**", "!**/*.map"]
pack = "zip"
file = "hive-{version}.zip"
store = "intake"
`} {
		p := made(t, text, nil)
		written, err := json.Marshal(p)
		if err != nil {
			t.Fatal(err)
		}
		var read plan.Plan
		if err := json.Unmarshal(written, &read); err != nil {
			t.Fatal(err)
		}
		if changed := Of(read, 0, inputs()).Changed(Of(p, 0, inputs())); len(changed) > 0 {
			t.Errorf("%s: %q changed by being written and read", name, changed)
		}
	}
}
