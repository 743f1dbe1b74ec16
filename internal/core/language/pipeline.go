// Package language reads oskeld.toml: from bytes to a Pipeline, with diagnostics that point at the
// line, all of them at once.
//
//	pipeline, diagnostics := language.Read("oskeld.toml", text)
//	if diagnostics.Errors() > 0 { fmt.Print(diagnostics.Text()) }
//
// The keys of each table stand once, in shapes.go, with their forms and what they mean.
package language

import (
	"time"

	"oskeld.dev/oskeld/internal/core/artifact"
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
	PackNone  Pack = "none"
	PackZip   Pack = "zip"
	PackTarGz Pack = "tar.gz"
)

// Pipeline is what one file defines.
type Pipeline struct {
	Name    artifact.Name
	Summary string
	Secrets []string
	Env     map[string]string
	Version version.Rules
	Stages  []Stage // in the order of the file
}

// Stage is a named part of a pipeline. Exactly one of Follows and After is set, neither on the
// first stage.
type Stage struct {
	Name      artifact.Name
	Purpose   Purpose
	Follows   artifact.Name
	After     []artifact.Name
	Facts     facts.Demand
	Secrets   []string
	Env       map[string]string
	In        string
	Limit     time.Duration // 0: none
	When      string        // CEL, "" for always
	Carry     []string
	ReadTests []string
	Duty      Duty
	Steps     []Step
	Artifacts []Artifact
}

// Step is one script.
type Step struct {
	Name   string
	Script string
	In     string
	Env    map[string]string
	Limit  time.Duration
	When   string
}

// Artifact is one set of files to deliver. File, Root and Files may hold {braces}.
type Artifact struct {
	Name  artifact.Name
	Files []string
	Root  string
	Flat  bool
	Pack  Pack
	File  string
	Store artifact.Name
	Duty  Duty
	Spare time.Duration
}

// Values are the names that braces know in an artifact's texts.
var Values = []string{"version", "commit", "branch", "tag", "number", "pipeline"}

// Stage finds a stage by name.
func (p *Pipeline) Stage(name artifact.Name) (*Stage, bool) {
	for i := range p.Stages {
		if p.Stages[i].Name == name {
			return &p.Stages[i], true
		}
	}
	return nil, false
}
