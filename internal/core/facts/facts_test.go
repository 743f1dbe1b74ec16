package facts

import (
	"strings"
	"testing"
)

func TestAgainst(t *testing.T) {
	have := Facts{"os": "linux", "go": "1.26.8", "java": "17.0.15", "memory": "8589934592"}
	for _, c := range []struct {
		name, want string
		met        bool
	}{
		{"os", "linux", true}, {"os", "windows", false}, {"go", ">=1.22", true}, {"go", ">=1.27", false}, {"go", ">=1.22, <2", true},
		{"java", ">=21", false}, {"memory", ">=2GiB", true}, {"memory", ">=9GiB", false}, {"rust", ">=1", false}, {"java", "~17.0", true},
	} {
		if lacks := (Demand{c.name: c.want}).Against(have); (len(lacks) == 0) != c.met {
			t.Errorf("%s %s: %v", c.name, c.want, lacks)
		}
	}
}

func TestNearest(t *testing.T) {
	agents := []Agent{{Name: "heron", Facts: Facts{"os": "linux"}}, {Name: "barrow", Facts: Facts{"os": "linux", "java": "17.0.1"}}}
	d := Demand{"os": "linux", "java": ">=21"}
	if got := (Need{Demand: d}).Nearest(agents); got != "the nearest, heron, lacks java >=21 (none there)" && got != "the nearest, barrow, lacks java >=21 (has 17.0.1)" {
		t.Error(got)
	}
	if got := (Need{Demand: d}).Nearest(nil); !strings.Contains(got, "no agent") {
		t.Error(got)
	}
	if got := (Need{}).Nearest(agents); got != "" {
		t.Error(got)
	}
}

func TestJoin(t *testing.T) {
	got, err := Demand{"go": ">=1.22"}.Join(Demand{"go": "<2", "os": "linux"})
	if err != nil || got.String() != "go >=1.22, <2, os linux" {
		t.Error(got, err)
	}
	if _, err := (Demand{"os": "linux"}).Join(Demand{"os": "windows"}); err == nil {
		t.Error("two words for one fact were joined")
	}
	if got, err := (Demand{"go": ">=1.22"}).Join(Demand{"go": "1.26.8"}); err != nil || got["go"] != "1.26.8" {
		t.Error(got, err)
	}
}

func TestCheck(t *testing.T) {
	for name, want := range map[string]string{"Go": ">=1", "go": "", "java": ">=new"} {
		if Check(name, want) == nil {
			t.Errorf("%s %q was taken", name, want)
		}
	}
}

func TestNeedWithOffers(t *testing.T) {
	need := Need{Demand: Demand{"os": "linux", "java": ">=21"}, Offers: Offers{"java": {"linux/amd64"}}}
	amd := Agent{Name: "barrow", Facts: Facts{"os": "linux", "arch": "amd64", "java": "17.0.1"}}
	arm := Agent{Name: "heron", Facts: Facts{"os": "linux", "arch": "arm64"}}
	own := Agent{Name: "moor", Facts: Facts{"os": "linux", "arch": "arm64", "java": "21.0.2"}}
	if !amd.Takes(need) || arm.Takes(need) || !own.Takes(need) {
		t.Error("an offer is for the systems that it names, and one's own tool counts everywhere")
	}
	if got := need.Nearest([]Agent{arm}); got != "the nearest, heron, lacks java >=21 (none there)" {
		t.Error(got)
	}
	amd.Closed = "admits hivebook and not pipeline smoker"
	if got := need.Nearest([]Agent{amd}); amd.Takes(need) || got != "barrow has it, but admits hivebook and not pipeline smoker" {
		t.Error(got)
	}
	need.Offers["java"] = []string{Any}
	if !arm.Takes(need) || need.String() != "java >=21, os linux; a store has java for any" {
		t.Error(need)
	}
	if !Newer("1.10.0", "1.9.9") || Newer("1.9", "1.10") || Newer("trunk", "0.1.0") || !Newer("0.1.0", "trunk") {
		t.Error("versions are compared as semantic versions")
	}
}
