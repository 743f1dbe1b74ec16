package language

import "oskeld.dev/oskeld/internal/core/artifact"

// Form is what a key's value looks like.
type Form int

const (
	TextForm    Form = iota // a text
	TextsForm               // a list of texts
	PairsForm               // a table of texts
	ListsForm               // a table of lists of texts
	PairRows                // a list of tables of texts
	TruthForm               // true or false
	NumberForm              // a whole number
	LengthForm              // a time such as "90s", "10m", "2h", "30d"
	NameForm                // a name, see artifact.Name
	PickForm                // one of the field's picks
	CommandForm             // one of the field's picks, or a list of texts
	TableForm               // a table of its own
	TablesForm              // a list of tables
	NamedForm               // tables by name
)

func (f Form) String() string {
	return [...]string{"a text in quotes", "a list of texts", "a table of texts", "a table of lists of texts", "a list of tables of texts", "true or false",
		"a whole number", `a time such as "90s", "10m" or "2h"`, "a name in quotes", "a text in quotes", "a text in quotes or a list of texts",
		"a table", "a list of tables", "tables by name"}[f]
}

// Key describes one key of a table, for the JSON Schema and the reference page. Inner are the keys
// of what it holds, when that is tables.
type Key struct {
	Name      string
	Form      Form
	About     string
	Picks     []string
	Must      bool
	Rare      bool   // left out of proposals unless they are asked for whole
	Exclusive bool   // exactly one of the exclusive keys of a table must be there
	Excludes  string // a key that must not stand beside it
	Needs     string // a key without which it means nothing
	Most      int    // of a number, from 1 on
	Names     string // the pattern of the names in a table of texts, lists or tables
	Inner     *Shape
}

// Shape describes a table.
type Shape struct {
	Title string // as people write it: "[stage.NAME]"
	Keys  []Key
}

// field is one key of a table: its description, and how it is taken into a T.
type field[T any] struct {
	Key
	take func(*reader, *T, *node)
}

// describe gives the description of a table's fields.
func describe[T any](title string, fields []field[T]) *Shape {
	s := &Shape{Title: title}
	for _, f := range fields {
		s.Keys = append(s.Keys, f.Key)
	}
	return s
}

// PipelineShape describes a whole pipeline file, RoutineShape the file of a routine.
var (
	PipelineShape = describe("The file", pipelineFields)
	RoutineShape  = describe("The file of a routine", routineFields)
)

var pipelineFields = []field[Pipeline]{
	{Key{Name: "pipeline", Form: NameForm, Must: true, About: "the pipeline's name"},
		func(r *reader, p *Pipeline, n *node) { p.Name = name(n) }},
	{Key{Name: "summary", Form: TextForm, About: "one line for people"},
		func(r *reader, p *Pipeline, n *node) { p.Summary = n.Text }},
	{Key{Name: "secrets", Form: TextsForm, About: "secrets that the pipeline needs; a build is refused at once when one is missing"},
		func(r *reader, p *Pipeline, n *node) { p.Secrets = r.variables(n, "a secret") }},
	{Key{Name: "env", Form: PairsForm, Names: variablePattern, About: "variables for every step"},
		func(r *reader, p *Pipeline, n *node) { p.Env = r.environment(n) }},
	{Key{Name: "overlap", Form: PickForm, Picks: []string{"together", "queue", "replace"}, Rare: true, About: "several builds of one branch: run together (the default), wait in a queue, or replace the older"},
		func(r *reader, p *Pipeline, n *node) { p.Overlap = Overlap(n.Text) }},
	{Key{Name: "version", Form: TableForm, Inner: describe("[version]", versionFields), About: "how the version of a build is made"},
		func(r *reader, p *Pipeline, n *node) { p.Version = r.version(n) }},
	{Key{Name: "ask", Form: NamedForm, Names: askPattern, Inner: describe("[ask.NAME]", askFields), About: "values that whoever starts a build may choose"},
		func(r *reader, p *Pipeline, n *node) { p.Asks = r.asksRead }},
	{Key{Name: "start", Form: TablesForm, Inner: describe("[[start]]", startFields), About: "rules that start builds by themselves"},
		func(r *reader, p *Pipeline, n *node) { p.Starts = r.starts(n) }},
	{Key{Name: "stage", Form: NamedForm, Names: artifact.NamePattern, Inner: describe("[stage.NAME]", stageFields), Must: true, About: "the stages, in the order of the file"},
		func(r *reader, p *Pipeline, n *node) { r.stages(p, n) }},
}

type versionTexts struct{ tag, tagged, untagged, file *node }

var versionFields = []field[versionTexts]{
	{Key{Name: "tag", Form: TextForm, About: "which tags count, as a pattern; usually \"v*\""},
		func(r *reader, v *versionTexts, n *node) { v.tag = n }},
	{Key{Name: "tagged", Form: TextForm, About: "the version of a build that a tag started; usually \"{tag}\""},
		func(r *reader, v *versionTexts, n *node) { v.tagged = n }},
	{Key{Name: "untagged", Form: TextForm, About: "the version of any other build; usually \"{tag.next_patch}-{branch}.{number}\""},
		func(r *reader, v *versionTexts, n *node) { v.untagged = n }},
	{Key{Name: "file", Form: TextForm, About: "a file of the source; its first line is {file}"},
		func(r *reader, v *versionTexts, n *node) { v.file = n; r.path(n) }},
}

var askFields = []field[askNodes]{
	{Key{Name: "about", Form: TextForm, About: "what it is, for the form"},
		func(r *reader, a *askNodes, n *node) { a.About = n.Text }},
	{Key{Name: "pick", Form: TextsForm, Exclusive: true, About: "texts to choose one from"},
		func(r *reader, a *askNodes, n *node) { a.pick = n }},
	{Key{Name: "usual", Form: TextForm, Needs: "pick", About: "what a `pick` is when nobody chooses; the first unless said"},
		func(r *reader, a *askNodes, n *node) { a.usual = n }},
	{Key{Name: "line", Form: TextForm, Exclusive: true, About: "a free line of text; the value when nobody chooses"},
		func(r *reader, a *askNodes, n *node) { a.line = n }},
	{Key{Name: "flag", Form: TruthForm, Exclusive: true, About: "yes or no; the value when nobody chooses"},
		func(r *reader, a *askNodes, n *node) { a.flag = n }},
	{Key{Name: "number", Form: NumberForm, Exclusive: true, About: "a whole number; the value when nobody chooses"},
		func(r *reader, a *askNodes, n *node) { a.number = n }},
}

var startFields = []field[Start]{
	{Key{Name: "push", Form: TextsForm, Exclusive: true, About: "a push to one of these branches (patterns)"},
		func(r *reader, s *Start, n *node) { s.Push = r.patterns(n) }},
	{Key{Name: "unless", Form: TextsForm, Needs: "push", About: "beside push: a push that touches only these files starts nothing"},
		func(r *reader, s *Start, n *node) { s.Unless = r.patterns(n) }},
	{Key{Name: "tag", Form: TextsForm, Exclusive: true, About: "a pushed tag that fits one of these patterns"},
		func(r *reader, s *Start, n *node) { s.Tag = r.patterns(n) }},
	{Key{Name: "clock", Form: TextForm, Exclusive: true, About: "five cron fields: minute, hour, day of the month, month, day of the week"},
		func(r *reader, s *Start, n *node) { s.Clock = r.clock(n) }},
	{Key{Name: "zone", Form: TextForm, Needs: "clock", About: "beside clock: the time zone, as in \"Europe/Oslo\"; usually UTC"},
		func(r *reader, s *Start, n *node) { s.Zone = r.zone(n) }},
	{Key{Name: "after", Form: NameForm, Exclusive: true, About: "a build of that pipeline passed"},
		func(r *reader, s *Start, n *node) { s.After = name(n) }},
	{Key{Name: "branch", Form: TextForm, About: "beside clock or after: which branch; usually the default branch"},
		func(r *reader, s *Start, n *node) { s.Branch = n.Text }},
}
