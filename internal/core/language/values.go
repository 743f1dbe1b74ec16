package language

import (
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"oskeld.dev/oskeld/internal/core/artifact"
	"oskeld.dev/oskeld/internal/core/clock"
	"oskeld.dev/oskeld/internal/core/condition"
	"oskeld.dev/oskeld/internal/core/facts"
	"oskeld.dev/oskeld/internal/core/fault"
	"oskeld.dev/oskeld/internal/core/files"
	"oskeld.dev/oskeld/internal/core/version"
)

func name(n *node) artifact.Name { return artifact.Name(n.Text) }

func texts(n *node) []string {
	out := make([]string, len(n.Items))
	for i, item := range n.Items {
		out[i] = item.Text
	}
	return out
}

func (r *reader) pairs(n *node) map[string]string {
	out := map[string]string{}
	for key, e := range n.Entries {
		out[key] = e.Value.Text
	}
	return out
}

func (r *reader) picks(n *node, known ...string) []string {
	for _, item := range n.Items {
		if !slices.Contains(known, item.Text) {
			r.add("S102", item.At, suggest(item.Text, known, "one of "), "%q is not known here", item.Text)
		}
	}
	return texts(n)
}

const variablePattern = `^[A-Za-z_][A-Za-z0-9_]*$`

var variable = regexp.MustCompile(variablePattern)

// ours begin the names of variables that the runner sets.
func ours(name string) bool {
	return strings.HasPrefix(name, "OSKELD_") || strings.HasPrefix(name, "ASK_") || strings.HasPrefix(name, "VARY_")
}

const variableAdvice = `letters, digits and "_"; not OSKELD_…, ASK_… or VARY_…`

func (r *reader) variables(n *node, what string) (out []string) {
	for _, item := range n.Items {
		switch {
		case !variable.MatchString(item.Text) || ours(item.Text):
			r.add("S102", item.At, variableAdvice, "%q cannot be the name of %s", item.Text, what)
		case slices.Contains(out, item.Text):
			r.add("S106", item.At, "leave one out", "%q stands twice", item.Text)
		default:
			out = append(out, item.Text)
		}
	}
	return out
}

func (r *reader) environment(n *node) map[string]string {
	out := map[string]string{}
	for _, key := range n.Keys {
		e := n.Entries[key]
		if !variable.MatchString(key) || ours(key) {
			r.add("S102", e.At, variableAdvice, "%q cannot be the name of a variable", key)
			continue
		}
		out[key] = e.Value.Text
	}
	return out
}

func (r *reader) names(n *node) (out []artifact.Name) {
	for _, item := range n.Items {
		name, err := artifact.ParseName("stage", item.Text)
		if err != nil {
			r.fault("S102", item.At, err)
			continue
		}
		out = append(out, name)
	}
	return out
}

func (r *reader) facts(n *node) facts.Demand {
	d := facts.Demand{}
	for _, key := range n.Keys {
		e := n.Entries[key]
		d[key] = e.Value.Text
		r.filled(e.Value, func(sample string) {
			if err := facts.Check(key, sample); err != nil {
				r.fault("S110", e.Value.At, err)
				return
			}
			switch name, word := facts.Meant(key, sample); {
			case name != "":
				r.add("W210", e.At, fmt.Sprintf("did you mean %q?", name), "%q is no fact that agents look up by themselves", key)
			case word != "":
				r.add("W210", e.Value.At, fmt.Sprintf("did you mean %q?", word), "no agent has %s = %q", key, sample)
			}
		})
	}
	return d
}

func (r *reader) path(n *node) string {
	if err := files.CheckInside(n.Text); err != nil {
		r.fault("S109", n.At, err)
	}
	return n.Text
}

func (r *reader) pattern(n *node, text string) {
	if err := files.CheckPattern(strings.TrimPrefix(text, "!")); err != nil {
		r.fault("S109", n.At, err)
	}
}

func (r *reader) patterns(n *node) []string {
	for _, item := range n.Items {
		r.pattern(item, item.Text)
	}
	return texts(n)
}

func (r *reader) filledPatterns(n *node) []string {
	for _, item := range n.Items {
		r.filledText(item, condition.Alternatives(item.Text), func(sample string) { r.pattern(item, sample) })
	}
	return texts(n)
}

func (r *reader) cacheDirs(n *node) []string {
	for _, item := range n.Items {
		if err := files.CheckInside(strings.TrimPrefix(item.Text, "~/")); err != nil || item.Text == "~" {
			r.add("S109", item.At, `a directory of the workspace, or below "~/"`, "%q cannot be kept in a cache", item.Text)
		}
	}
	return texts(n)
}

func (r *reader) condition(n *node) string {
	r.afterwards(func(p *Pipeline, s *Stage) {
		names := r.known
		names.Axes = nil
		if s != nil {
			names.Axes = p.Axes(s)
		}
		c, err := condition.Compile(condition.When, n.Text, names)
		if list, ok := errors.AsType[condition.Mistakes](err); ok {
			for _, m := range list {
				r.add("S107", n.Inner(r.text, m.Offset, m.Length), m.Advice, "condition: %s", m.Message)
			}
		} else if err != nil {
			r.add("S107", n.At, "", "condition: %s", err)
		} else if c.Constant() {
			r.constant(n, c)
		}
		if s != nil {
			r.stagesNamed(p, s, n)
		}
	})
	return n.Text
}

// constant tells of a condition that is always the same: always in error, or never true.
func (r *reader) constant(n *node, c *condition.Condition) {
	switch holds, err := c.Holds(condition.Scope{}); {
	case err != nil:
		r.add("S107", n.At, "", "condition: it can never be told: %s", err)
	case !holds:
		r.add("W203", n.At, "leave it out of the file, say off = true, or mend the condition", "the condition is never true")
	}
}

// stagesNamed checks that a condition looks only at stages that its own waits for.
func (r *reader) stagesNamed(p *Pipeline, s *Stage, n *node) {
	refs := condition.Stages(n.Text)
	if len(refs) == 0 {
		return
	}
	var before []string
	for ancestor := range p.ancestors(s) {
		before = append(before, string(ancestor))
	}
	slices.Sort(before)
	for _, ref := range refs {
		at := n.Inner(r.text, ref.Offset, len(ref.Name))
		if _, ok := p.Stage(artifact.Name(ref.Name)); !ok {
			r.add("S104", at, suggest(ref.Name, before, "stages before this one: "), "condition: there is no stage %q", ref.Name)
		} else if !slices.Contains(before, ref.Name) {
			r.add("S104", at, "let it come `after` that stage", "condition: stage %q does not wait for %q, so it cannot look at it", s.Name, ref.Name)
		}
	}
}

var dayRule = regexp.MustCompile(`^(\d{1,5})d$`)

// ParseLength reads a time such as "90s", "10m", "2h30m" or "30d".
func ParseLength(text string) (time.Duration, error) {
	if m := dayRule.FindStringSubmatch(text); m != nil {
		n, _ := strconv.Atoi(m[1])
		return time.Duration(n) * 24 * time.Hour, nil
	}
	d, err := time.ParseDuration(text)
	if err != nil || d <= 0 {
		return 0, fault.Invalid("%q is not a length of time", text).Hint(`write "90s", "10m", "2h" or "30d"`)
	}
	return d, nil
}

func (r *reader) length(n *node) time.Duration {
	d, err := ParseLength(n.Text)
	if err != nil {
		r.fault("S113", n.At, err)
	}
	return d
}

// MostTries is how often a stage or a step may be tried.
const MostTries = 10

func tries(n *node) int {
	v, _ := wholeNumber(n.Text) // its form is checked
	return int(v)
}

// valueName are braces that look like ours inside a script, where they stay as they are.
var valueName = regexp.MustCompile(`(^|[^${])\{(version|branch|tag(\.[a-z_]+)?|number|commit|pipeline|(?:ask|vary)\.[a-z][a-z0-9_]*)\}`)

func (r *reader) script(n *node) string {
	if strings.TrimSpace(n.Text) == "" {
		r.add("S102", n.At, "", "the script is empty")
	}
	if m := valueName.FindStringSubmatchIndex(n.Text); m != nil {
		name := n.Text[m[4]:m[5]]
		group, rest, _ := strings.Cut(name, ".")
		variable := "$OSKELD_" + strings.ToUpper(group)
		if group == "ask" || group == "vary" {
			variable = "$" + strings.ToUpper(group+"_"+rest)
		}
		r.add("W202", n.Inner(r.text, m[4]-1, len(name)+2), "read "+variable+" instead", "braces are not filled in scripts: {%s} stays as it is", name)
	}
	return strings.ReplaceAll(n.Text, "\r\n", "\n")
}

// shell is the command that gets the script's file.
func shell(n *node) []string {
	switch {
	case len(n.Items) > 0:
		return texts(n)
	case n.Text == "bash":
		return []string{"bash", "-eu", "-o", "pipefail"}
	case n.Text == "pwsh":
		return []string{"pwsh", "-NoProfile", "-NonInteractive", "-File"}
	case n.Text == "python3":
		return []string{"python3"}
	}
	return nil
}

func (r *reader) version(n *node) version.Rules {
	var v versionTexts
	fill(r, &v, n, versionFields, "[version]")
	text := func(n *node) string {
		if n == nil {
			return ""
		}
		return n.Text
	}
	fields := version.Fields{Tag: text(v.tag), Tagged: text(v.tagged), Untagged: text(v.untagged), File: text(v.file)}
	for _, t := range []*node{v.tagged, v.untagged} {
		if t == nil {
			continue
		}
		template, err := condition.ParseTemplate(t.Text, version.Names)
		if err != nil {
			r.braces(t, err)
			return version.Rules{}
		}
		if slices.Contains(template.Names(), "file") && v.file == nil {
			r.add("S103", t.At, `add file = "VERSION" under [version]`, "{file} is used and no file is named")
		}
	}
	rules, err := version.ParseRules(fields)
	if err != nil && v.tag != nil {
		r.fault("S109", v.tag.At, err)
		return rules
	}
	r.versionSamples(rules, v)
	return rules
}

// versionSamples tries the rules and warns of what no package store would take.
func (r *reader) versionSamples(rules version.Rules, v versionTexts) {
	sample := version.Sample(rules)
	for _, t := range []struct {
		n         *node
		startedBy string
	}{{v.tagged, sample.Nearest}, {v.untagged, ""}} {
		if t.n == nil {
			continue
		}
		f := sample
		f.StartedBy = t.startedBy
		got, _, err := rules.Settle(f)
		if err != nil {
			r.fault("S122", t.n.At, err)
		} else if !version.Semantic(string(got)) {
			r.add("W209", t.n.At, `a semantic version is like "{tag.next_patch}-{branch}.{number}"`, "gives versions such as %q, which are not semantic versions: stores of a package format refuse them", got)
		}
	}
}

func (r *reader) clock(n *node) string {
	_, err := clock.Parse(n.Text)
	if e, ok := errors.AsType[*clock.Error](err); ok {
		r.add("S118", n.Inner(r.text, e.Offset, e.Length), e.Advice, "clock: %s", e.Message)
	}
	return n.Text
}

func (r *reader) zone(n *node) string {
	if _, err := time.LoadLocation(n.Text); err != nil || n.Text == "Local" {
		r.add("S118", n.At, suggest(n.Text, commonZones, "as in "), "%q is not a time zone", n.Text)
	}
	return n.Text
}

// commonZones are for suggestions only; any zone of the IANA database is taken.
var commonZones = []string{"UTC", "Europe/Oslo", "Europe/London", "Europe/Berlin", "Europe/Paris", "America/New_York", "America/Chicago",
	"America/Los_Angeles", "America/Sao_Paulo", "Asia/Tokyo", "Asia/Shanghai", "Asia/Kolkata", "Australia/Sydney", "Africa/Nairobi"}

func (r *reader) wanted(n *node) string {
	r.filled(n, func(sample string) {
		if _, err := artifact.ParseWanted(sample); err != nil {
			r.fault("S121", n.At, err)
		}
	})
	return n.Text
}

func (r *reader) routineRef(n *node) string {
	ref, err := artifact.ParseRef(n.Text)
	switch {
	case err != nil:
		r.fault("S121", n.At, err)
	case ref.Version == "" || ref.File != "":
		r.add("S121", n.At, "write STORE/NAME@VERSION", "a routine is named with its exact version")
	}
	return n.Text
}

func (r *reader) stamp(n *node) *Stamp {
	s := &Stamp{}
	fill(r, s, n, stampFields, "stamp")
	if e := n.Entries["set"]; e != nil && s.File != "" && !strings.ContainsAny(s.File, "{}") && !slices.Contains(StampFormats, strings.ToLower(extension(s.File))) {
		r.add("S112", e.At, "write a template and name it with `from`", "fields can be set in %s files, not in %q", strings.Join(StampFormats, ", "), s.File)
	}
	return s
}

// StampFormats are the endings of the files whose fields can be set.
var StampFormats = []string{".json", ".toml", ".xml", ".csproj", ".props", ".pom", ".nuspec"}

func extension(file string) string {
	if i := strings.LastIndexByte(file, '.'); i > strings.LastIndexByte(file, '/') {
		return file[i:]
	}
	return ""
}

func (r *reader) settings(n *node) (list []Setting) {
	for _, key := range n.Keys {
		e := n.Entries[key]
		r.filled(e.Value, func(string) {})
		if strings.TrimSpace(key) == "" {
			r.add("S102", e.At, "as in \"version\" or \"project.version\"", "a field has a name")
		}
		list = append(list, Setting{key, e.Value.Text})
	}
	return list
}
