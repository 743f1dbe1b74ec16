// Package admit tells for which pipelines and refs a secret, a store, a cache or an agent is there.
//
//	who := admit.List{Pipelines: []string{"hivebook"}, Refs: []string{"main", "v*"}}
//	why := who.Refuses("hivebook", "fix/frames", "") // "admits main, v* and not fix/frames"
package admit

import (
	"cmp"
	"path"
	"slices"
	"strings"

	"oskeld.dev/oskeld/internal/core/fault"
)

// List names pipelines, and patterns of branches and tags in the manner of path.Match. An empty part
// admits all.
type List struct {
	Pipelines []string `json:"pipelines"`
	Refs      []string `json:"refs"`
}

// Check tells which pattern cannot be read.
func (l List) Check() error {
	for _, pattern := range l.Refs {
		if _, err := path.Match(pattern, ""); err != nil || pattern == "" {
			return fault.Invalid("%q is not a pattern for branches and tags", pattern).On("admit_refs").Hint("write main, release/* or v*")
		}
	}
	return nil
}

// All tells whether nobody is left out.
func (l List) All() bool { return len(l.Pipelines) == 0 && len(l.Refs) == 0 }

// Refuses says why a build of a branch or a tag is not admitted; "" when it is.
func (l List) Refuses(pipeline, branch, tag string) string {
	ref := cmp.Or(tag, branch)
	fits := func(pattern string) bool {
		ok, _ := path.Match(pattern, ref)
		return ok
	}
	switch {
	case len(l.Pipelines) > 0 && !slices.Contains(l.Pipelines, pipeline):
		return "admits " + strings.Join(l.Pipelines, ", ") + " and not pipeline " + pipeline
	case len(l.Refs) > 0 && !slices.ContainsFunc(l.Refs, fits):
		return "admits " + strings.Join(l.Refs, ", ") + " and not " + cmp.Or(ref, "a commit alone")
	}
	return ""
}

// String says whom the list admits.
func (l List) String() string {
	var parts []string
	if len(l.Pipelines) > 0 {
		parts = append(parts, "pipelines "+strings.Join(l.Pipelines, ", "))
	}
	if len(l.Refs) > 0 {
		parts = append(parts, "refs "+strings.Join(l.Refs, ", "))
	}
	return cmp.Or(strings.Join(parts, "; "), "all")
}
