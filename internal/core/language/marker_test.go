package language

import (
	"encoding/json"
	"strings"
	"testing"
)

// What somebody else finds is placed by keys, places in lists, or texts in them.
func TestMarker(t *testing.T) {
	text := "pipeline = \"p\"\nsecrets = [\"A\", \"B\"]\n[stage.a]\nfacts = { go = \">=1\" }\nsecrets = [\"A\", \"B\"]\n[[stage.a.step]]\nscript = \"x\"\n[[stage.a.step]]\nfetch = { artifact = \"s/a@1\", into = \"d\" }\n"
	p, ds := Read("f", []byte(text))
	if p == nil {
		t.Fatal(ds.Text())
	}
	m := NewMarker("f", []byte(text), ds)
	for _, path := range [][]string{{"secrets", "B"}, {"stage", "a", "facts"}, {"stage", "a", "step", "1", "fetch", "artifact"}, {"stage", "a", "none"}, {"nothing"}} {
		m.Mark("S201", path, "", "%s", strings.Join(path, " "))
	}
	want := map[string]string{"secrets B": "2:17", "stage a facts": "4:1", "stage a step 1 fetch artifact": "9:22", "stage a none": "3:8", "nothing": "1:1"}
	for _, d := range m.Diagnostics() {
		if !strings.HasPrefix(d.Text(), "f:"+want[d.Message]+": error S201") {
			t.Errorf("%s", d.Text())
		}
	}
}

// SARIF names each rule once, and places results in characters.
func TestSARIF(t *testing.T) {
	_, ds := Read("a b/oskeld.toml", []byte("pipeline = \"p\"\nsecrets = [\"K\"]\n[stage.a]\nscript = \"é {version} x\"\nscirpt = \"x\"\nlimti = \"x\"\n"))
	made, err := json.Marshal(ds.SARIF("0.1.0"))
	if err != nil {
		t.Fatal(err)
	}
	var log struct {
		Version string
		Runs    []struct {
			Tool struct {
				Driver struct {
					Rules []struct{ ID string }
				}
			}
			Results []struct {
				RuleID    string
				RuleIndex int
				Level     string
				Locations []struct {
					PhysicalLocation struct {
						ArtifactLocation struct{ URI string }
						Region           struct{ StartLine, StartColumn, EndColumn int }
					}
				}
			}
		}
	}
	if err := json.Unmarshal(made, &log); err != nil {
		t.Fatal(err)
	}
	run := log.Runs[0]
	if log.Version != "2.1.0" || len(run.Results) != len(ds) || len(run.Tool.Driver.Rules) != 3 {
		t.Fatalf("%s", made)
	}
	for i, r := range run.Results {
		at := r.Locations[0].PhysicalLocation
		if run.Tool.Driver.Rules[r.RuleIndex].ID != r.RuleID || at.ArtifactLocation.URI != "a%20b/oskeld.toml" || at.Region.StartColumn != ds[i].Column || (r.Level == "warning") != ds[i].Warning() {
			t.Errorf("%+v", r)
		}
	}
	if _, ok := Explain("w202"); !ok {
		t.Error("codes are found in any case")
	}
	if empty, err := json.Marshal(Diagnostics{}.SARIF("")); err != nil || !strings.Contains(string(empty), `"results":[]`) {
		t.Errorf("%s, %v", empty, err)
	}
}

func TestVariantWords(t *testing.T) {
	v := Variant{{"os", "linux"}, {"arch", "amd64"}}
	if v.String() != "linux amd64" || v.Get("arch") != "amd64" || v.Get("none") != "" || v.Map()["os"] != "linux" {
		t.Errorf("%v", v)
	}
	for want, other := range map[bool]Variant{true: {{"os", "linux"}, {"mode", "x"}}, false: {{"os", "windows"}}} {
		if v.Agrees(other) != want {
			t.Errorf("agrees with %v: %v", other, !want)
		}
	}
	if !v.Agrees(Variant{{"os", "linux"}, {"arch", "arm64"}}, "os") {
		t.Error("only the named axes count")
	}
}
