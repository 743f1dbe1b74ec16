package language

import (
	"fmt"
	"slices"
	"strings"
)

// Explanation tells what a diagnostic's code means. Wrong and Right are whole files that show it;
// they are "" for what only a service can tell.
type Explanation struct {
	Code  string `json:"code"`
	Title string `json:"title"`
	Text  string `json:"text"`
	Wrong string `json:"wrong,omitempty"`
	Right string `json:"right,omitempty"`
}

// Explain gives the explanation of a code.
func Explain(code string) (Explanation, bool) {
	i := slices.IndexFunc(Explanations, func(e Explanation) bool { return strings.EqualFold(e.Code, code) })
	if i < 0 {
		return Explanation{}, false
	}
	return Explanations[i], true
}

// Markdown gives the explanation as a section of a page.
func (e Explanation) Markdown() string {
	var b strings.Builder
	fmt.Fprintf(&b, "## %s: %s\n\n%s\n", e.Code, e.Title, e.Text)
	if e.Wrong != "" {
		fmt.Fprintf(&b, "\nWrong:\n```toml\n%s```\n", e.Wrong)
	}
	if e.Right != "" {
		fmt.Fprintf(&b, "\nRight:\n```toml\n%s```\n", e.Right)
	}
	return b.String()
}

const compileStage = "pipeline = \"hivebook\"\n\n[stage.compile]\nscript = \"make\"\n"

// Explanations are those of all codes, in order.
var Explanations = []Explanation{
	{"S001", "the file cannot be read", "The file is not TOML, not UTF-8, or larger than a mebibyte. The place is where reading stopped; the mistake may stand a little before it: a quote that does not close, a key without a value, a key given twice.",
		"pipeline = \"hivebook\nsummary = \"Notes\"\n", compileStage},
	{"S101", "a key that does not exist", "Each table has its own keys, listed in docs/pipeline-keys.md and by `oskeld schema`. An unknown key is an error, because a key that is spelled wrong would otherwise be left out in silence.",
		"pipeline = \"hivebook\"\n\n[stage.compile]\nscirpt = \"make\"\n", compileStage},
	{"S102", "a value of the wrong form", "The key takes another form of value than the one given: a list where a text stands, a name with a blank in it, a word that is not among those to choose from.",
		compileStage + "carry = \"out\"\n", compileStage + "carry = [\"out/**\"]\n"},
	{"S103", "something is missing", "The table needs a key that is not there: a file names its pipeline and has a stage, an artifact has a name and a store, a step does exactly one thing, a start rule has one cause.",
		"[stage.compile]\nscript = \"make\"\n", compileStage},
	{"S104", "a stage or artifact that does not exist", "`after`, `follows` and conditions name stages of the same file, and conditions only those that the stage waits for; `send` names an artifact that the pipeline delivers.",
		compileStage + "\n[stage.check]\nafter  = [\"complie\"]\nscript = \"make check\"\n", compileStage + "\n[stage.check]\nafter  = [\"compile\"]\nscript = \"make check\"\n"},
	{"S105", "stages wait for each other", "A stage waits for itself, directly or through others, so none of them could ever start. Take one `after` or `follows` out of the circle that the message names.",
		compileStage + "after = [\"check\"]\n\n[stage.check]\nafter  = [\"compile\"]\nscript = \"make check\"\n", compileStage + "\n[stage.check]\nafter  = [\"compile\"]\nscript = \"make check\"\n"},
	{"S106", "the same thing twice", "A name, a value or a delivered file stands twice where each may stand once: two exports of one name, two packed files of one artifact under one file name, variants that all deliver the same file.",
		"pipeline = \"hivebook\"\nsecrets = [\"KEY\", \"KEY\"]\n\n[stage.compile]\nsecrets = [\"KEY\"]\nscript = \"make\"\n", "pipeline = \"hivebook\"\nsecrets = [\"KEY\"]\n\n[stage.compile]\nsecrets = [\"KEY\"]\nscript = \"make\"\n"},
	{"S107", "a condition that cannot be right", "`when` is a condition in CEL, checked with types before anything runs. It sees build (pipeline, number, by), source (commit, branch, tag, changed), version, ask.NAME, vary.AXIS, exports.NAME, and stages.NAME.state of the stages that it waits for.",
		compileStage + "when = \"build.number == '7'\"\n", compileStage + "when = \"build.number == 7\"\n"},
	{"S108", "braces that cannot be filled", "{Names} in braces are filled in names, versions, file names and paths. Known are version, commit, branch, tag, number, pipeline, date, time, ask.NAME and vary.AXIS; under [version] also tag.name, tag.next_patch, tag.next_minor, tag.next_major, commits and file. A literal brace is doubled.",
		"pipeline = \"hivebook\"\n\n[version]\nuntagged = \"{tag.next_path}-{number}\"\n\n[stage.compile]\nscript = \"make\"\n", "pipeline = \"hivebook\"\n\n[version]\nuntagged = \"{tag.next_patch}-{number}\"\n\n[stage.compile]\nscript = \"make\"\n"},
	{"S109", "a path or pattern that cannot be right", "Paths and patterns stay within the source: no leading slash, no \"..\" that climbs out. In patterns \"*\" matches within a name, \"**\" across directories, and brackets must close.",
		compileStage + "in = \"../other\"\n", compileStage + "in = \"other\"\n"},
	{"S110", "facts that no agent can meet", "A demand is a word (os = \"linux\"), a range of versions (go = \">=1.22\") or a bound on a size (memory = \">=2GiB\"). Stages that follow each other share an agent, so their demands must hold together.",
		compileStage + "facts = { os = \"linux\" }\n\n[stage.check]\nfacts  = { os = \"windows\" }\nscript = \"make check\"\n", compileStage + "facts = { os = \"linux\" }\n\n[stage.check]\nafter  = [\"compile\"]\nfacts  = { os = \"windows\" }\nscript = \"make check\"\n"},
	{"S111", "a secret that the pipeline does not name", "A stage may only see secrets that stand under `secrets` at the top of the file, so that a missing one refuses the build at once.",
		compileStage + "secrets = [\"KEY\"]\n", "pipeline = \"hivebook\"\nsecrets = [\"KEY\"]\n\n[stage.compile]\nsecrets = [\"KEY\"]\nscript = \"make\"\n"},
	{"S112", "keys that exclude or need each other", "Some keys cannot stand together (`after` and `follows`, two deeds in one step, two causes in one start rule), and some mean nothing alone (`match` without `after`, `omit` without `vary`, `file` with nothing that packs).",
		compileStage + "\n[stage.check]\nafter   = [\"compile\"]\nfollows = \"compile\"\nscript  = \"make check\"\n", compileStage + "\n[stage.check]\nfollows = \"compile\"\nscript  = \"make check\"\n"},
	{"S113", "a length of time that cannot be read", "Write a number and a unit: \"90s\", \"10m\", \"2h\", \"30d\".",
		compileStage + "limit = \"ten minutes\"\n", compileStage + "limit = \"10m\"\n"},
	{"S114", "a duty that cannot be met", "A test stage has the duty to read tests: one that runs none would pass in silence for ever. Name the report that the tests write, or soften the duty.",
		"pipeline = \"hivebook\"\n\n[stage.test]\nscript = \"make check\"\n", "pipeline = \"hivebook\"\n\n[stage.test]\nscript = \"make check\"\nread   = { tests = [\"report.xml\"] }\n"},
	{"S115", "too many stage runs", "A build has at most 1,000 stage runs: each stage counts once for each of its variants. Values multiply: four axes of ten values are 10,000 variants.",
		compileStage + "vary = { a = [" + numbers(40) + "], b = [" + numbers(40) + "] }\n", compileStage + "vary = { a = [" + numbers(4) + "], b = [" + numbers(4) + "] }\n"},
	{"S116", "axes and variants that do not fit", "An axis has a name and values; `omit` and `also` name axes of the same stage; `match` names axes that both stages have; a stage that follows a varied one varies over the same axes or not at all.",
		compileStage + "vary = { os = [\"linux\", \"windows\"] }\nomit = [{ oz = \"windows\" }]\n", compileStage + "vary = { os = [\"linux\", \"windows\"] }\nomit = [{ os = \"windows\" }]\n"},
	{"S117", "an ask that cannot be answered", "An ask is one of: `pick` (texts to choose from, with a `usual` one), `line` (free text), `flag`, `number`. Its name is of lower-case letters, digits and \"_\", for scripts read it as ASK_<NAME>.",
		compileStage + "\n[ask.profile]\npick  = [\"debug\", \"release\"]\nusual = \"fast\"\n", compileStage + "\n[ask.profile]\npick  = [\"debug\", \"release\"]\nusual = \"release\"\n"},
	{"S118", "a start rule that starts nothing", "`push` and `tag` name at least one pattern; `clock` has five cron fields, and a day that exists; `zone` is a name of the IANA database; a pipeline does not start after itself.",
		compileStage + "\n[[start]]\nclock = \"30 25 * * *\"\n", compileStage + "\n[[start]]\nclock = \"30 5 * * *\"\n"},
	{"S119", "a stamp that reaches nobody", "What ships must be what was stamped: a stamp in a chain from which nothing is carried, delivered or packed changes a workspace that is thrown away. Stamp in the chain that makes what is delivered.",
		compileStage + "\n[[stage.check.step]]\nstamp = { file = \"about.txt\", from = \"about.txt.in\" }\n", compileStage + "\n[[stage.check.step]]\nstamp = { file = \"about.txt\", from = \"about.txt.in\" }\n\n[[stage.check.artifact]]\nname  = \"about\"\nfiles = [\"about.txt\"]\nstore = \"intake\"\n"},
	{"S121", "a reference that cannot be read", "`fetch` takes STORE/NAME@VERSION, a range such as STORE/NAME@^1.3, or STORE/NAME:MARK. A routine is named with its exact version, so that it never changes under a pipeline.",
		compileStage + "\n[[stage.check.step]]\nfetch = { artifact = \"nectar\", into = \"lib\" }\n", compileStage + "\n[[stage.check.step]]\nfetch = { artifact = \"intake/nectar@^1.3\", into = \"lib\" }\n"},
	{"S122", "a version rule that gives no version", "The rule was tried with a sample tag, branch and number, and what came out is not a version: letters, digits, \".\", \"-\", \"+\" and \"_\", no slash, starting with a letter or a digit.",
		"pipeline = \"hivebook\"\n\n[version]\nuntagged = \"-{number}\"\n\n[stage.compile]\nscript = \"make\"\n", "pipeline = \"hivebook\"\n\n[version]\nuntagged = \"{tag.next_patch}-main.{number}\"\n\n[stage.compile]\nscript = \"make\"\n"},
	{"S201", "a secret that the service does not have", "Told by `oskeld check --against`: the project has no secret of that name, so a build would be refused. Set it with `oskeld secret set NAME --project PROJECT`.", "", ""},
	{"S202", "a store that the service does not have", "Told by `oskeld check --against`: the pipeline delivers into a store that is not there, or that belongs to another project.", "", ""},
	{"S203", "no agent that fits", "Told by `oskeld check --against`: no agent that was seen lately meets the stage's facts. The message names the nearest and what it lacks.", "", ""},
	{"S204", "a routine that is not there", "Told by `oskeld check --against`: the store has no such version of the routine, or its file has mistakes, or an ask got a value that does not fit.", "", ""},
	{"S205", "a version that is taken", "Told by `oskeld check --against`: the next build would have a version that a store holds already and would not replace. Push a new tag, or change the rule.", "", ""},
	{"S206", "an artifact that is not there", "Told by `oskeld check --against`: a `fetch` step asks for an artifact, and no version in the store fits.", "", ""},
	{"S207", "an outlet or pipeline that is not there", "Told by `oskeld check --against`: a start rule waits for a pipeline, or a `send` step names an outlet, that the service does not have.", "", ""},
	{"W201", "a secret that nobody uses", "The pipeline names a secret and no stage does, so every build needs it and no step sees it.",
		"pipeline = \"hivebook\"\nsecrets = [\"KEY\"]\n\n[stage.compile]\nscript = \"make\"\n", compileStage},
	{"W202", "braces in a script", "Braces are never filled in scripts, where a branch name with a quote in it would become a command. Scripts read the environment: $OSKELD_VERSION, $OSKELD_BRANCH, $ASK_<NAME>, $VARY_<AXIS>.",
		"pipeline = \"hivebook\"\n\n[stage.compile]\nscript = \"make VERSION={version}\"\n", "pipeline = \"hivebook\"\n\n[stage.compile]\nscript = \"make VERSION=$OSKELD_VERSION\"\n"},
	{"W203", "a stage that nothing reaches", "The stage's condition is always false, or all of its variants are omitted.",
		compileStage + "when = \"false\"\n", compileStage + "when = \"source.branch == 'main'\"\n"},
	{"W204", "a package stage without an artifact", "A package stage has the duty to deliver something, and this one names no artifact, so it will fail.",
		"pipeline = \"hivebook\"\n\n[stage.package]\nscript = \"make dist\"\n", "pipeline = \"hivebook\"\n\n[stage.package]\nscript = \"make dist\"\n\n[[stage.package.artifact]]\nname  = \"hivebook\"\nroot  = \"dist\"\nstore = \"intake\"\n"},
	{"W205", "a stage that does nothing", "The stage has neither a script nor steps nor an artifact.",
		"pipeline = \"hivebook\"\n\n[stage.compile]\n", compileStage},
	{"W207", "a workspace that is lost", "A stage with `after` begins in a fresh checkout. This one only delivers, and no stage before it carries anything: what they made is not there.",
		compileStage + "\n[stage.package]\nafter = [\"compile\"]\n\n[[stage.package.artifact]]\nname  = \"hivebook\"\nroot  = \"out\"\nstore = \"intake\"\n", compileStage + "\n[stage.package]\n[[stage.package.artifact]]\nname  = \"hivebook\"\nroot  = \"out\"\nstore = \"intake\"\n"},
	{"W208", "carried files that may meet", "Two stages may carry the same path to a third one. Where their bytes differ, the build fails; carry them from directories of their own.",
		compileStage + "carry = [\"out/**\"]\n\n[stage.docs]\nafter  = [\"compile\"]\nscript = \"make docs\"\ncarry  = [\"out/*.html\"]\n\n[stage.pack]\nafter  = [\"compile\", \"docs\"]\nscript = \"make pack\"\n",
		compileStage + "carry = [\"out/**\"]\n\n[stage.docs]\nafter  = [\"compile\"]\nscript = \"make docs\"\ncarry  = [\"pages/*.html\"]\n\n[stage.pack]\nafter  = [\"compile\", \"docs\"]\nscript = \"make pack\"\n"},
	{"W209", "versions that package stores refuse", "The rule gives versions that are no semantic versions. Stores of plain files take them; stores of a package format do not, and ranges such as ^1.3 never find them.",
		"pipeline = \"hivebook\"\n\n[version]\nuntagged = \"{branch}-{number}\"\n\n[stage.compile]\nscript = \"make\"\n", "pipeline = \"hivebook\"\n\n[version]\nuntagged = \"{tag.next_patch}-{branch}.{number}\"\n\n[stage.compile]\nscript = \"make\"\n"},
	{"W210", "a fact that no agent has", "Agents look up os, arch, cpus, memory and the versions of the usual tools by themselves, and their owners may add facts of their own. This one is close to a usual one, and so is probably misspelled.",
		compileStage + "facts = { pyhton3 = \">=3.9\" }\n", compileStage + "facts = { python3 = \">=3.9\" }\n"},
}

// numbers lists "0" to n-1 as TOML texts.
func numbers(n int) string {
	list := make([]string, n)
	for i := range list {
		list[i] = fmt.Sprintf("%q", fmt.Sprint(i))
	}
	return strings.Join(list, ", ")
}
