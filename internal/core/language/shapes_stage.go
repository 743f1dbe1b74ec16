package language

import "oskeld.dev/oskeld/internal/core/artifact"

var (
	dutyPicks  = []string{"fail", "warn", "none"}
	shellPicks = []string{"sh", "bash", "pwsh", "python3"}
)

var stageFields = []field[Stage]{
	{Key{Name: "purpose", Form: PickForm, Picks: purposes, About: "what the stage is for; taken from its name where that is one of these words"},
		func(r *reader, s *Stage, n *node) { s.Purpose = Purpose(n.Text) }},
	{Key{Name: "follows", Form: NameForm, Excludes: "after", About: "the stage whose agent and workspace this one goes on in"},
		func(r *reader, s *Stage, n *node) { s.Follows = name(n) }},
	{Key{Name: "after", Form: TextsForm, About: "stages that must have passed, in all their variants; a fresh checkout on any agent that fits"},
		func(r *reader, s *Stage, n *node) { s.After = r.names(n) }},
	{Key{Name: "match", Form: TextsForm, Needs: "after", Rare: true, About: "beside after: wait only for variants with the same values on these axes"},
		func(r *reader, s *Stage, n *node) { s.Match = texts(n) }},
	{Key{Name: "vary", Form: ListsForm, Names: askPattern, About: "axes and their values; the stage runs once for each combination"},
		func(r *reader, s *Stage, n *node) { s.Vary = r.axes(n) }},
	{Key{Name: "omit", Form: PairRows, Needs: "vary", Rare: true, About: "combinations that are left out"},
		func(r *reader, s *Stage, n *node) { s.Omit = variants(n) }},
	{Key{Name: "also", Form: PairRows, Needs: "vary", Rare: true, About: "combinations that are added"},
		func(r *reader, s *Stage, n *node) { s.Also = variants(n) }},
	{Key{Name: "halt", Form: PickForm, Needs: "vary", Picks: []string{"first", "never"}, Rare: true, About: "whether a variant's failure stops the others; usually \"first\""},
		func(r *reader, s *Stage, n *node) { s.HaltNever = n.Text == "never" }},
	{Key{Name: "run", Form: PickForm, Picks: []string{"always"}, Rare: true, About: "\"always\": also when what it needs failed or was stopped"},
		func(r *reader, s *Stage, n *node) { s.Always = true }},
	{Key{Name: "when", Form: TextForm, About: "CEL condition; false: skipped"},
		func(r *reader, s *Stage, n *node) { s.When = r.condition(n) }},
	{Key{Name: "alone", Form: NameForm, Rare: true, About: "only one stage run with this name runs at a time, over all builds"},
		func(r *reader, s *Stage, n *node) { s.Alone = name(n) }},
	{Key{Name: "facts", Form: PairsForm, About: "demands on an agent: ranges for versions, sizes, words"},
		func(r *reader, s *Stage, n *node) { s.Facts = r.facts(n) }},
	{Key{Name: "equip", Form: PairsForm, Rare: true, About: "tools put on PATH in a given version"},
		func(r *reader, s *Stage, n *node) { s.Equip = r.facts(n) }},
	{Key{Name: "secrets", Form: TextsForm, About: "secrets that this stage's steps see"},
		func(r *reader, s *Stage, n *node) { s.Secrets = r.variables(n, "a secret") }},
	{Key{Name: "env", Form: PairsForm, Names: variablePattern, About: "variables for this stage's steps"},
		func(r *reader, s *Stage, n *node) { s.Env = r.environment(n) }},
	{Key{Name: "in", Form: TextForm, About: "working directory within the source"},
		func(r *reader, s *Stage, n *node) { s.In = r.filledPath(n) }},
	{Key{Name: "shell", Form: CommandForm, Picks: shellPicks, About: "what runs the scripts, or a command that gets the script's file; usually \"sh\", run as sh -eu"},
		func(r *reader, s *Stage, n *node) { r.shell = shell(n) }},
	{Key{Name: "limit", Form: LengthForm, About: "time limit of the whole stage"},
		func(r *reader, s *Stage, n *node) { s.Limit = r.length(n) }},
	{Key{Name: "tries", Form: NumberForm, Most: MostTries, Rare: true, About: "how often to try when it fails; usually 1"},
		func(r *reader, s *Stage, n *node) { s.Tries = tries(n) }},
	{Key{Name: "cache", Form: TablesForm, Inner: describe("cache, of a stage", cacheFields), About: "directories found again by the digest of files"},
		func(r *reader, s *Stage, n *node) { s.Cache = rows(r, n, cacheFields, "cache") }},
	{Key{Name: "reuse", Form: TextsForm, Rare: true, About: "patterns of what the chain depends on: unchanged since a passed run, its results are taken over"},
		func(r *reader, s *Stage, n *node) { s.Reuse = r.patterns(n) }},
	{Key{Name: "reuse_with", Form: TextsForm, Needs: "reuse", Rare: true, About: "what else belongs to the basis: version, number, commit, branch, tag"},
		func(r *reader, s *Stage, n *node) {
			s.ReuseWith = r.picks(n, "version", "number", "commit", "branch", "tag")
		}},
	{Key{Name: "script", Form: TextForm, Excludes: "step", About: "the stage's one script"},
		func(r *reader, s *Stage, n *node) { s.Steps = append(s.Steps, Step{Script: r.script(n)}) }},
	{Key{Name: "step", Form: TablesForm, Inner: describe("[[stage.NAME.step]]", stepFields), About: "the stage's steps, in order"},
		func(r *reader, s *Stage, n *node) {
			s.Steps = append(s.Steps, r.steps(n, "stage "+string(s.Name), s.Steps)...)
		}},
	{Key{Name: "exports", Form: TextsForm, Rare: true, About: "names of values that the stage's steps export"},
		func(r *reader, s *Stage, n *node) { s.Exports = r.variables(n, "an export") }},
	{Key{Name: "carry", Form: TextsForm, About: "files handed to stages that come after"},
		func(r *reader, s *Stage, n *node) { s.Carry = r.patterns(n) }},
	{Key{Name: "read", Form: TableForm, Inner: describe("read, of a stage", readFields), About: "reports to read"},
		func(r *reader, s *Stage, n *node) { fill(r, s, n, readFields, "read of stage "+string(s.Name)) }},
	{Key{Name: "duty", Form: PickForm, Picks: dutyPicks, About: "when a test stage reads no test, or a package stage delivers nothing"},
		func(r *reader, s *Stage, n *node) { s.Duty = Duty(n.Text) }},
	{Key{Name: "artifact", Form: TablesForm, Inner: describe("[[stage.NAME.artifact]]", artifactFields), About: "what the stage delivers"},
		func(r *reader, s *Stage, n *node) { r.artifacts(s, n) }},
}

var cacheFields = []field[Cache]{
	{Key{Name: "dirs", Form: TextsForm, Must: true, About: "directories of the workspace, or below \"~/\" in the private HOME"},
		func(r *reader, c *Cache, n *node) { c.Dirs = r.cacheDirs(n) }},
	{Key{Name: "by", Form: TextsForm, Must: true, About: "files whose digest is the key; a changed one means a new cache"},
		func(r *reader, c *Cache, n *node) { c.By = r.patterns(n) }},
}

var readFields = []field[Stage]{
	{Key{Name: "tests", Form: TextsForm, About: "test reports: JUnit XML, TAP or go test -json, told apart by content"},
		func(r *reader, s *Stage, n *node) { s.ReadTests = r.patterns(n) }},
	{Key{Name: "coverage", Form: TextsForm, About: "coverage reports: Cobertura XML, LCOV or a Go profile"},
		func(r *reader, s *Stage, n *node) { s.ReadCoverage = r.patterns(n) }},
	{Key{Name: "findings", Form: TextsForm, About: "reports of findings: SARIF or Checkstyle XML"},
		func(r *reader, s *Stage, n *node) { s.ReadFindings = r.patterns(n) }},
}

var artifactFields = []field[Artifact]{
	{Key{Name: "name", Form: TextForm, Must: true, About: "the artifact's name in its store"},
		func(r *reader, a *Artifact, n *node) { a.Name = artifact.Name(r.filledName(n, "artifact")) }},
	{Key{Name: "store", Form: NameForm, Must: true, About: "where it goes"},
		func(r *reader, a *Artifact, n *node) { a.Store = name(n) }},
	{Key{Name: "files", Form: TextsForm, About: "patterns, from root; \"!\" takes out"},
		func(r *reader, a *Artifact, n *node) { a.Files = r.filledPatterns(n) }},
	{Key{Name: "root", Form: TextForm, About: "the directory in which the patterns begin"},
		func(r *reader, a *Artifact, n *node) { a.Root = r.filledPath(n) }},
	{Key{Name: "flat", Form: TruthForm, Rare: true, About: "leave the directories out"},
		func(r *reader, a *Artifact, n *node) { a.Flat = n.Truth }},
	{Key{Name: "pack", Form: PickForm, Picks: []string{"none", "zip", "tar.gz", "tar.zst"}, About: "how the files are packed"},
		func(r *reader, a *Artifact, n *node) { a.Pack = Pack(n.Text) }},
	{Key{Name: "file", Form: TextForm, About: "the packed file's name"},
		func(r *reader, a *Artifact, n *node) { a.File = r.filledPath(n) }},
	{Key{Name: "duty", Form: PickForm, Picks: dutyPicks, Rare: true, About: "when nothing is found"},
		func(r *reader, a *Artifact, n *node) { a.Duty = Duty(n.Text) }},
	{Key{Name: "spare", Form: LengthForm, Rare: true, About: "how long retention spares it"},
		func(r *reader, a *Artifact, n *node) { a.Spare = r.length(n) }},
	{Key{Name: "symbols", Form: TruthForm, Rare: true, About: "it holds debug symbols, to be found by build-id"},
		func(r *reader, a *Artifact, n *node) { a.Symbols = n.Truth }},
}
