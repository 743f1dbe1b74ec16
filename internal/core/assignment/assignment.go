// Package assignment holds what a service and an agent tell each other about one hand-out of a
// chain: the Assignment on the way out, Reports on the way back.
package assignment

import (
	"fmt"

	"oskeld.dev/oskeld/internal/core/artifact"
	"oskeld.dev/oskeld/internal/core/cache"
	"oskeld.dev/oskeld/internal/core/condition"
	"oskeld.dev/oskeld/internal/core/facts"
	"oskeld.dev/oskeld/internal/core/language"
	"oskeld.dev/oskeld/internal/core/plan"
	"oskeld.dev/oskeld/internal/core/progress"
	"oskeld.dev/oskeld/internal/core/reading"
	"oskeld.dev/oskeld/internal/core/view"
)

// Key names a chain of a build under a fence. A report under an old fence is refused.
type Key struct {
	Build string `json:"build" format:"uuid"`
	Chain int    `json:"chain" minimum:"0"`
	Fence int64  `json:"fence" minimum:"1"`
}

func (k Key) String() string { return fmt.Sprintf("%s-%d-%d", k.Build, k.Chain, k.Fence) }

// Assignment is all that an agent needs for a chain.
type Assignment struct {
	Key
	Name     string            `json:"name" doc:"PIPELINE/NUMBER"`
	Token    string            `json:"token" doc:"for what the steps fetch and deliver; ends with the assignment"`
	Source   Source            `json:"source"`
	Env      map[string]string `json:"env" doc:"for every step"`
	Secrets  map[string]string `json:"secrets"`
	Scope    condition.Scope   `json:"scope"`
	Names    condition.Names   `json:"names" doc:"what conditions may refer to"`
	Values   map[string]string `json:"values" doc:"what stamps know by {name}, besides asks and the variant"`
	Runs     []Run             `json:"runs"`
	Equip    facts.Demand      `json:"equip,omitempty" doc:"the versions of tools that stages are equipped with"`
	Tools    []plan.Tool       `json:"tools,omitempty" doc:"of a store, for stages that are equipped with what the agent does not have"`
	Carried  []artifact.File   `json:"carried" doc:"files of earlier stages, laid into the workspace"`
	Stopping bool              `json:"stopping"`
	Trusted  bool              `json:"trusted" doc:"what it makes may be kept in caches"`
}

// Source is where to check out from. The credential never enters a step.
type Source struct {
	Name     string `json:"name"`
	URL      string `json:"url"`
	Commit   string `json:"commit"`
	User     string `json:"user,omitempty"`
	Password string `json:"password,omitempty"`
	Key      string `json:"key,omitempty"`
}

// Run is a stage to run. Passed ones run again only to make the workspace. Follows is an index
// into Assignment.Runs, -1 for none.
type Run struct {
	Index   int              `json:"index"`
	Follows int              `json:"follows"`
	Passed  bool             `json:"passed"`
	Skip    bool             `json:"skip"`
	Late    bool             `json:"late" doc:"its when is told when it comes to run"`
	Variant language.Variant `json:"variant"`
	Stage   language.Stage   `json:"stage"`
}

// EventKind of an Event.
type EventKind string

const (
	RunStarted EventKind = "started"
	StepMoved  EventKind = "step"
	RunEnded   EventKind = "ended"
)

// Event is something that happened to a stage run.
type Event struct {
	Kind  EventKind   `json:"kind" enum:"started,step,ended"`
	Run   int         `json:"run"`
	Steps []view.Step `json:"steps"`
	view.Times
	// The rest belongs to an end.
	State      progress.State     `json:"state,omitempty"`
	Cause      string             `json:"cause,omitempty"`
	Notes      []string           `json:"notes,omitempty"`
	Tools      []view.Tool        `json:"tools,omitempty"`
	Tests      *Tests             `json:"tests,omitempty"`
	Exports    []condition.Export `json:"exports,omitempty"`
	Carried    []artifact.File    `json:"carried,omitempty"`
	Deliveries []Delivery         `json:"deliveries,omitempty"`
	Caches     []CacheSaved       `json:"caches,omitempty"`
}

// CacheFound answers whoever looks for a cache: its packed bytes and the build that saved it, or why
// there is none.
type CacheFound struct {
	Digest artifact.Digest `json:"sha256,omitempty"`
	Size   int64           `json:"size,omitempty"`
	From   string          `json:"from,omitempty"`
	Why    string          `json:"why,omitempty"`
}

// CacheSaved is a cache whose packed bytes were sent.
type CacheSaved struct {
	Basis  cache.Basis     `json:"basis"`
	Digest artifact.Digest `json:"sha256"`
	Size   int64           `json:"size"`
}

// Tests is what a stage run's reports said: the sum, and the failed ones whole.
type Tests struct {
	Sum    reading.Summary `json:"sum"`
	Failed []reading.Case  `json:"failed"`
}

// Delivery is files for one artifact.
type Delivery struct {
	Store   artifact.Name   `json:"store"`
	Name    artifact.Name   `json:"name"`
	SpareMS int64           `json:"spare_ms"`
	Files   []artifact.File `json:"files"`
}

// Report is a numbered list of events, counted from 1 for each assignment. Sending one twice is harmless.
type Report struct {
	Key
	Number int64   `json:"number" minimum:"1"`
	Events []Event `json:"events"`
}

// Call is what an agent says of itself when it asks for work or beats.
type Call struct {
	Facts  facts.Facts `json:"facts"`
	Places int         `json:"places" minimum:"1" maximum:"1000"`
	Free   int         `json:"free" minimum:"0" maximum:"1000"`
	Holds  []int64     `json:"holds" doc:"fences of the assignments that it runs"`
}

// Orders answer a call: of the fences that the agent holds, which to stop and which it has lost.
type Orders struct {
	Stop []int64 `json:"stop"`
	Lost []int64 `json:"lost"`
}
