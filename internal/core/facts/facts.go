// Package facts compares what a stage demands of an agent with what the agent has.
//
//	demand := facts.Demand{"os": "linux", "go": ">=1.22"}
//	lacks := demand.Against(facts.Facts{"os": "linux", "go": "1.26.8"})
package facts

import (
	"fmt"
	"maps"
	"math"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"github.com/Masterminds/semver/v3"
	"oskeld.dev/oskeld/internal/core/fault"
	"oskeld.dev/oskeld/internal/core/files"
)

// Facts are what an agent has: a word, a version, a size in bytes ("8589934592") or a count, by name.
type Facts map[string]string

// Demand is what a stage asks, by fact: a word, a semantic-version range, or a bound on a size.
type Demand map[string]string

var (
	sizeRule  = regexp.MustCompile(`^(>=|>|<=|<|=)?\s*(\d+(?:\.\d+)?)\s*(B|KiB|MiB|GiB|TiB|kB|MB|GB|TB)$`)
	rangeRule = regexp.MustCompile(`^\s*[<>=^~!]`)
	factName  = regexp.MustCompile(`^[a-z][a-z0-9_-]{0,49}$`)
	sizeUnits = map[string]float64{"B": 1, "KiB": 1 << 10, "MiB": 1 << 20, "GiB": 1 << 30, "TiB": 1 << 40, "kB": 1e3, "MB": 1e6, "GB": 1e9, "TB": 1e12}
)

// Check tells what is wrong with one demand.
func Check(name, want string) error {
	if !factName.MatchString(name) {
		return fault.Invalid("%q is not the name of a fact", name).Hint("use lower-case letters, digits and \"-\"")
	}
	if strings.TrimSpace(want) == "" {
		return fault.Invalid("the demand for %s is empty", name).Hint("write a word, or a range such as \">=1.22\"")
	}
	if rangeRule.MatchString(want) && !sizeRule.MatchString(strings.TrimSpace(want)) {
		if _, err := semver.NewConstraint(want); err != nil {
			return fault.Invalid("%q is not a range of versions", want).Hint(`write it as ">=1.22" or ">=1.22, <2"`)
		}
	}
	return nil
}

// Usual are the facts that an agent looks up by itself. Its owner may add others.
var Usual = []string{"os", "arch", "cpus", "memory", "go", "gcc", "make", "node", "npm", "python3", "java", "git", "cargo", "mvn", "cmake", "dotnet",
	"gradle", "pnpm", "yarn", "bash", "pwsh", "sandbox"}

// words are the values that usual facts have which are words.
var words = map[string][]string{"os": {"linux", "windows", "darwin"}, "arch": {"amd64", "arm64", "386", "arm", "riscv64"}, "sandbox": {"off", "auto", "strict"}}

// Meant gives what a demand that no usual agent knows surely was meant to be: another name, or another
// word; "" when there is nothing like it. A fact of an owner's own is left alone.
func Meant(name, want string) (otherName, otherWord string) {
	if !slices.Contains(Usual, name) {
		if near := files.Closest(name, Usual); near != "" && len(name) >= 4 && files.Distance(name, near) <= 2 {
			return near, ""
		}
		return "", ""
	}
	if known := words[name]; len(known) > 0 && !slices.Contains(known, want) {
		return "", files.Closest(want, known)
	}
	return "", ""
}

// Lack is one demand that an agent does not meet.
type Lack struct{ Name, Want, Have string }

func (l Lack) String() string {
	want := l.Name + " " + l.Want
	if !rangeRule.MatchString(l.Want) {
		want = l.Name + " = " + l.Want
	}
	if l.Have == "" {
		return want + " (none there)"
	}
	return want + " (has " + l.Have + ")"
}

// Against lists what the facts lack, sorted by name; empty when all is met.
func (d Demand) Against(have Facts) []Lack {
	var lacks []Lack
	for _, name := range slices.Sorted(maps.Keys(d)) {
		if !meets(d[name], have[name]) {
			lacks = append(lacks, Lack{name, d[name], have[name]})
		}
	}
	return lacks
}

// Newer tells whether a version is higher than another, as semantic versions; what is none counts as lowest.
func Newer(version, than string) bool {
	a, err := semver.NewVersion(version)
	if err != nil {
		return false
	}
	b, err := semver.NewVersion(than)
	return err != nil || a.GreaterThan(b)
}

func meets(want, have string) bool {
	if have == "" {
		return false
	}
	if m := sizeRule.FindStringSubmatch(strings.TrimSpace(want)); m != nil {
		n, _ := strconv.ParseFloat(m[2], 64)
		got, err := strconv.ParseFloat(have, 64)
		return err == nil && compare(m[1], got, n*sizeUnits[m[3]])
	}
	if rangeRule.MatchString(want) {
		c, err := semver.NewConstraint(want)
		v, err2 := semver.NewVersion(have)
		return err == nil && err2 == nil && c.Check(v)
	}
	return want == have
}

func compare(op string, a, b float64) bool {
	switch op {
	case ">":
		return a > b
	case "<":
		return a < b
	case "<=":
		return a <= b
	case "=":
		return math.Abs(a-b) < 1
	}
	return a >= b
}

// Join intersects the demands of stages that share an agent. Two different words for one fact,
// or two ranges of which one names a version outside the other, cannot both hold.
func (d Demand) Join(other Demand) (Demand, error) {
	out := maps.Clone(d)
	if out == nil {
		out = Demand{}
	}
	for _, name := range slices.Sorted(maps.Keys(other)) {
		a, b := out[name], other[name]
		switch {
		case a == "" || a == b:
			out[name] = b
		case rangeRule.MatchString(a) && rangeRule.MatchString(b) && !sizeRule.MatchString(a) && !sizeRule.MatchString(b):
			out[name] = a + ", " + b
		case rangeRule.MatchString(a) && meets(a, b):
			out[name] = b
		case rangeRule.MatchString(b) && meets(b, a):
		default:
			return nil, fault.Invalid("%s = %q and %s = %q cannot both hold on one agent", name, a, name, b).
				Hint("stages that follow each other share an agent: let the later one say `after` instead")
		}
	}
	return out, nil
}

// Offers are tools that stores have for agents whose own does not fit: by name, the systems ("linux/amd64",
// or Any) for which there is one that fits the demand.
type Offers map[string][]string

// Any stands for every system.
const Any = "any"

// System of an agent, as "linux/amd64".
func (f Facts) System() string { return f["os"] + "/" + f["arch"] }

// Need is a demand, and what is offered to those who do not meet it by themselves.
type Need struct {
	Demand Demand
	Offers Offers
}

// Against lists what the facts lack and nobody offers.
func (n Need) Against(have Facts) []Lack {
	return slices.DeleteFunc(n.Demand.Against(have), func(l Lack) bool {
		systems := n.Offers[l.Name]
		return slices.Contains(systems, Any) || slices.Contains(systems, have.System())
	})
}

// String gives the need as text in a fixed order, the key under which equal needs are interned.
func (n Need) String() string {
	text := n.Demand.String()
	for _, name := range slices.Sorted(maps.Keys(n.Offers)) {
		text += "; a store has " + name + " for " + strings.Join(n.Offers[name], ", ")
	}
	return text
}

// Agent is a candidate with its facts. Closed says why it does not take what is to be run, whatever its
// facts are; "" when it does.
type Agent struct {
	Name   string
	Facts  Facts
	Closed string
}

// Takes tells whether the agent can run what has the need.
func (a Agent) Takes(n Need) bool { return a.Closed == "" && len(n.Against(a.Facts)) == 0 }

// Nearest says in words which agent lacks least, and what; "" when one takes it.
func (n Need) Nearest(agents []Agent) string {
	best, bestLacks := "", []Lack(nil)
	for _, a := range agents {
		lacks := n.Against(a.Facts)
		if len(lacks) == 0 && a.Closed != "" {
			return fmt.Sprintf("%s has it, but %s", a.Name, a.Closed)
		}
		if len(lacks) == 0 {
			return ""
		}
		if best == "" || len(lacks) < len(bestLacks) {
			best, bestLacks = a.Name, lacks
		}
	}
	if best == "" {
		return "no agent has joined yet"
	}
	words := make([]string, len(bestLacks))
	for i, l := range bestLacks {
		words[i] = l.String()
	}
	return fmt.Sprintf("the nearest, %s, lacks %s", best, strings.Join(words, " and "))
}

// String gives the demand as text in a fixed order.
func (d Demand) String() string {
	parts := make([]string, 0, len(d))
	for _, name := range slices.Sorted(maps.Keys(d)) {
		parts = append(parts, name+" "+d[name])
	}
	if len(parts) == 0 {
		return "any agent"
	}
	return strings.Join(parts, ", ")
}

// ParseSize reads a size such as "20GiB" or "500 MB" in bytes; false for what is none.
func ParseSize(text string) (int64, bool) {
	m := sizeRule.FindStringSubmatch(text)
	if m == nil || m[1] != "" {
		return 0, false
	}
	n, err := strconv.ParseFloat(m[2], 64)
	return int64(n * sizeUnits[m[3]]), err == nil
}
