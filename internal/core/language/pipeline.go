// Package language reads oskeld.toml: from bytes to a Pipeline, with diagnostics that point at the
// line, all of them at once.
//
//	pipeline, diagnostics := language.Read("oskeld.toml", text)
//	if diagnostics.Errors() > 0 { fmt.Print(diagnostics.Text()) }
//
// The keys of each table stand once, in the files shapes_*.go, with their forms and what they mean;
// the reader, the JSON Schema and the reference page are made from them.
package language

import (
	"fmt"
	"strings"
	"time"

	"oskeld.dev/oskeld/internal/core/artifact"
	"oskeld.dev/oskeld/internal/core/condition"
	"oskeld.dev/oskeld/internal/core/facts"
	"oskeld.dev/oskeld/internal/core/version"
)

// FileName is where a source keeps its pipeline.
const FileName = "oskeld.toml"

// MostBytes is the largest file that is read, in bytes.
const MostBytes = 1 << 20

// Purpose is what a stage is for; it brings a duty.
type Purpose string

const (
	Restore Purpose = "restore"
	Compile Purpose = "compile"
	Test    Purpose = "test"
	Package Purpose = "package"
	Other   Purpose = "other"
)

var purposes = []string{"restore", "compile", "test", "package", "other"}

// Duty is what happens when something that is owed is not there: a test stage without a test, a
// package stage without a delivery, an artifact whose patterns match nothing.
type Duty string

const (
	DutyFail Duty = "fail"
	DutyWarn Duty = "warn"
	DutyNone Duty = "none"
)

// Pack is how an artifact's files are packed.
type Pack string

const (
	PackNone   Pack = "none"
	PackZip    Pack = "zip"
	PackTarGz  Pack = "tar.gz"
	PackTarZst Pack = "tar.zst"
)

// Overlap is what happens when several builds of one branch meet.
type Overlap string

const (
	Together Overlap = "together"
	Queue    Overlap = "queue"
	Replace  Overlap = "replace"
)

// Pipeline is what one file defines.
type Pipeline struct {
	Name    artifact.Name
	Summary string
	Secrets []string
	Env     map[string]string
	Overlap Overlap
	Version version.Rules
	Asks    []Ask   // in the order of the file
	Starts  []Start // likewise
	Stages  []Stage // likewise

	index map[artifact.Name]int // of stages, once all are read
}

// Ask is a value that whoever starts a build may choose. Kind is text, flag or number; Picks are
// the texts to choose from, empty for free ones; Usual is the value when nobody chooses.
type Ask struct {
	Name  string              `json:"name"`
	About string              `json:"about"`
	Kind  condition.ValueKind `json:"kind"`
	Picks []string            `json:"picks"`
	Usual string              `json:"usual"`
}

// Start is a rule that starts builds by itself: exactly one of Push, Tag, Clock and After is set.
type Start struct {
	Push   []string      `json:"push,omitempty"`
	Unless []string      `json:"unless,omitempty"` // a push that touches nothing else starts nothing
	Tag    []string      `json:"tag,omitempty"`
	Clock  string        `json:"clock,omitempty"`
	Zone   string        `json:"zone,omitempty"`
	After  artifact.Name `json:"after,omitempty"`
	Branch string        `json:"branch,omitempty"` // of clock and after; "" is the default branch
}

// Stage is a named part of a pipeline. Exactly one of Follows and After is set, neither on the
// first stage.
type Stage struct {
	Name         artifact.Name
	Purpose      Purpose
	Follows      artifact.Name
	After        []artifact.Name
	Match        []string // axes by which After pairs variants
	Vary         []Axis
	Omit, Also   []Variant
	HaltNever    bool // a variant's failure does not stop the others
	Always       bool // runs also when what it needs did not pass
	Alone        artifact.Name
	Facts        facts.Demand
	Equip        facts.Demand
	Secrets      []string
	Env          map[string]string
	In           string
	Limit        time.Duration // 0: none
	Tries        int           // how often to try when it fails; 0 is 1
	When         string        // CEL, "" for always
	Carry        []string
	Cache        []Cache
	Reuse        []string
	ReuseWith    []string
	ReadTests    []string
	ReadCoverage []string
	ReadFindings []string
	Exports      []string
	Duty         Duty
	Steps        []Step
	Artifacts    []Artifact
}

// Cache is directories that are found again by the digest of files.
type Cache struct {
	Dirs []string
	By   []string
}

// Step does one thing: exactly one of Script, Stamp, Fetch, Send and Routine is set.
type Step struct {
	Name    string
	Script  string
	Stamp   *Stamp
	Fetch   *Fetch
	Send    *Send
	Routine *Use
	In      string
	Env     map[string]string
	Shell   []string // the command that gets the script's file, nil for sh -eu
	Limit   time.Duration
	Tries   int
	When    string
	Forgive bool              // a failure is noted, not fatal
	Off     bool              // kept in the file, not run
	Asks    []condition.Value // of the routine that the step comes from
	UseWhen string            // the condition of the step that uses the routine
}

// Stamp writes values into File: from the template From, or into its fields in place.
type Stamp struct {
	File string
	From string
	Set  []Setting
}

// Setting is a field of a JSON, TOML or XML file and the text that it gets, which may hold {braces}.
type Setting struct{ Field, Text string }

// Fetch lays an artifact's files into a directory. Artifact is STORE/NAME and a version, a range or
// a mark.
type Fetch struct {
	Artifact string
	Into     string
	Unpack   bool
}

// Send gives a sealed artifact to an outlet.
type Send struct {
	Artifact artifact.Name
	Outlet   artifact.Name
}

// Use is a routine in a store, at an exact version, with values for its asks.
type Use struct {
	Routine string // STORE/NAME@VERSION
	Ask     map[string]string
}

// Artifact is one set of files to deliver. File, Root and Files may hold {braces}.
type Artifact struct {
	Name    artifact.Name
	Files   []string
	Root    string
	Flat    bool
	Pack    Pack
	File    string
	Store   artifact.Name
	Duty    Duty
	Spare   time.Duration
	Symbols bool
}

// Values are the names that braces know everywhere, besides ask.NAME and vary.NAME.
var Values = []string{"version", "commit", "branch", "tag", "number", "pipeline", "date", "time"}

// Stage finds a stage by name.
func (p *Pipeline) Stage(name artifact.Name) (*Stage, bool) {
	if p.index != nil {
		i, ok := p.index[name]
		if !ok {
			return nil, false
		}
		return &p.Stages[i], true
	}
	for i := range p.Stages {
		if p.Stages[i].Name == name {
			return &p.Stages[i], true
		}
	}
	return nil, false
}

// Names are what conditions of the pipeline may refer to.
func (p *Pipeline) Names() condition.Names {
	n := condition.Names{Asks: map[string]condition.ValueKind{}, Exports: map[string]bool{}}
	for _, a := range p.Asks {
		n.Asks[a.Name] = a.Kind
	}
	for i := range p.Stages {
		s := &p.Stages[i]
		for _, axis := range s.Vary {
			n.Axes = append(n.Axes, axis.Name)
		}
		for _, e := range s.Exports {
			n.Exports[e] = p.Varied(s)
		}
	}
	return n
}

// Varied tells whether a stage runs in variants, its own or those of the stage that it follows.
func (p *Pipeline) Varied(s *Stage) bool { return len(p.Axes(s)) > 0 }

// Axes are the names of what a stage varies over, its own or inherited.
func (p *Pipeline) Axes(s *Stage) (names []string) {
	for range len(p.Stages) { // a circle ends here as well
		if len(s.Vary) > 0 {
			for _, a := range s.Vary {
				names = append(names, a.Name)
			}
			return names
		}
		before, ok := p.Stage(s.Follows)
		if s.Follows == "" || !ok {
			return nil
		}
		s = before
	}
	return nil
}

// ancestors are all stages that a stage waits for, directly or not.
func (p *Pipeline) ancestors(s *Stage) map[artifact.Name]bool {
	found := map[artifact.Name]bool{}
	var visit func(*Stage)
	visit = func(s *Stage) {
		for _, name := range s.parents() {
			if parent, ok := p.Stage(name); ok && !found[name] {
				found[name] = true
				visit(parent)
			}
		}
	}
	visit(s)
	return found
}

// parents are the stages that a stage waits for.
func (s *Stage) parents() []artifact.Name {
	if s.Follows != "" {
		return append([]artifact.Name{s.Follows}, s.After...)
	}
	return s.After
}

// Title is what people read of a step: its name, else what it does.
func (s *Step) Title(n int) string {
	switch {
	case s.Name != "":
		return s.Name
	case s.Stamp != nil:
		return "stamp " + s.Stamp.File
	case s.Fetch != nil:
		return "fetch " + s.Fetch.Artifact
	case s.Send != nil:
		return "send " + string(s.Send.Artifact) + " to " + string(s.Send.Outlet)
	case s.Routine != nil:
		return "routine " + s.Routine.Routine
	}
	for line := range strings.Lines(s.Script) {
		if line = strings.TrimSpace(line); line != "" && !strings.HasPrefix(line, "#") {
			if r := []rune(line); len(r) > 60 {
				line = string(r[:59]) + "…"
			}
			return line
		}
	}
	return fmt.Sprintf("step %d", n+1)
}
