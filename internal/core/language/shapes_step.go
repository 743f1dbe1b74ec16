package language

var stepFields = []field[Step]{
	{Key{Name: "name", Form: TextForm, About: "what people read"},
		func(r *reader, s *Step, n *node) { s.Name = n.Text }},
	{Key{Name: "script", Form: TextForm, Exclusive: true, About: "run by the step's shell"},
		func(r *reader, s *Step, n *node) { s.Script = r.script(n) }},
	{Key{Name: "stamp", Form: TableForm, Exclusive: true, Inner: describe("stamp, of a step", stampFields), About: "writes version, commit, changes and other values into a file"},
		func(r *reader, s *Step, n *node) { s.Stamp = r.stamp(n) }},
	{Key{Name: "fetch", Form: TableForm, Exclusive: true, Rare: true, Inner: describe("fetch, of a step", fetchFields), About: "lays an artifact from a store into a directory"},
		func(r *reader, s *Step, n *node) { s.Fetch = new(Fetch); fill(r, s.Fetch, n, fetchFields, "fetch") }},
	{Key{Name: "send", Form: TableForm, Exclusive: true, Rare: true, Inner: describe("send, of a step", sendFields), About: "gives a sealed artifact to an outlet"},
		func(r *reader, s *Step, n *node) { s.Send = new(Send); fill(r, s.Send, n, sendFields, "send") }},
	{Key{Name: "routine", Form: TableForm, Exclusive: true, Rare: true, Inner: describe("routine, of a step", useFields), About: "steps kept in a store"},
		func(r *reader, s *Step, n *node) { s.Routine = new(Use); fill(r, s.Routine, n, useFields, "routine") }},
	{Key{Name: "in", Form: TextForm, About: "working directory within the stage's"},
		func(r *reader, s *Step, n *node) { s.In = r.filledPath(n) }},
	{Key{Name: "env", Form: PairsForm, Names: variablePattern, About: "variables for this step"},
		func(r *reader, s *Step, n *node) { s.Env = r.environment(n) }},
	{Key{Name: "shell", Form: CommandForm, Needs: "script", Picks: shellPicks, Rare: true, About: "what runs the script; usually the stage's"},
		func(r *reader, s *Step, n *node) { s.Shell = shell(n) }},
	{Key{Name: "limit", Form: LengthForm, About: "time limit of the step"},
		func(r *reader, s *Step, n *node) { s.Limit = r.length(n) }},
	{Key{Name: "tries", Form: NumberForm, Most: MostTries, Rare: true, About: "how often to try when it fails; usually 1"},
		func(r *reader, s *Step, n *node) { s.Tries = tries(n) }},
	{Key{Name: "when", Form: TextForm, About: "CEL condition; false: skipped"},
		func(r *reader, s *Step, n *node) { s.When = r.condition(n) }},
	{Key{Name: "forgive", Form: TruthForm, Rare: true, About: "a failure is noted, not fatal"},
		func(r *reader, s *Step, n *node) { s.Forgive = n.Truth }},
	{Key{Name: "off", Form: TruthForm, Rare: true, About: "kept in the file, not run"},
		func(r *reader, s *Step, n *node) { s.Off = n.Truth }},
}

var stampFields = []field[Stamp]{
	{Key{Name: "file", Form: TextForm, Must: true, About: "the file that is written"},
		func(r *reader, s *Stamp, n *node) { s.File = r.filledPath(n) }},
	{Key{Name: "from", Form: TextForm, Exclusive: true, About: "a template in the source; the {names} in it are filled"},
		func(r *reader, s *Stamp, n *node) { s.From = r.filledPath(n) }},
	{Key{Name: "set", Form: PairsForm, Exclusive: true, About: "fields of a JSON, TOML or XML file and their texts; the rest is kept to the byte"},
		func(r *reader, s *Stamp, n *node) { s.Set = r.settings(n) }},
}

var fetchFields = []field[Fetch]{
	{Key{Name: "artifact", Form: TextForm, Must: true, About: "STORE/NAME@VERSION, STORE/NAME@RANGE such as \"^1.3\", or STORE/NAME:MARK"},
		func(r *reader, f *Fetch, n *node) { f.Artifact = r.wanted(n) }},
	{Key{Name: "into", Form: TextForm, Must: true, About: "the directory that it is laid into"},
		func(r *reader, f *Fetch, n *node) { f.Into = r.filledPath(n) }},
	{Key{Name: "unpack", Form: TruthForm, About: "unpack archives"},
		func(r *reader, f *Fetch, n *node) { f.Unpack = n.Truth }},
}

var sendFields = []field[Send]{
	{Key{Name: "artifact", Form: NameForm, Must: true, About: "the name of an artifact that this pipeline delivers"},
		func(r *reader, s *Send, n *node) { s.Artifact = name(n) }},
	{Key{Name: "to", Form: NameForm, Must: true, About: "the outlet"},
		func(r *reader, s *Send, n *node) { s.Outlet = name(n) }},
}

var useFields = []field[Use]{
	{Key{Name: "use", Form: TextForm, Must: true, About: "STORE/NAME@VERSION"},
		func(r *reader, u *Use, n *node) { u.Routine = r.routineRef(n) }},
	{Key{Name: "ask", Form: PairsForm, About: "values for the routine's asks"},
		func(r *reader, u *Use, n *node) { u.Ask = r.pairs(n) }},
}

// Routine is steps kept in a store, with asks of their own.
type Routine struct {
	Name    string
	Summary string
	Asks    []Ask
	Steps   []Step
}

var routineFields = []field[Routine]{
	{Key{Name: "routine", Form: NameForm, Must: true, About: "the routine's name"},
		func(r *reader, x *Routine, n *node) { x.Name = n.Text }},
	{Key{Name: "summary", Form: TextForm, About: "one line for people"},
		func(r *reader, x *Routine, n *node) { x.Summary = n.Text }},
	{Key{Name: "ask", Form: NamedForm, Names: askPattern, Inner: describe("[ask.NAME]", askFields), About: "values that whoever uses it gives; steps read them as ASK_<NAME>"},
		func(r *reader, x *Routine, n *node) { x.Asks = r.asksRead }},
	{Key{Name: "step", Form: TablesForm, Must: true, Inner: describe("[[step]]", stepFields), About: "the steps, in order; a routine uses no other"},
		func(r *reader, x *Routine, n *node) { x.Steps = r.steps(n, "the routine", nil) }},
}
