package admit

import "testing"

func TestRefuses(t *testing.T) {
	for _, c := range []struct {
		list                         List
		pipeline, branch, tag, wants string
	}{
		{List{}, "hivebook", "main", "", ""},
		{List{Pipelines: []string{"hivebook"}}, "hivebook", "any/branch", "", ""},
		{List{Pipelines: []string{"hivebook", "smoker"}}, "hive-scale", "main", "", "admits hivebook, smoker and not pipeline hive-scale"},
		{List{Refs: []string{"main", "release/*"}}, "hivebook", "release/2", "", ""},
		{List{Refs: []string{"main", "release/*"}}, "hivebook", "release/2/fix", "", "admits main, release/* and not release/2/fix"},
		{List{Refs: []string{"v*"}}, "hivebook", "main", "v1.2.0", ""}, // a tag's build is asked by its tag
		{List{Refs: []string{"main"}}, "hivebook", "main", "v1.2.0", "admits main and not v1.2.0"},
		{List{Refs: []string{"*"}}, "hivebook", "", "", ""},
		{List{Refs: []string{"main"}}, "hivebook", "", "", "admits main and not a commit alone"},
	} {
		if got := c.list.Refuses(c.pipeline, c.branch, c.tag); got != c.wants {
			t.Errorf("%+v refuses %s %s%s: %q, not %q", c.list, c.pipeline, c.branch, c.tag, got, c.wants)
		}
	}
}

func TestCheckAndString(t *testing.T) {
	if err := (List{Refs: []string{"v["}}).Check(); err == nil {
		t.Error("a broken pattern is taken")
	}
	if err := (List{Refs: []string{""}}).Check(); err == nil {
		t.Error("an empty pattern is taken")
	}
	whole := List{Pipelines: []string{"hivebook"}, Refs: []string{"main", "v*"}}
	if err := whole.Check(); err != nil || whole.All() || whole.String() != "pipelines hivebook; refs main, v*" || (List{}).String() != "all" || !(List{}).All() {
		t.Errorf("%v %q %q", err, whole, List{})
	}
}
