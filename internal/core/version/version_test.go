package version

import (
	"strings"
	"testing"
	"time"
)

func TestSettle(t *testing.T) {
	at := time.Date(2026, 3, 14, 9, 5, 6, 0, time.UTC)
	base := Facts{Nearest: "v1.4.0", Commits: 3, Branch: "main", Number: 57, Commit: "8c1f2e0aa1", FileText: "2.0.0", At: at}
	with := func(change func(*Facts)) Facts { f := base; change(&f); return f }
	cases := []struct {
		name   string
		fields Fields
		facts  Facts
		want   string
	}{
		{"usual", Fields{}, base, "1.4.1-main.57"},
		{"started by a tag", Fields{}, with(func(f *Facts) { f.StartedBy = "v1.5.0" }), "1.5.0"},
		{"no tag", Fields{}, with(func(f *Facts) { f.Nearest = "" }), "0.0.1-main.57"},
		{"minor", Fields{Untagged: "{tag.next_minor}"}, base, "1.5.0"},
		{"major", Fields{Untagged: "{tag.next_major}"}, base, "2.0.0"},
		{"commits and commit", Fields{Untagged: "{tag}+{commits}.{commit}"}, base, "1.4.0+3.8c1f2e0"},
		{"date and time", Fields{Untagged: "{date}.{time}"}, base, "20260314.090506"},
		{"file", Fields{Untagged: "{file}-{number}", File: "VERSION"}, base, "2.0.0-57"},
		{"whole tag", Fields{Tag: "release-*", Untagged: "{tag.name}"}, with(func(f *Facts) { f.Nearest = "release-7" }), "release-7"},
		{"prefix taken off", Fields{Tag: "release-*", Untagged: "{tag}"}, with(func(f *Facts) { f.Nearest = "release-7" }), "7"},
		{"unsafe branch", Fields{}, with(func(f *Facts) { f.Branch = `fix/"quotes" and spaces` }), "1.4.1-fix-quotes-and-spaces.57"},
		{"branch of digits", Fields{}, with(func(f *Facts) { f.Branch = "007" }), "1.4.1-b007.57"},
		{"pre-release tag", Fields{}, with(func(f *Facts) { f.Nearest = "v1.4.0-rc.2" }), "1.4.0-main.57"},
		{"on the spot", Fields{}, with(func(f *Facts) { f.Here, f.Number = true, 0 }), "1.4.1-main.0.here"},
		{"on the spot, without a pre-release", Fields{Untagged: "{tag.next_minor}+{commit}"}, with(func(f *Facts) { f.Here = true }), "1.5.0-here+8c1f2e0"},
		{"on the spot, at a tag", Fields{}, with(func(f *Facts) { f.Here, f.StartedBy = true, "v1.5.0" }), "1.5.0"},
		{"no branch", Fields{}, with(func(f *Facts) { f.Branch = "" }), "1.4.1-detached.57"},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			r, err := ParseRules(c.fields)
			if err != nil {
				t.Fatal(err)
			}
			v, why, err := r.Settle(c.facts)
			if err != nil || string(v) != c.want {
				t.Errorf("got %q (%v), want %q", v, err, c.want)
			}
			if !strings.HasPrefix(why, c.want) {
				t.Errorf("derivation %q", why)
			}
		})
	}
}

func TestSettleRefuses(t *testing.T) {
	for _, c := range []struct {
		fields Fields
		facts  Facts
		want   string
	}{
		{Fields{Untagged: "{tag.next_patch}"}, Facts{Nearest: "vfirst"}, "needs a semantic version"},
		{Fields{Tagged: "{tag.name}"}, Facts{StartedBy: "v1/2"}, "is not a version"},
		{Fields{Untagged: "{file}"}, Facts{FileText: "one two"}, "is not a version"},
	} {
		r, err := ParseRules(c.fields)
		if err != nil {
			t.Fatal(err)
		}
		if _, _, err := r.Settle(c.facts); err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%+v: got %v, want %q", c.fields, err, c.want)
		}
	}
	if _, err := ParseRules(Fields{Tag: "v["}); err == nil {
		t.Error("a broken pattern was taken")
	}
}

// Each odd case is told in words.
func TestDerivation(t *testing.T) {
	rules, _ := ParseRules(Fields{})
	for _, c := range []struct {
		facts Facts
		want  string
	}{
		{Facts{}, `no tag fits "v*": counted as 0.0.0`},
		{Facts{Nearest: "v1.4.0", Commits: 1}, "nearest tag v1.4.0, 1 commit before"},
		{Facts{Nearest: "v1.4.0"}, "on tag v1.4.0 but not started by it"},
		{Facts{Nearest: "v1.4.1", Commits: 2, Beside: []string{"v1.4.0"}}, "the highest of v1.4.1, v1.4.0 on that commit"},
		{Facts{Nearest: "v1.4.0-rc.2", Commits: 2}, "after the pre-release 1.4.0-rc.2 comes 1.4.0"},
		{Facts{Nearest: "v1.4.0", StartedBy: "v1.5.0"}, "started by tag v1.5.0"},
	} {
		if _, why, err := rules.Settle(c.facts); err != nil || !strings.Contains(why, c.want) {
			t.Errorf("%+v: %q, %v", c.facts, why, err)
		}
	}
}

func TestChoose(t *testing.T) {
	rules, _ := ParseRules(Fields{})
	for tags, want := range map[string]string{
		"": "", "other": "", "v1.4.0": "v1.4.0", "v1.9.0 v1.10.0 v1.2.0 other": "v1.10.0", "v1.4.0 v1.4.0-rc.1": "v1.4.0", "vfirst v0.1.0": "v0.1.0", "v0.1.0 vlast": "v0.1.0",
	} {
		best, beside := rules.Choose(strings.Fields(tags))
		if best != want || best != "" && len(beside) != strings.Count(" "+tags, " v")-1 {
			t.Errorf("%q: %q and %q", tags, best, beside)
		}
	}
}
