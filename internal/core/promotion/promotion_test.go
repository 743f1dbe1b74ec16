package promotion

import (
	"strings"
	"testing"

	"oskeld.dev/oskeld/internal/core/condition"
)

func TestJudge(t *testing.T) {
	rules := []Rule{
		{"Tests ran and none failed", "tests.total > 0 && tests.failed == 0 && tests.complete"},
		{"Field tests ran", "tests.stage('field').total >= 3"},
		{"From main or a tag", "source.branch == 'main' || source.tag != ''"},
	}
	if err := Check(rules); err != nil {
		t.Fatal(err)
	}
	tests := &condition.Tests{Total: 214, Passed: 212, Failed: 2, Complete: true, Stages: map[string]condition.Tests{"field": {Total: 3}}}
	got := Judge(rules, condition.Scope{Tests: tests, Source: condition.Source{Branch: "main"}})
	for i, want := range []struct {
		met  bool
		seen string
	}{{false, "214 ran, 2 failed, every test stage was read"}, {true, "3 ran in field"}, {true, "branch main, no tag"}} {
		if got[i].Met != want.met || !strings.Contains(got[i].Seen, want.seen) {
			t.Errorf("rule %d: %+v", i, got[i])
		}
	}
}

func TestMissingValuesLeaveARuleUnmet(t *testing.T) {
	none := Judge([]Rule{{"a", "tests.failed == 0"}}, condition.Scope{})
	if none[0].Met || none[0].Seen != condition.ErrNoTests.Error() {
		t.Errorf("got %+v", none[0])
	}
	other := Judge([]Rule{{"a", "tests.stage('x').failed == 0"}}, condition.Scope{Tests: &condition.Tests{Total: 1}})
	if other[0].Met || !strings.Contains(other[0].Seen, `no tests were read in stage "x"`) {
		t.Errorf("got %+v", other[0])
	}
	zero := Judge([]Rule{{"a", "tests.passed / tests.failed > 1"}}, condition.Scope{Tests: &condition.Tests{Total: 1}})
	if zero[0].Met || !strings.Contains(zero[0].Seen, "zero") {
		t.Errorf("got %+v", zero[0])
	}
}

func TestCheck(t *testing.T) {
	for _, bad := range []Rule{{"", "true"}, {"a", "tests.faild == 0"}, {"a", "1 + 1"}, {"a", "tests.failed == '0'"}, {"a", "("}} {
		if Check([]Rule{bad}) == nil {
			t.Errorf("%+v was taken", bad)
		}
	}
}
