// Package promotion evaluates a store's rules for one artifact.
//
//	rules, err := promotion.ParseRules(texts)
//	verdicts := promotion.Judge(rules, scope)
//
// All rules are evaluated and shown, met or not, with the values seen.
package promotion

import (
	"fmt"
	"regexp"
	"strings"

	"oskeld.dev/oskeld/internal/core/condition"
	"oskeld.dev/oskeld/internal/core/fault"
)

// Rule is one condition for a promotion: Say is for people, That is CEL.
type Rule struct {
	Say  string `json:"say" toml:"say"`
	That string `json:"that" toml:"that"`
}

// Verdict is a rule's outcome at one moment, kept as evidence. Seen are the values that the rule
// was judged by, in words.
type Verdict struct {
	Say  string `json:"say"`
	That string `json:"that"`
	Met  bool   `json:"met"`
	Seen string `json:"seen"`
}

// Check refuses rules that cannot be compiled, naming which.
func Check(rules []Rule) error {
	for i, r := range rules {
		if strings.TrimSpace(r.Say) == "" {
			return fault.Invalid("rule %d has no `say`", i+1).On("rule").Hint("say in one line what must hold")
		}
		if _, err := condition.Compile(condition.Rule, r.That, condition.Names{}); err != nil {
			return fault.Invalid("rule %d (%s): %v", i+1, r.Say, err).On("rule").
				Hint("a rule sees tests, build, source and version, as in \"tests.total > 0 && tests.failed == 0\"")
		}
	}
	return nil
}

var testValue = regexp.MustCompile(`tests(\.stage\(['"]([^'"]+)['"]\))?\.(total|passed|failed|skipped|complete)`)

// Judge evaluates every rule.
func Judge(rules []Rule, scope condition.Scope) []Verdict {
	verdicts := make([]Verdict, 0, len(rules))
	for _, r := range rules {
		v := Verdict{Say: r.Say, That: r.That}
		c, err := condition.Compile(condition.Rule, r.That, condition.Names{})
		if err == nil {
			v.Met, err = c.Holds(scope)
		}
		if err != nil {
			v.Seen = err.Error()
		} else {
			v.Seen = seen(r.That, scope)
		}
		verdicts = append(verdicts, v)
	}
	return verdicts
}

// seen gives the values that a rule names.
func seen(that string, s condition.Scope) string {
	var parts []string
	add := func(text string) {
		for _, p := range parts {
			if p == text {
				return
			}
		}
		parts = append(parts, text)
	}
	for _, m := range testValue.FindAllStringSubmatch(that, -1) {
		if s.Tests == nil {
			continue
		}
		tests, where := *s.Tests, ""
		if m[2] != "" {
			tests, where = tests.Stages[m[2]], " in "+m[2]
		}
		switch m[3] {
		case "complete":
			if tests.Complete {
				add("every test stage was read" + where)
			} else {
				add("not every test stage was read" + where)
			}
		case "total":
			add(fmt.Sprintf("%d ran%s", tests.Total, where))
		default:
			add(fmt.Sprintf("%d %s%s", map[string]int{"passed": tests.Passed, "failed": tests.Failed, "skipped": tests.Skipped}[m[3]], m[3], where))
		}
	}
	for _, v := range []struct{ name, value string }{{"branch", s.Source.Branch}, {"tag", s.Source.Tag}} {
		switch {
		case !strings.Contains(that, "source."+v.name):
		case v.value == "":
			add("no " + v.name)
		default:
			add(v.name + " " + v.value)
		}
	}
	if strings.Contains(that, "version") {
		add("version " + s.Version)
	}
	if strings.Contains(that, "build.number") {
		add(fmt.Sprintf("build %d", s.Build.Number))
	}
	return strings.Join(parts, ", ")
}
