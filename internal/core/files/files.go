// Package files selects files of a tree by patterns.
//
//	set, err := files.ParsePatterns([]string{"**", "!**/*.map"})
//	found, err := set.Select(os.DirFS(root))
//
// "*" matches within a path segment, "**" across segments, "{a,b}" either; a pattern that
// begins with "!" takes out what it matches. A later pattern does not undo an earlier exclusion.
package files

import (
	"io/fs"
	"path"
	"slices"
	"strings"

	"github.com/bmatcuk/doublestar/v4"
	"oskeld.dev/oskeld/internal/core/fault"
)

// Patterns is a checked list of patterns.
type Patterns struct{ take, leave []string }

// ParsePatterns checks the patterns; an empty list takes everything.
func ParsePatterns(list []string) (Patterns, error) {
	var p Patterns
	for _, raw := range list {
		pattern, not := strings.CutPrefix(raw, "!")
		if err := CheckPattern(pattern); err != nil {
			return Patterns{}, err
		}
		if not {
			p.leave = append(p.leave, pattern)
		} else {
			p.take = append(p.take, pattern)
		}
	}
	if len(p.take) == 0 {
		p.take = []string{"**"}
	}
	return p, nil
}

// CheckPattern refuses a pattern that is malformed or leaves its root.
func CheckPattern(pattern string) error {
	if !doublestar.ValidatePattern(pattern) || pattern == "" {
		return fault.Invalid("%q is not a pattern", pattern).Hint("\"*\" within a name, \"**\" across directories, \"{a,b}\" either; brackets must close")
	}
	if err := CheckInside(pattern); err != nil {
		return err
	}
	return nil
}

// CheckInside refuses a path that is absolute or climbs out with "..".
func CheckInside(p string) error {
	clean := path.Clean(p)
	if strings.HasPrefix(p, "/") || clean == ".." || strings.HasPrefix(clean, "../") || strings.ContainsAny(p, "\x00\\") {
		return fault.Invalid("%q leaves its root", p).Hint("write a path inside the source, with \"/\"")
	}
	return nil
}

// Match tells whether a slash-separated relative path is taken.
func (p Patterns) Match(name string) bool {
	hit := func(patterns []string) bool {
		return slices.ContainsFunc(patterns, func(pat string) bool {
			ok, _ := doublestar.Match(pat, name)
			return ok
		})
	}
	return hit(p.take) && !hit(p.leave)
}

// Select lists the regular files and symbolic links below fsys that are taken, sorted. The
// directory ".git" at any depth, and ".oskeld" at the top, are never entered.
func (p Patterns) Select(fsys fs.FS) ([]string, error) {
	var found []string
	err := fs.WalkDir(fsys, ".", func(name string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if d.IsDir() {
			if d.Name() == ".git" || name == ".oskeld" {
				return fs.SkipDir
			}
			return nil
		}
		if (d.Type().IsRegular() || d.Type()&fs.ModeSymlink != 0) && p.Match(name) {
			found = append(found, name)
		}
		return nil
	})
	slices.Sort(found)
	return found, err
}

// Nearest lists up to n files below fsys whose names are most like what the patterns ask for:
// those with the same ending first. It looks at 5,000 files at most.
func (p Patterns) Nearest(fsys fs.FS, n int) []string {
	type near struct {
		name string
		away int
	}
	var all []near
	seen := 0
	_ = fs.WalkDir(fsys, ".", func(name string, d fs.DirEntry, err error) error {
		if err != nil || seen > 5000 {
			return fs.SkipAll
		}
		if d.IsDir() {
			if d.Name() == ".git" {
				return fs.SkipDir
			}
			return nil
		}
		seen++
		best := 1 << 20
		for _, pat := range p.take {
			away := Distance(path.Base(pat), path.Base(name))
			if path.Ext(pat) == path.Ext(name) {
				away -= 5
			}
			if path.Dir(pat) == path.Dir(name) {
				away -= 3
			}
			best = min(best, away)
		}
		all = append(all, near{name, best})
		return nil
	})
	slices.SortStableFunc(all, func(a, b near) int { return a.away - b.away })
	var out []string
	for _, c := range all[:min(n, len(all))] {
		out = append(out, c.name)
	}
	return out
}

// Distance is the number of single-character edits between two texts (Levenshtein), for
// suggestions. Texts longer than 200 bytes count as far apart.
func Distance(a, b string) int {
	if len(a) > 200 || len(b) > 200 {
		return max(len(a), len(b))
	}
	row := make([]int, len(b)+1)
	for j := range row {
		row[j] = j
	}
	for i := range len(a) {
		diagonal := row[0]
		row[0] = i + 1
		for j := range len(b) {
			cost := diagonal
			if a[i] != b[j] {
				cost = 1 + min(diagonal, row[j], row[j+1])
			}
			diagonal, row[j+1] = row[j+1], cost
		}
	}
	return row[len(b)]
}

// Closest is the candidate most like the text, "" when none is like it.
func Closest(text string, candidates []string) string {
	best, away := "", max(2, len(text)/3)+1
	for _, c := range candidates {
		if d := Distance(text, c); d < away {
			best, away = c, d
		}
	}
	return best
}

// Meet tells whether one path can fit both patterns. Where brackets or alternatives make that hard
// to tell, the segment counts as fitting.
func Meet(a, b string) bool { return meet(strings.Split(a, "/"), strings.Split(b, "/")) }

func meet(a, b []string) bool {
	switch {
	case len(a) == 0 && len(b) == 0:
		return true
	case len(a) > 0 && a[0] == "**":
		return meet(a[1:], b) || len(b) > 0 && meet(a, b[1:])
	case len(b) > 0 && b[0] == "**":
		return meet(b, a)
	case len(a) == 0 || len(b) == 0:
		return false
	}
	return segmentsMeet(a[0], b[0]) && meet(a[1:], b[1:])
}

func segmentsMeet(a, b string) bool {
	switch {
	case strings.ContainsAny(a+b, "[{\\"):
		return true
	case a == "" && b == "":
		return true
	case a != "" && a[0] == '*':
		return segmentsMeet(a[1:], b) || b != "" && segmentsMeet(a, b[1:])
	case b != "" && b[0] == '*':
		return segmentsMeet(b, a)
	case a == "" || b == "":
		return false
	}
	return (a[0] == b[0] || a[0] == '?' || b[0] == '?') && segmentsMeet(a[1:], b[1:])
}
