package artifact

import (
	"strings"

	"github.com/Masterminds/semver/v3"
	"oskeld.dev/oskeld/internal/core/fault"
)

// Wanted names an artifact by an exact version, by a range of semantic versions, or by a mark.
type Wanted struct {
	Store, Name Name
	Version     Version // exact, "" when Range or Mark is set
	Range       string
	Mark        Name
	allowed     *semver.Constraints
}

// ParseWanted reads STORE/NAME@VERSION, STORE/NAME@RANGE such as "intake/nectar@^1.3" or
// "intake/nectar@>=1.3, <2", and STORE/NAME:MARK.
func ParseWanted(text string) (Wanted, error) {
	at := strings.LastIndexByte(text, '@')
	if at < 1 || text[at-1] == '/' || !strings.ContainsAny(text[at:], "^~<>=*!, |") {
		ref, err := ParseRef(text)
		if err != nil {
			return Wanted{}, err
		}
		if ref.File != "" {
			return Wanted{}, fault.Invalid("%s names one file of an artifact", quote(text)).Hint("leave %s out", quote("#"+ref.File))
		}
		return Wanted{Store: ref.Store, Name: ref.Name, Version: ref.Version, Mark: ref.Mark}, nil
	}
	ref, err := ParseRef(text[:at] + "@0")
	if err != nil {
		return Wanted{}, err
	}
	allowed, err := semver.NewConstraint(text[at+1:])
	if err != nil {
		return Wanted{}, fault.Invalid("%s is not a range of versions", quote(text[at+1:])).Hint(`write it as "^1.3", ">=1.3, <2" or "1.3.x"`)
	}
	return Wanted{Store: ref.Store, Name: ref.Name, Range: text[at+1:], allowed: allowed}, nil
}

// Best is the highest of the versions that the range allows; those that are not semantic do not count.
func (w Wanted) Best(versions []string) (Version, bool) {
	var best *semver.Version
	for _, text := range versions {
		v, err := semver.NewVersion(text)
		if err == nil && w.allowed != nil && w.allowed.Check(v) && (best == nil || v.GreaterThan(best)) {
			best = v
		}
	}
	if best == nil {
		return "", false
	}
	return Version(best.Original()), true
}

func (w Wanted) String() string {
	text := string(w.Store) + "/" + string(w.Name)
	switch {
	case w.Mark != "":
		return text + ":" + string(w.Mark)
	case w.Range != "":
		return text + "@" + w.Range
	}
	return text + "@" + string(w.Version)
}
