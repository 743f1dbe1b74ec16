// Package basis says what a chain depends on, all of it: where it is the same as that of a chain which
// passed before, that one's results may be taken over.
//
//	b := basis.Of(plan, chain, basis.Inputs{Files: digest, Values: values})
//	if b.Key() == earlier.Key() { ... }
package basis

import (
	"encoding/json"
	"maps"
	"slices"
	"strings"

	"oskeld.dev/oskeld/internal/core/artifact"
	"oskeld.dev/oskeld/internal/core/condition"
	"oskeld.dev/oskeld/internal/core/language"
	"oskeld.dev/oskeld/internal/core/plan"
)

// Files is the part that the files under `reuse` are.
const Files = "files under `reuse`"

// Basis maps each part of what a chain depends on, in words, to its digest or text.
type Basis map[string]string

// Inputs are what a plan does not know of a chain: the digest of the files that it says under `reuse`, the
// files and exports that come from earlier chains, the revisions of the secrets that it names, and what
// version, number, commit, branch and tag are in this build.
type Inputs struct {
	Files   string
	Carried []artifact.File
	Exports []condition.Export
	Secrets map[string]string
	Values  map[string]string
}

// buildValues are the values that differ from build to build: part of a basis only where they are used.
var buildValues = []string{"version", "number", "commit", "branch", "tag"}

// Unset are the variables of build values that the steps of a reusable chain do not see: all but those that
// its first stage lists under `reuse_with`.
func Unset(first language.Stage) (names []string) {
	for _, name := range buildValues {
		if len(first.Reuse) > 0 && !slices.Contains(first.ReuseWith, name) {
			names = append(names, "OSKELD_"+strings.ToUpper(name))
		}
	}
	return names
}

// Of gives the basis of a chain of a settled plan: names of files are filled in, so that a version in one
// is part of it.
func Of(p plan.Plan, chain int, in Inputs) Basis {
	c := p.Chains[chain]
	first := p.Runs[c.Runs[0]].Stage
	b := Basis{Files: in.Files, "the pipeline's env": digestList(len(p.Env), p.Env), "asks": digestList(len(p.Asks), p.Asks), "facts and equipped tools": equipment(c),
		"carried files": digest(in.Carried), "exports of earlier stages": digest(in.Exports)}
	used := slices.Clone(first.ReuseWith)
	for _, i := range c.Runs {
		r := p.Runs[i]
		name := "stage " + r.Title()
		if used = append(used, valuesOf(r.Stage)...); r.Skip != "" {
			b[name] = "skipped"
			continue
		}
		s := r.Stage
		s.Cache, s.Reuse, s.ReuseWith, s.Facts, s.Equip, s.Limit, s.Tries, s.Alone = nil, nil, nil, nil, nil, 0, 0, ""
		b[name] = digest(s)
		for _, secret := range s.Secrets {
			b["secret "+secret] = digest(in.Secrets[secret])
		}
	}
	for _, name := range buildValues {
		if slices.Contains(used, name) {
			b[name] = in.Values[name]
		}
	}
	return b
}

// valuesOf lists the build values that a stage may use without naming them in a text that is filled in:
// what stamps write, and what conditions that are told late ask for.
func valuesOf(s language.Stage) (used []string) {
	texts := []string{s.When}
	for _, step := range s.Steps {
		if step.Stamp != nil && !step.Off {
			return buildValues
		}
		texts = append(texts, step.When, step.UseWhen)
	}
	for _, text := range texts {
		if strings.Contains(text, "build.by") || strings.Contains(text, "source.changed") {
			return buildValues // no two builds are alike in these
		}
		for _, name := range buildValues {
			if strings.Contains(text, name) {
				used = append(used, name)
			}
		}
	}
	return used
}

func digest(v any) string {
	text, err := json.Marshal(v)
	if err != nil {
		panic(err) // plans are written as JSON
	}
	return string(artifact.DigestOf(text))
}

// digestList is the digest of a list of n entries, or a map: none is none, whether the plan was made just now
// or read again.
func digestList(n int, v any) string {
	if n == 0 {
		return digest(nil)
	}
	return digest(v)
}

// equipment is what a chain asks of agents, and the tools of a store with their digests.
func equipment(c plan.Chain) string {
	if len(c.Tools) == 0 {
		return c.Demand.String()
	}
	return c.Demand.String() + "; " + digest(c.Tools)
}

// Key is the digest of the whole basis.
func (b Basis) Key() artifact.Digest {
	return artifact.Digest(digest(b))
}

// Changed names the parts that differ from an earlier basis.
func (b Basis) Changed(before Basis) (parts []string) {
	names := slices.AppendSeq(slices.Collect(maps.Keys(b)), maps.Keys(before))
	slices.Sort(names)
	for _, name := range slices.Compact(names) {
		if b[name] != before[name] {
			parts = append(parts, name)
		}
	}
	return parts
}
