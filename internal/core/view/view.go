// Package view holds the shapes in which Oskeld shows what it knows: what the service answers,
// what its API says in JSON, and what the client reads. Times are UTC, sizes bytes, durations
// milliseconds in fields that end in _ms.
package view

import (
	"strings"
	"time"

	"oskeld.dev/oskeld/internal/core/admit"
	"oskeld.dev/oskeld/internal/core/artifact"
	"oskeld.dev/oskeld/internal/core/condition"
	"oskeld.dev/oskeld/internal/core/facts"
	"oskeld.dev/oskeld/internal/core/language"
	"oskeld.dev/oskeld/internal/core/progress"
	"oskeld.dev/oskeld/internal/core/promotion"
	"oskeld.dev/oskeld/internal/core/proposal"
)

// Status is what a service says of itself to someone who has signed in.
type Status struct {
	Service   string `json:"service" doc:"version of the service"`
	Person    string `json:"person"`
	Owner     bool   `json:"owner"`
	Scope     string `json:"scope"`
	PublicKey string `json:"public_key" doc:"PEM of the Ed25519 key that signs provenance"`
}

// Person has an account.
type Person struct {
	Name      string    `json:"name"`
	Shown     string    `json:"shown" doc:"the name as people write it"`
	Owner     bool      `json:"owner" doc:"may do everything on this service"`
	CreatedAt time.Time `json:"created_at"`
}

// Member is a person's role in a project.
type Member struct {
	Person string `json:"person"`
	Role   string `json:"role" enum:"read,build,promote,manage"`
}

// Token lets a program in for a person.
type Token struct {
	ID        string    `json:"id"`
	Name      string    `json:"name"`
	Scope     string    `json:"scope"`
	EndsAt    time.Time `json:"ends_at"`
	CreatedAt time.Time `json:"created_at"`
}

// Project is people, pipelines and stores that belong together.
type Project struct {
	Name       string    `json:"name"`
	Summary    string    `json:"summary"`
	MostPlaces int       `json:"most_places" doc:"how many places its builds may have at a time; 0: no limit"`
	CreatedAt  time.Time `json:"created_at"`
}

// Source is a git repository.
type Source struct {
	Name       string    `json:"name"`
	Project    string    `json:"project"`
	URL        string    `json:"url"`
	Credential string    `json:"credential" enum:"none,password,key" doc:"what kind of credential is kept"`
	Trusted    []string  `json:"trusted" doc:"patterns of branches and tags whose builds get secrets"`
	CreatedAt  time.Time `json:"created_at"`

	PollS    int        `json:"poll_s" doc:"how often it is looked at for pushes, in seconds; 0: only after signed calls"`
	Calls    bool       `json:"calls" doc:"there is a key with which calls are signed"`
	LookedAt *time.Time `json:"looked_at" doc:"when it last told what it has"`
	Trouble  string     `json:"trouble" doc:"why it did not answer since"`
}

// RefAt is a branch or tag and its commit.
type RefAt struct {
	Name   string `json:"name"`
	Commit string `json:"commit"`
}

// SourceLook is a source with what it answered just now.
type SourceLook struct {
	Source
	Default  string  `json:"default" doc:"the default branch"`
	Branches []RefAt `json:"branches"`
	Tags     []RefAt `json:"tags"`
}

// Pipeline is one file of a source. Last is its newest build.
type Pipeline struct {
	Name      string    `json:"name"`
	Project   string    `json:"project"`
	Source    string    `json:"source"`
	File      string    `json:"file"`
	Summary   string    `json:"summary"`
	CreatedAt time.Time `json:"created_at"`
	Resting   bool      `json:"resting" doc:"its start rules start nothing"`
	Last      *Build    `json:"last,omitempty"`
}

// Why is what began a build. Trail lists the pipelines whose builds led to it, the nearest last.
type Why struct {
	Kind  StartKind `json:"kind,omitempty" enum:"person,push,tag,clock,after"`
	Says  string    `json:"says,omitempty"`
	Trail []string  `json:"trail,omitempty"`
}

// StartKind is a kind of start.
type StartKind string

const (
	ByPerson StartKind = "person"
	ByPush   StartKind = "push"
	ByTag    StartKind = "tag"
	ByClock  StartKind = "clock"
	ByAfter  StartKind = "after"
)

// Looking says that a source is being looked at.
type Looking struct {
	Source string `json:"source"`
}

// Occurrence is something that could start a build, and what came of it.
type Occurrence struct {
	Kind    StartKind `json:"kind" enum:"push,tag,clock,after"`
	Says    string    `json:"says"`
	Outcome string    `json:"outcome" enum:"started,nothing,refused"`
	Cause   string    `json:"cause" doc:"why nothing was started"`
	Number  int       `json:"number" doc:"the build that was started; 0 for none"`
	At      time.Time `json:"at"`
}

// Secret is shown without its value, which never leaves the service but for builds.
type Secret struct {
	Name            string    `json:"name"`
	Project         string    `json:"project"`
	Pipeline        string    `json:"pipeline" doc:"whose own it is; empty: of the whole project"`
	AdmitsPipelines []string  `json:"admits_pipelines" doc:"none named: all of the project"`
	AdmitsRefs      []string  `json:"admits_refs" doc:"patterns of branches and tags; none named: all that its source trusts"`
	Revision        int       `json:"revision"`
	SetBy           string    `json:"set_by"`
	SetAt           time.Time `json:"set_at"`
}

// Tool is one that a stage run was equipped with: the agent's own, or from a store of tools.
type Tool struct {
	Name    string          `json:"name"`
	Version string          `json:"version"`
	From    string          `json:"from" doc:"STORE/NAME@VERSION, or empty for the agent's own"`
	Digest  artifact.Digest `json:"sha256,omitempty" doc:"of the file that was unpacked"`
}

// Caches are what a project keeps between builds. Sizes are of packed bytes.
type Caches struct {
	Size   int64      `json:"size"`
	Quota  int64      `json:"quota" doc:"beyond it the longest unused ones go"`
	Days   int        `json:"days" doc:"those that nobody used for so long go"`
	Admits admit.List `json:"admits" doc:"the pipelines and refs whose builds find and save them; empty for all"`
	List   []Cache    `json:"list"`
}

// Cache is directories kept between builds. By are the files that it goes by, with their digests.
type Cache struct {
	ID     string                     `json:"id"`
	Dirs   []string                   `json:"dirs"`
	By     map[string]artifact.Digest `json:"by"`
	System string                     `json:"system"`
	Size   int64                      `json:"size"`
	From   string                     `json:"from" doc:"the build that saved it"`
	Uses   int                        `json:"uses" doc:"how often it was found again"`
	MadeAt time.Time                  `json:"made_at"`
	UsedAt time.Time                  `json:"used_at"`
}

// Times tells the four kinds of time apart.
type Times struct {
	WaitingMS    int64 `json:"waiting_ms"`
	PreparingMS  int64 `json:"preparing_ms"`
	WorkingMS    int64 `json:"working_ms"`
	DeliveringMS int64 `json:"delivering_ms"`
}

// Build is one execution of a pipeline.
type Build struct {
	Pipeline  string         `json:"pipeline"`
	Number    int            `json:"number"`
	State     progress.State `json:"state" enum:"waiting,running,passed,failed,stopped,skipped,reused,lost"`
	Cause     string         `json:"cause"`
	Ref       string         `json:"ref"`
	Commit    string         `json:"commit"`
	Branch    string         `json:"branch"`
	Tag       string         `json:"tag"`
	Subject   string         `json:"subject" doc:"first line of the commit's message"`
	Version   string         `json:"version"`
	StartedBy string         `json:"started_by"`
	Why       Why            `json:"why" doc:"what began it"`
	Round     int            `json:"round" doc:"how often it was begun, with what did not pass before"`
	Trusted   bool           `json:"trusted" doc:"false: a ref that the source does not trust; no secrets"`
	CreatedAt time.Time      `json:"created_at"`
	StartedAt *time.Time     `json:"started_at"`
	EndedAt   *time.Time     `json:"ended_at"`
	Times
}

// PipelineFile is a pipeline's file as it stands at a commit.
type PipelineFile struct {
	File        string                `json:"file"`
	Ref         string                `json:"ref"`
	Commit      string                `json:"commit"`
	Text        string                `json:"text"`
	Diagnostics []language.Diagnostic `json:"diagnostics"`
	Asks        []language.Ask        `json:"asks"`
	Starts      []StartRule           `json:"starts"`
	Chains      []string              `json:"chains" doc:"the stage runs of each chain, in words"`
}

// SourceProposal is a pipeline file proposed for a source. There tells that the source has one already.
type SourceProposal struct {
	proposal.Proposal
	File  string `json:"file"`
	There bool   `json:"there"`
}

// StartRule is a rule that starts builds by itself.
type StartRule struct {
	Says string      `json:"says"`
	Next []time.Time `json:"next" doc:"of a clock rule: the next three times, in its zone"`
}

// NextVersion is the version that the next build of a ref would have.
type NextVersion struct {
	Version    string `json:"version"`
	Derivation string `json:"derivation" doc:"how it came about, in words"`
	Commit     string `json:"commit"`
	Semantic   bool   `json:"semantic" doc:"a semantic version, as package formats ask for"`
}

// Change is a commit that is in a build and was not in the last passed one of its branch.
type Change struct {
	Commit  string    `json:"commit"`
	Author  string    `json:"author"`
	At      time.Time `json:"at"`
	Subject string    `json:"subject"`
}

// Step is a step of a stage run; offsets count from the stage run's start.
type Step struct {
	Name    string         `json:"name"`
	State   progress.State `json:"state" enum:"waiting,running,passed,failed,stopped,skipped,reused,lost"`
	Cause   string         `json:"cause,omitempty"`
	Exit    *int           `json:"exit,omitempty"`
	StartMS int64          `json:"start_ms"`
	TookMS  int64          `json:"took_ms"`
	Line    int64          `json:"line" doc:"the number of its first line in the log; 0 before it begins"`
}

// StageRun is one stage in one build. Wants says what a waiting one waits for.
type StageRun struct {
	Index     int                `json:"index"`
	Name      string             `json:"name"`
	Variant   string             `json:"variant" doc:"the values of its variant, \"\" for a stage that does not vary"`
	Purpose   string             `json:"purpose"`
	Chain     int                `json:"chain"`
	Needs     []int              `json:"needs"`
	State     progress.State     `json:"state" enum:"waiting,running,passed,failed,stopped,skipped,reused,lost"`
	Cause     string             `json:"cause"`
	Wants     string             `json:"wants,omitempty"`
	Agent     string             `json:"agent"`
	Fence     int64              `json:"fence" doc:"number of the hand-out that this shows"`
	ReadyAt   *time.Time         `json:"ready_at"`
	StartedAt *time.Time         `json:"started_at"`
	EndedAt   *time.Time         `json:"ended_at"`
	Steps     []Step             `json:"steps"`
	Notes     []string           `json:"notes"`
	Tools     []Tool             `json:"tools" doc:"what the stage was equipped with"`
	Exports   []condition.Export `json:"exports" doc:"values that its steps exported"`
	Tests     *TestSum           `json:"tests,omitempty"`
	Lines     int64              `json:"lines" doc:"of its log so far"`
	Critical  bool               `json:"critical" doc:"on the critical path of the build"`
	Lost      []LostRun          `json:"lost" doc:"hand-outs of it in the middle of which an agent was lost"`
	Times
	Reuse   string       `json:"reuse" doc:"what was taken over for its chain, or what has changed since it last passed"`
	Earlier []EarlierRun `json:"earlier" doc:"what became of it in earlier rounds"`
}

// LostRun is a hand-out that came to nothing because its agent was lost. Its log is read under its fence.
type LostRun struct {
	Agent     string     `json:"agent"`
	Fence     int64      `json:"fence"`
	StartedAt *time.Time `json:"started_at"`
	LostAt    time.Time  `json:"lost_at"`
}

// EarlierRun is what became of a stage run in an earlier round. Its log is read under its fence.
type EarlierRun struct {
	Round     int            `json:"round"`
	State     progress.State `json:"state" enum:"waiting,running,passed,failed,stopped,skipped,reused,lost"`
	Cause     string         `json:"cause"`
	Agent     string         `json:"agent"`
	Fence     int64          `json:"fence"`
	StartedAt *time.Time     `json:"started_at"`
	EndedAt   *time.Time     `json:"ended_at"`
	Failed    []string       `json:"failed" doc:"tests that failed, fifty at most"`
}

// Title is the stage's name with the values of its variant.
func (r StageRun) Title() string { return strings.TrimSpace(r.Name + " " + r.Variant) }

// TestSum counts tests.
type TestSum struct {
	Total   int `json:"total"`
	Passed  int `json:"passed"`
	Failed  int `json:"failed"`
	Skipped int `json:"skipped"`
}

// FailedTest is a test that did not pass. Since is "new" or "still" against the build before.
type FailedTest struct {
	Stage   string  `json:"stage"`
	Suite   string  `json:"suite"`
	Name    string  `json:"name"`
	Seconds float64 `json:"seconds"`
	Message string  `json:"message"`
	Since   string  `json:"since" enum:"new,still"`
}

// Input is an artifact's file that a build took in.
type Input struct {
	Store   string          `json:"store"`
	Name    string          `json:"name"`
	Version string          `json:"version"`
	Path    string          `json:"path"`
	Digest  artifact.Digest `json:"digest"`
	Stage   string          `json:"stage"`
}

// BuildDetail is a build with all that belongs to it.
type BuildDetail struct {
	Build
	Derivation string            `json:"derivation" doc:"how the version came about, in words"`
	Asks       []condition.Value `json:"asks" doc:"values chosen when it was started, or usual"`
	Runs       []StageRun        `json:"runs"`
	Changes    []Change          `json:"changes"`
	Since      int               `json:"since" doc:"number of the passed build that the changes count from, 0 for none"`
	Failed     []FailedTest      `json:"failed_tests"`
	Artifacts  []Artifact        `json:"artifacts"`
	Inputs     []Input           `json:"inputs"`
}

// Artifact is an admission: what a store holds under a name and a version.
type Artifact struct {
	Store      string          `json:"store"`
	Name       string          `json:"name"`
	Version    string          `json:"version"`
	Revision   int             `json:"revision"`
	State      string          `json:"state" enum:"filling,sealed,withdrawn,dropped"`
	Content    artifact.Digest `json:"content"`
	Size       int64           `json:"size"`
	Files      int             `json:"files"`
	Build      string          `json:"build" doc:"PIPELINE/NUMBER that made the content"`
	Commit     string          `json:"commit"`
	Branch     string          `json:"branch"`
	Tag        string          `json:"tag"`
	Promoted   string          `json:"promoted_from" doc:"the store it was promoted from"`
	By         string          `json:"by"`
	Marks      []string        `json:"marks"`
	CreatedAt  time.Time       `json:"created_at"`
	SealedAt   *time.Time      `json:"sealed_at"`
	EndedAt    *time.Time      `json:"ended_at"`
	Statements int             `json:"statements" doc:"signed statements about its content"`
}

// Ref writes the artifact as people type it.
func (a Artifact) Ref() string { return a.Store + "/" + a.Name + "@" + a.Version }

// ArtifactDetail is an artifact with its files and how it got there.
type ArtifactDetail struct {
	Artifact
	Contents   []artifact.File `json:"contents"`
	Promotions []Promotion     `json:"promotions" doc:"asked for from here"`
	Admitted   *Promotion      `json:"admitted,omitempty" doc:"the promotion that brought it here"`
	Inputs     []Input         `json:"inputs"`
}

// Store is a place for artifacts.
type Store struct {
	Name      string           `json:"name"`
	Project   string           `json:"project"`
	Summary   string           `json:"summary"`
	Format    string           `json:"format" enum:"files"`
	Rewrite   string           `json:"rewrite" enum:"never,same,always"`
	From      []string         `json:"from" doc:"stores that it admits promotions from"`
	Outside   bool             `json:"outside" doc:"admits builds of refs that their source does not trust"`
	Tools     bool             `json:"tools" doc:"agents of every project are equipped from it"`
	Admits    admit.List       `json:"admits" doc:"the pipelines and refs that may deliver into it, or be equipped from it; empty for all"`
	Rank      int              `json:"rank" doc:"its rung on the ladder, lowest 0"`
	Rules     []promotion.Rule `json:"rules"`
	Revision  int              `json:"revision" doc:"of its rules"`
	CreatedAt time.Time        `json:"created_at"`
	Names     int              `json:"names"`
	Versions  int              `json:"versions"`
	Size      int64            `json:"size" doc:"of its contents, each counted once"`
}

// ArtifactName is a name in one or more stores.
type ArtifactName struct {
	Name     string    `json:"name"`
	Versions int       `json:"versions"`
	Latest   string    `json:"latest"`
	LatestAt time.Time `json:"latest_at"`
}

// Ladder is a name across the stores of its project, lowest store first.
type Ladder struct {
	Name       string      `json:"name"`
	Stores     []Store     `json:"stores"`
	Artifacts  []Artifact  `json:"artifacts"`
	Promotions []Promotion `json:"promotions" doc:"refused ones too"`
}

// Promotion is a promotion that was asked for, with the evidence.
type Promotion struct {
	ID        string              `json:"id"`
	From      string              `json:"from" doc:"STORE/NAME@VERSION"`
	To        string              `json:"to" doc:"store"`
	Accepted  bool                `json:"accepted"`
	Cause     string              `json:"cause"`
	By        string              `json:"by"`
	Note      string              `json:"note"`
	Mark      string              `json:"mark"`
	Revision  int                 `json:"revision" doc:"of the rules that it was judged by"`
	Verdicts  []promotion.Verdict `json:"verdicts"`
	CreatedAt time.Time           `json:"created_at"`
}

// Agent takes assignments.
type Agent struct {
	Name      string      `json:"name"`
	Facts     facts.Facts `json:"facts"`
	Places    int         `json:"places"`
	Does      []string    `json:"does" doc:"PIPELINE/NUMBER STAGE of what it runs"`
	Here      bool        `json:"here" doc:"it has beaten lately"`
	Draining  bool        `json:"draining" doc:"it gets no new work"`
	Admits    admit.List  `json:"admits" doc:"the pipelines and refs that it is for; empty for all"`
	SeenAt    time.Time   `json:"seen_at"`
	CreatedAt time.Time   `json:"created_at"`
}

// Record is one row of the journal.
type Record struct {
	ID      int64             `json:"id"`
	At      time.Time         `json:"at"`
	Who     string            `json:"who"`
	Did     string            `json:"did"`
	Thing   string            `json:"thing"`
	Details map[string]string `json:"details"`
}

// Trace is what is known of a file or a content, by its digest.
type Trace struct {
	Digest artifact.Digest `json:"digest"`
	Places []TracePlace    `json:"places"`
	Build  *BuildDetail    `json:"build,omitempty" doc:"the build that made it"`
	Uses   []Use           `json:"uses" doc:"builds that took it in"`
}

// TracePlace is where a traced file lies.
type TracePlace struct {
	Artifact
	Path     string     `json:"path"`
	Admitted *Promotion `json:"admitted,omitempty"`
}

// Use is a build that took an artifact in.
type Use struct {
	Build   string    `json:"build"`
	Version string    `json:"version"`
	At      time.Time `json:"at"`
}

// Found is one answer to a search.
type Found struct {
	Kind string `json:"kind" enum:"build,artifact,pipeline,store,file"`
	Text string `json:"text"`
	More string `json:"more"`
	Path string `json:"path" doc:"where the console shows it"`
}

// LogLine is one line of a step's output. MS counts from the stage run's start.
type LogLine struct {
	Number int64  `json:"n"`
	Step   int    `json:"step"`
	MS     int64  `json:"ms"`
	Error  bool   `json:"err,omitempty" doc:"from standard error"`
	Text   string `json:"text"`
}

// LogFound is lines of a stage run's log that hold a text. Next is the line to go on from, 0 for none.
type LogFound struct {
	Run   int       `json:"run"`
	Fence int64     `json:"fence"`
	Lines []LogLine `json:"lines"`
	Next  int64     `json:"next"`
}

// LogPart is a piece of a stage run's log as followers get it.
type LogPart struct {
	Run   int       `json:"run"`
	Fence int64     `json:"fence"`
	Lines []LogLine `json:"lines"`
}
