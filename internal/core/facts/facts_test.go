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
	agents := []Agent{{"heron", Facts{"os": "linux"}}, {"barrow", Facts{"os": "linux", "java": "17.0.1"}}}
	d := Demand{"os": "linux", "java": ">=21"}
	if got := d.Nearest(agents); got != "the nearest, heron, lacks java >=21 (none there)" && got != "the nearest, barrow, lacks java >=21 (has 17.0.1)" {
		t.Error(got)
	}
	if got := d.Nearest(nil); !strings.Contains(got, "no agent") {
		t.Error(got)
	}
	if got := (Demand{}).Nearest(agents); got != "" {
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
