// Package cache says by what a cache is found again: the directories that it holds, the digests of the
// files that it goes by, the system, and the tools that a stage was equipped with.
//
//	basis := cache.Basis{Dirs: []string{"~/go/pkg/mod"}, By: digests, System: "linux/amd64"}
//	key := basis.Key()
package cache

import (
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"

	"oskeld.dev/oskeld/internal/core/artifact"
)

// Basis is all that a cache depends on. By maps paths to digests; Tools maps equipped tools to versions.
type Basis struct {
	Dirs   []string                   `json:"dirs"`
	By     map[string]artifact.Digest `json:"by"`
	System string                     `json:"system"`
	Tools  map[string]string          `json:"tools,omitempty"`
}

// Key is the digest of the basis.
func (b Basis) Key() artifact.Digest {
	text, err := json.Marshal(b) // maps are written in the order of their keys
	if err != nil {
		panic(err) // texts alone
	}
	return artifact.DigestOf(text)
}

// Name gives the directories as people read them.
func (b Basis) Name() string { return strings.Join(b.Dirs, ", ") }

// Changed says in words what differs from an earlier basis of the same directories.
func (b Basis) Changed(before Basis) []string {
	var list []string
	if b.System != before.System {
		list = append(list, fmt.Sprintf("the system is %s and was %s", b.System, before.System))
	}
	list = append(list, differences(b.Tools, before.Tools)...)
	return append(list, differences(b.By, before.By)...)
}

func differences[V comparable](now, before map[string]V) (list []string) {
	names := slices.Collect(maps.Keys(now))
	for name := range before {
		if _, ok := now[name]; !ok {
			names = append(names, name)
		}
	}
	slices.Sort(names)
	for _, name := range names {
		is, here := now[name]
		was, there := before[name]
		switch {
		case !there:
			list = append(list, name+" is new")
		case !here:
			list = append(list, name+" is gone")
		case is != was:
			list = append(list, name+" changed")
		}
	}
	return list
}
