// Package version settles the version of a build by the rules of `[version]`.
//
//	rules, err := version.ParseRules(version.Fields{Tag: "v*"})
//	v, why, err := rules.Settle(version.Facts{Nearest: "v1.4.0", Commits: 3, Branch: "main", Number: 57})
package version

import (
	"fmt"
	"path"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/Masterminds/semver/v3"
	"oskeld.dev/oskeld/internal/core/artifact"
	"oskeld.dev/oskeld/internal/core/condition"
	"oskeld.dev/oskeld/internal/core/fault"
)

// Fields are the texts of `[version]` as written; an empty one takes its usual value.
type Fields struct {
	Tag      string // a pattern for tags, usually "v*"
	Tagged   string // usually "{tag}"
	Untagged string // usually "{tag.next_patch}-{branch}.{number}"
	File     string // a file of the source whose first line is {file}
}

// Usual values of Fields.
const (
	UsualTag      = "v*"
	UsualTagged   = "{tag}"
	UsualUntagged = "{tag.next_patch}-{branch}.{number}"
)

// Names are the values that the templates know.
var Names = []string{"tag", "tag.name", "tag.next_patch", "tag.next_minor", "tag.next_major", "branch", "number", "commits", "commit", "date", "time", "file"}

// Rules are checked Fields.
type Rules struct {
	Tag              string
	File             string
	tagged, untagged condition.Template
	taggedText       string
	untaggedText     string
}

// ParseRules checks the fields and fills in the usual values. A template's mistake is a
// *condition.BraceError.
func ParseRules(f Fields) (Rules, error) {
	or := func(text, usual string) string {
		if text == "" {
			return usual
		}
		return text
	}
	r := Rules{Tag: or(f.Tag, UsualTag), File: f.File, taggedText: or(f.Tagged, UsualTagged), untaggedText: or(f.Untagged, UsualUntagged)}
	if _, err := path.Match(r.Tag, ""); err != nil {
		return r, fault.Invalid("%q is not a pattern for tags", r.Tag).On("tag")
	}
	var err error
	if r.tagged, err = condition.ParseTemplate(r.taggedText, Names); err != nil {
		return r, err
	}
	r.untagged, err = condition.ParseTemplate(r.untaggedText, Names)
	return r, err
}

// Fits tells whether a tag is one that the rules look at.
func (r Rules) Fits(tag string) bool {
	ok, _ := path.Match(r.Tag, tag)
	return ok
}

// prefix is the literal start of the tag pattern, taken off for {tag}.
func (r Rules) prefix() string {
	if i := strings.IndexAny(r.Tag, `*?[\`); i >= 0 {
		return r.Tag[:i]
	}
	return ""
}

// Facts are what the version is made from.
type Facts struct {
	StartedBy string    // the tag that started the build, "" for none
	Nearest   string    // the nearest fitting tag reachable from the commit, "" for none
	Beside    []string  // other fitting tags on the commit of Nearest
	Commits   int       // commits since Nearest, or all
	Branch    string    // as git names it
	Number    int       // of the build in its pipeline
	Commit    string    // full
	FileText  string    // first line of Rules.File
	At        time.Time // the moment the build is created
	Here      bool      // on the spot: an untagged version says so in its last identifier
}

// Choose gives the tag that counts of several on one commit, the highest semantic version, and the
// others; only those that fit the rules.
func (r Rules) Choose(tags []string) (best string, beside []string) {
	var highest *semver.Version
	for _, tag := range tags {
		if !r.Fits(tag) {
			continue
		}
		v, err := semver.NewVersion(strings.TrimPrefix(tag, r.prefix()))
		switch {
		case best == "":
			best = tag
		case err == nil && (highest == nil || v.GreaterThan(highest)):
			best, beside = tag, append(beside, best)
		default:
			beside = append(beside, tag)
		}
		if best == tag && err == nil {
			highest = v
		}
	}
	return best, beside
}

// Semantic tells whether a text is a semantic version, as package stores ask for.
func Semantic(text string) bool {
	_, err := semver.StrictNewVersion(text)
	return err == nil
}

// Sample are facts to try rules with; its Nearest is a tag that fits them.
func Sample(r Rules) Facts {
	return Facts{Nearest: r.prefix() + "1.4.0", Commits: 3, Branch: "main", Number: 57, Commit: "8c1f2e0aa1b2", FileText: "1.4.0",
		At: time.Date(2026, 3, 14, 9, 5, 6, 0, time.UTC)}
}

// here marks a version that was made on the spot: "1.4.1-main.0" gives "1.4.1-main.0.here".
func here(v string) string {
	core, build, hasBuild := strings.Cut(v, "+")
	if strings.Contains(core, "-") {
		core += ".here"
	} else {
		core += "-here"
	}
	if hasBuild {
		core += "+" + build
	}
	return core
}

// Settle gives the version and how it came about, in words.
func (r Rules) Settle(f Facts) (artifact.Version, string, error) {
	template, text, from := r.untagged, r.untaggedText, f.Nearest
	if f.StartedBy != "" {
		template, text, from = r.tagged, r.taggedText, f.StartedBy
	}
	bare := strings.TrimPrefix(from, r.prefix())
	if from == "" {
		bare = "0.0.0"
	}
	at := f.At.UTC()
	values := map[string]string{
		"tag": bare, "tag.name": from, "branch": SafeBranch(f.Branch), "number": fmt.Sprint(f.Number),
		"commits": fmt.Sprint(f.Commits), "commit": f.Commit[:min(7, len(f.Commit))],
		"date": at.Format("20060102"), "time": at.Format("150405"), "file": f.FileText,
	}
	for _, name := range template.Names() {
		if !strings.HasPrefix(name, "tag.next_") {
			continue
		}
		v, err := semver.NewVersion(bare)
		if err != nil {
			return "", "", fault.Invalid("{%s} needs a semantic version, and the nearest tag is %q", name, from).On("version").
				Hint("narrow `tag` under [version], or use {tag} and {commits}")
		}
		next := v.IncMajor()
		switch name {
		case "tag.next_patch":
			next = v.IncPatch()
		case "tag.next_minor":
			next = v.IncMinor()
		}
		values[name] = next.String()
	}
	made := template.Fill(values)
	if f.Here && f.StartedBy == "" {
		made = here(made)
	}
	v, err := artifact.ParseVersion(made)
	if err != nil {
		return "", "", fault.Invalid("the rule %q gives %q, which is not a version", text, made).On("version").
			Hint("change [version] so that it gives letters, digits, \".\", \"-\" and \"+\", starting with a letter or digit")
	}
	why := fmt.Sprintf("%s from %q", v, text)
	switch {
	case f.StartedBy != "":
		why += ", started by tag " + f.StartedBy
	case f.Nearest == "":
		why += fmt.Sprintf(", no tag fits %q: counted as 0.0.0", r.Tag)
	case f.Commits == 0:
		why += fmt.Sprintf(", on tag %s but not started by it", f.Nearest)
	default:
		why += fmt.Sprintf(", nearest tag %s, %s before", f.Nearest, commits(f.Commits))
	}
	if len(f.Beside) > 0 && f.StartedBy == "" {
		why += fmt.Sprintf(" (the highest of %s on that commit)", strings.Join(append([]string{f.Nearest}, f.Beside...), ", "))
	}
	if v, err := semver.NewVersion(bare); err == nil && v.Prerelease() != "" && f.StartedBy == "" && slices.Contains(template.Names(), "tag.next_patch") {
		why += fmt.Sprintf("; after the pre-release %s comes %s", bare, values["tag.next_patch"])
	}
	return v, why, nil
}

func commits(n int) string {
	if n == 1 {
		return "1 commit"
	}
	return fmt.Sprintf("%d commits", n)
}

var unsafe = regexp.MustCompile(`[^0-9A-Za-z]+`)

// SafeBranch makes a branch's name fit for a version: runs of anything but letters and digits
// become one "-", at most 40 bytes; a name of digits alone gets a "b" in front, since a semantic
// version allows no leading zeros in numbers.
func SafeBranch(branch string) string {
	s := strings.Trim(unsafe.ReplaceAllString(branch, "-"), "-")
	s = strings.Trim(s[:min(40, len(s))], "-")
	if s == "" {
		return "detached"
	}
	if strings.Trim(s, "0123456789") == "" {
		s = "b" + s
	}
	return s
}
