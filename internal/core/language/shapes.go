package language

import "oskeld.dev/oskeld/internal/core/artifact"

// form is what a key's value looks like.
type form int

const (
	textForm   form = iota // a text
	textsForm              // a list of texts
	pairsForm              // a table of texts
	truthForm              // true or false
	lengthForm             // a time such as "90s", "10m", "2h", "30d"
	nameForm               // a name, see artifact.Name
	pickForm               // one of the field's picks
	tableForm              // a table of its own
	tablesForm             // tables in double brackets
)

func (f form) String() string {
	return [...]string{"a text in quotes", "a list of texts", "a table of texts", "true or false",
		`a time such as "90s", "10m" or "2h"`, "a name in quotes", "a text in quotes", "a table", "tables in double brackets"}[f]
}

// field is one key of a table: its form, what it means, and how it is taken into a T.
type field[T any] struct {
	key   string
	form  form
	about string
	picks []string
	must  bool
	take  func(*reader, *T, *node)
}

var pipelineShape = []field[Pipeline]{
	{key: "pipeline", form: nameForm, must: true, about: "the pipeline's name",
		take: func(r *reader, p *Pipeline, n *node) { p.Name = artifact.Name(n.text) }},
	{key: "summary", form: textForm, about: "one line for people",
		take: func(r *reader, p *Pipeline, n *node) { p.Summary = n.text }},
	{key: "secrets", form: textsForm, about: "secrets that the pipeline needs; a build is refused at once when one is missing",
		take: func(r *reader, p *Pipeline, n *node) { p.Secrets = r.variables(n) }},
	{key: "env", form: pairsForm, about: "variables for every step",
		take: func(r *reader, p *Pipeline, n *node) { p.Env = r.environment(n) }},
	{key: "version", form: tableForm, about: "how the version of a build is made",
		take: func(r *reader, p *Pipeline, n *node) { p.Version = r.version(n) }},
	{key: "stage", form: tableForm, must: true, about: "the stages, [stage.NAME] each",
		take: func(r *reader, p *Pipeline, n *node) { r.stages(p, n) }},
}

type versionTexts struct{ tag, tagged, untagged, file *node }

var versionShape = []field[versionTexts]{
	{key: "tag", form: textForm, about: "which tags count, as a pattern",
		take: func(r *reader, v *versionTexts, n *node) { v.tag = n }},
	{key: "tagged", form: textForm, about: "the version of a build that a tag started",
		take: func(r *reader, v *versionTexts, n *node) { v.tagged = n }},
	{key: "untagged", form: textForm, about: "the version of any other build",
		take: func(r *reader, v *versionTexts, n *node) { v.untagged = n }},
	{key: "file", form: textForm, about: "a file of the source; its first line is {file}",
		take: func(r *reader, v *versionTexts, n *node) { v.file = n; r.path(n) }},
}

var stageShape = []field[Stage]{
	{key: "purpose", form: pickForm, picks: purposes, about: "what the stage is for; taken from its name where that is one of these words",
		take: func(r *reader, s *Stage, n *node) { s.Purpose = Purpose(n.text) }},
	{key: "follows", form: nameForm, about: "the stage whose agent and workspace this one goes on in",
		take: func(r *reader, s *Stage, n *node) { s.Follows = artifact.Name(n.text) }},
	{key: "after", form: textsForm, about: "stages that must have passed; a fresh checkout on any agent that fits",
		take: func(r *reader, s *Stage, n *node) { s.After = r.names(n) }},
	{key: "facts", form: pairsForm, about: "demands on an agent",
		take: func(r *reader, s *Stage, n *node) { s.Facts = r.facts(n) }},
	{key: "secrets", form: textsForm, about: "secrets that this stage's steps see",
		take: func(r *reader, s *Stage, n *node) { s.Secrets = r.variables(n) }},
	{key: "env", form: pairsForm, about: "variables for this stage's steps",
		take: func(r *reader, s *Stage, n *node) { s.Env = r.environment(n) }},
	{key: "in", form: textForm, about: "working directory within the source",
		take: func(r *reader, s *Stage, n *node) { s.In = r.path(n) }},
	{key: "limit", form: lengthForm, about: "time limit of the whole stage",
		take: func(r *reader, s *Stage, n *node) { s.Limit = r.length(n) }},
	{key: "when", form: textForm, about: "CEL condition; false: skipped",
		take: func(r *reader, s *Stage, n *node) { s.When = r.condition(n) }},
	{key: "script", form: textForm, about: "the stage's one script, run by sh -eu",
		take: func(r *reader, s *Stage, n *node) { s.Steps = append(s.Steps, Step{Script: r.script(n)}) }},
	{key: "step", form: tablesForm, about: "the stage's steps, in order",
		take: func(r *reader, s *Stage, n *node) { r.steps(s, n) }},
	{key: "carry", form: textsForm, about: "files handed to stages that come after",
		take: func(r *reader, s *Stage, n *node) { s.Carry = r.patterns(n) }},
	{key: "read", form: tableForm, about: "reports to read",
		take: func(r *reader, s *Stage, n *node) { fill(r, s, n, readShape, "read of stage "+string(s.Name)) }},
	{key: "duty", form: pickForm, picks: []string{"fail", "warn", "none"}, about: "when a test stage reads no test, or a package stage delivers nothing",
		take: func(r *reader, s *Stage, n *node) { s.Duty = Duty(n.text) }},
	{key: "artifact", form: tablesForm, about: "what the stage delivers",
		take: func(r *reader, s *Stage, n *node) { r.artifacts(s, n) }},
}

var readShape = []field[Stage]{
	{key: "tests", form: textsForm, about: "test reports: JUnit XML or go test -json, told apart by content",
		take: func(r *reader, s *Stage, n *node) { s.ReadTests = r.patterns(n) }},
}

var stepShape = []field[Step]{
	{key: "name", form: textForm, about: "what people read",
		take: func(r *reader, s *Step, n *node) { s.Name = n.text }},
	{key: "script", form: textForm, must: true, about: "run by sh -eu",
		take: func(r *reader, s *Step, n *node) { s.Script = r.script(n) }},
	{key: "in", form: textForm, about: "working directory within the source",
		take: func(r *reader, s *Step, n *node) { s.In = r.path(n) }},
	{key: "env", form: pairsForm, about: "variables for this step",
		take: func(r *reader, s *Step, n *node) { s.Env = r.environment(n) }},
	{key: "limit", form: lengthForm, about: "time limit of the step",
		take: func(r *reader, s *Step, n *node) { s.Limit = r.length(n) }},
	{key: "when", form: textForm, about: "CEL condition; false: skipped",
		take: func(r *reader, s *Step, n *node) { s.When = r.condition(n) }},
}

var artifactShape = []field[Artifact]{
	{key: "name", form: nameForm, must: true, about: "the artifact's name in its store",
		take: func(r *reader, a *Artifact, n *node) { a.Name = artifact.Name(n.text) }},
	{key: "store", form: nameForm, must: true, about: "where it goes",
		take: func(r *reader, a *Artifact, n *node) { a.Store = artifact.Name(n.text) }},
	{key: "files", form: textsForm, about: "patterns, from root; \"!\" takes out",
		take: func(r *reader, a *Artifact, n *node) { a.Files = r.patterns(n) }},
	{key: "root", form: textForm, about: "the directory in which the patterns begin",
		take: func(r *reader, a *Artifact, n *node) { a.Root = r.filledPath(n) }},
	{key: "flat", form: truthForm, about: "leave the directories out",
		take: func(r *reader, a *Artifact, n *node) { a.Flat = n.truth }},
	{key: "pack", form: pickForm, picks: []string{"none", "zip", "tar.gz"}, about: "how the files are packed",
		take: func(r *reader, a *Artifact, n *node) { a.Pack = Pack(n.text) }},
	{key: "file", form: textForm, about: "the packed file's name",
		take: func(r *reader, a *Artifact, n *node) { a.File = r.filledPath(n) }},
	{key: "duty", form: pickForm, picks: []string{"fail", "warn", "none"}, about: "when nothing is found",
		take: func(r *reader, a *Artifact, n *node) { a.Duty = Duty(n.text) }},
	{key: "spare", form: lengthForm, about: "how long retention spares it",
		take: func(r *reader, a *Artifact, n *node) { a.Spare = r.length(n) }},
}
