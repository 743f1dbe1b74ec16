package database

import (
	"context"
	"maps"
	"slices"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"oskeld.dev/oskeld/internal/core/artifact"
	"oskeld.dev/oskeld/internal/core/assignment"
	"oskeld.dev/oskeld/internal/core/condition"
	"oskeld.dev/oskeld/internal/core/facts"
	"oskeld.dev/oskeld/internal/core/plan"
	"oskeld.dev/oskeld/internal/core/progress"
	"oskeld.dev/oskeld/internal/core/turn"
	"oskeld.dev/oskeld/internal/core/view"
)

// Build row with what it belongs to.
type Build struct {
	ID           uuid.UUID
	Pipeline     uuid.UUID
	PipelineName string
	Project      uuid.UUID
	ProjectName  string
	Number       int
	State        progress.State
	Cause        string
	Stopping     string
	Ref          string
	Commit       string
	Branch       string
	Tag          string
	Version      string
	Derivation   string
	StartedBy    string
	Trusted      bool
	Plan         plan.Plan
	MostPlaces   int // of its project
	Changes      Changes
	Why          view.Why
	Behind       *uuid.UUID // the build that must end first
	Round        int
	CreatedAt    time.Time
	StartedAt    *time.Time
	EndedAt      *time.Time
	Times        view.Times
}

// Changes are the commits in a build, and the number of the passed build that they count from.
type Changes struct {
	Since   int           `json:"since"`
	Subject string        `json:"subject"`
	List    []view.Change `json:"list"`
	Paths   []string      `json:"paths"`
	Notes   string        `json:"notes"` // the commits since the version before, for stamps
}

// NextNumber takes a pipeline's next number; the pipeline's row is locked until the end of the
// transaction, so a rolled back start leaves no gap.
func (db *DB) NextNumber(ctx context.Context, pipeline uuid.UUID) (n int, err error) {
	err = db.q.QueryRow(ctx, `update pipeline set last = last + 1 where id = $1 returning last`, pipeline).Scan(&n)
	return n, err
}

// AddBuild writes a new build with its plan, stage runs and chains in their first state.
func (db *DB) AddBuild(ctx context.Context, b Build, p progress.Build) error {
	err := db.exec(ctx, `insert into build (id, pipeline, number, state, cause, ref, commit, branch, tag, version, derivation, started_by, trusted, plan, changes, why, behind, ended_at)
		values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13, $14, $15, $16, $17, case when $18 then now() end)`,
		b.ID, b.Pipeline, b.Number, p.State, p.Cause, b.Ref, b.Commit, b.Branch, b.Tag, b.Version, b.Derivation, b.StartedBy, b.Trusted, b.Plan, b.Changes, b.Why, b.Behind, p.State.Over())
	if err != nil {
		return err
	}
	_, err = db.q.CopyFrom(ctx, pgx.Identifier{"stage_run"}, []string{"build", "index", "name", "variant", "purpose", "chain", "state", "cause", "satisfied"},
		pgx.CopyFromSlice(len(p.Runs), func(i int) ([]any, error) {
			r := p.Runs[i]
			of := b.Plan.Runs[i]
			return []any{b.ID, i, string(of.Stage.Name), of.Variant.String(), string(of.Stage.Purpose), r.Chain, string(r.State), r.Cause, r.Satisfied}, nil
		}))
	if err != nil {
		return err
	}
	batch := &pgx.Batch{}
	demands := map[string]facts.Need{}
	for _, c := range b.Plan.Chains {
		need := c.Need()
		demands[need.String()] = need
	}
	for _, text := range slices.Sorted(maps.Keys(demands)) { // in one order, so that two builds never wait for each other
		batch.Queue(`insert into demand (text, facts, offers) values ($1, $2, $3) on conflict do nothing`, text, demands[text].Demand, demands[text].Offers)
	}
	for i, c := range p.Chains {
		batch.Queue(`insert into chain (build, index, state, demand, ready_at, project, rank, alone, held, title)
			select $1, $2, $3, d.id, case when $3 = 'waiting' then now() end, $5, $6, $7, $8, $9 from demand d where d.text = $4`,
			b.ID, i, c.State, b.Plan.Chains[i].Need().String(), b.Project, rankOf(b.Why.Kind), b.Plan.Alone(i), b.Behind != nil, b.Plan.ChainNames(b.Plan.Chains[i]))
	}
	if err := db.sendBatch(ctx, batch).Close(); err != nil {
		return err
	}
	return db.exec(ctx, `update stage_run set ready_at = now() where build = $1 and state = 'waiting' and index = any($2)`, b.ID, p.Ready())
}

// rankOf is how urgent a build is by what began it.
func rankOf(kind view.StartKind) turn.Rank {
	switch kind {
	case view.ByClock:
		return turn.Clock
	case view.ByPush, view.ByTag, view.ByAfter:
		return turn.Call
	}
	return turn.Person
}

// OpenBuilds locks and lists the builds of a pipeline's branch, or tag, that have not ended, by number.
func (db *DB) OpenBuilds(ctx context.Context, pipeline uuid.UUID, branch, tag string) ([]uuid.UUID, error) {
	return column[uuid.UUID](ctx, db, `select id from build where pipeline = $1 and branch = $2 and tag = $3 and ended_at is null order by number for update`, pipeline, branch, tag)
}

// LetGo lets those go on that wait for a build which has ended: they wait for the one that it waited for
// itself. Where it waited for none they may begin, and are listed.
func (db *DB) LetGo(ctx context.Context, b Build) ([]uuid.UUID, error) {
	behind, err := column[uuid.UUID](ctx, db, `update build set behind = $2 where behind = $1 returning id`, b.ID, b.Behind)
	if err != nil || b.Behind != nil || len(behind) == 0 {
		return nil, err
	}
	return behind, db.exec(ctx, `update chain set held = false, ready_at = now() where build = any($1)`, behind)
}

// ownColumns are all of a build but its plan.
const ownColumns = `b.id, b.pipeline, l.name as pipeline_name, l.project, p.name as project_name, b.number, b.state, b.cause, b.stopping, b.ref, b.commit, b.branch, b.tag,
	b.version, b.derivation, b.started_by, b.trusted, b.changes, b.why, b.behind, b.round, b.created_at, b.started_at, b.ended_at, p.most_places`

// withTimes are the columns besides, whose cost grows with the build: the sum of its runs' times.
const withTimes = ownColumns + `,
	(select jsonb_build_object('waiting_ms', coalesce(sum(waiting_ms), 0), 'preparing_ms', coalesce(sum(preparing_ms), 0),
		'working_ms', coalesce(sum(working_ms), 0), 'delivering_ms', coalesce(sum(delivering_ms), 0)) from stage_run r where r.build = b.id) as times`

const fromBuild = ` from build b join pipeline l on l.id = b.pipeline join project p on p.id = l.project`

const buildColumns = withTimes + `, b.plan` + fromBuild

// Build finds a build by its pipeline's name and number.
func (db *DB) Build(ctx context.Context, pipeline string, number int) (Build, error) {
	return one[Build](ctx, db, missing("no build %s/%d", pipeline, number), `select `+buildColumns+` where l.name = $1 and b.number = $2`, pipeline, number)
}

// BuildByID finds a build by its key.
func (db *DB) BuildByID(ctx context.Context, id uuid.UUID) (Build, error) {
	b, err := one[Build](ctx, db, missing("no build %s", id), `select `+withTimes+`, '{}'::jsonb as plan`+fromBuild+` where b.id = $1`, id)
	if err != nil {
		return b, err
	}
	b.Plan, err = db.Plan(ctx, id)
	return b, err
}

// Builds lists a pipeline's builds below a number, newest first.
func (db *DB) Builds(ctx context.Context, pipeline uuid.UUID, below, most int) ([]Build, error) {
	return many[Build](ctx, db, `select `+buildColumns+` where b.pipeline = $1 and b.number < $2 order by b.number desc limit $3`, pipeline, below, most)
}

// RecentBuilds lists the newest builds of projects: those that have not ended first.
func (db *DB) RecentBuilds(ctx context.Context, projects []uuid.UUID, most int) ([]Build, error) {
	return many[Build](ctx, db, `select `+buildColumns+` where b.id in (
			(select id from build where ended_at is null order by created_at desc limit $2) union
			(select id from build order by created_at desc limit $2))
		and l.project = any($1) order by (b.ended_at is null) desc, b.created_at desc limit $2`, projects, most)
}

// LastPassed is the newest passed build of a branch below a number; 0 and "" for none.
func (db *DB) LastPassed(ctx context.Context, pipeline uuid.UUID, branch string, below int) (number int, commit string, err error) {
	err = db.q.QueryRow(ctx, `select number, commit from build where pipeline = $1 and branch = $2 and state = 'passed' and number < $3
		order by number desc limit 1`, pipeline, branch, below).Scan(&number, &commit)
	if err == pgx.ErrNoRows {
		return 0, "", nil
	}
	return number, commit, err
}

func (db *DB) sendBatch(ctx context.Context, b *pgx.Batch) pgx.BatchResults {
	if tx, ok := db.q.(pgx.Tx); ok {
		return tx.SendBatch(ctx, b)
	}
	return db.pool.SendBatch(ctx, b)
}

// Run row.
type Run struct {
	Index        int
	Name         string
	Variant      string
	Purpose      string
	Chain        int
	State        progress.State
	Cause        string
	Agent        string
	Fence        int64
	ReadyAt      *time.Time
	StartedAt    *time.Time
	EndedAt      *time.Time
	WaitingMS    int64
	PreparingMS  int64
	WorkingMS    int64
	DeliveringMS int64
	Steps        []view.Step
	Notes        []string
	Lost         []view.LostRun
	Tools        []view.Tool
	Carried      []artifact.File
	Exports      []condition.Export
	Lines        int64
}

// Runs lists the stage runs of a build, with the length of their logs.
func (db *DB) Runs(ctx context.Context, build uuid.UUID) ([]Run, error) {
	return many[Run](ctx, db, `select r.index, r.name, r.variant, r.purpose, r.chain, r.state, r.cause, r.agent, r.fence, r.ready_at, r.started_at, r.ended_at,
		r.waiting_ms, r.preparing_ms, r.working_ms, r.delivering_ms, r.steps, r.notes, r.lost, r.tools, r.carried, r.exports,
		coalesce((select g.first + g.lines - 1 from log_segment g where g.build = r.build and g.run = r.index and g.fence = r.fence order by g.seq desc limit 1),
			(select o.lines from log_blob o where o.build = r.build and o.run = r.index and o.fence = r.fence), 0) as lines
		from stage_run r where r.build = $1 order by r.index`, build)
}

// Results gives by their indices what some stage runs of a build have given so far: states, carried files and
// exports alone.
func (db *DB) Results(ctx context.Context, build uuid.UUID, runs []int) (map[int]RunResult, error) {
	list, err := many[RunResult](ctx, db, `select index, name, state, carried, exports from stage_run where build = $1 and index = any($2)`, build, runs)
	results := make(map[int]RunResult, len(list))
	for _, r := range list {
		results[r.Index] = r
	}
	return results, err
}

// RunResult is what a stage run has given to those that come after it.
type RunResult struct {
	Index   int
	Name    string
	State   progress.State
	Carried []artifact.File
	Exports []condition.Export
}

// SetSteps notes how far the steps of a running stage run are.
func (db *DB) SetSteps(ctx context.Context, build uuid.UUID, run int, steps []view.Step, preparingMS int64) error {
	return db.exec(ctx, `update stage_run set steps = $3, preparing_ms = $4 where build = $1 and index = $2`, build, run, steps, preparingMS)
}

// AddLost notes that an agent was lost in the middle of a stage run, before its state is saved.
func (db *DB) AddLost(ctx context.Context, build uuid.UUID, run int, agent string) error {
	return db.exec(ctx, `update stage_run set lost = lost || jsonb_build_object('agent', $3::text, 'fence', case when started_at is null then 0 else fence end, 'started_at', started_at, 'lost_at', now())
		where build = $1 and index = $2`, build, run, agent)
}

// EndRun notes what a stage run that ended has told: times, steps, notes, tools, carried files and exports.
func (db *DB) EndRun(ctx context.Context, build uuid.UUID, run int, e assignment.Event) error {
	return db.exec(ctx, `update stage_run set preparing_ms = $3, working_ms = $4, delivering_ms = $5, steps = $6, notes = $7, carried = $8, exports = $9, tools = $10
		where build = $1 and index = $2`, build, run, e.PreparingMS, e.WorkingMS, e.DeliveringMS, notNil(e.Steps), notNil(e.Notes), e.Carried, e.Exports, notNil(e.Tools))
}

func notNil[T any](list []T) []T {
	if list == nil {
		return []T{}
	}
	return list
}

// AddTests keeps the sum of a stage run's tests, and the failed ones whole.
func (db *DB) AddTests(ctx context.Context, build uuid.UUID, run int, sum view.TestSum, failed []view.FailedTest) error {
	if err := db.exec(ctx, `insert into tests (build, run, total, passed, failed, skipped) values ($1, $2, $3, $4, $5, $6)
		on conflict (build, run) do nothing`, build, run, sum.Total, sum.Passed, sum.Failed, sum.Skipped); err != nil {
		return err
	}
	_, err := db.q.CopyFrom(ctx, pgx.Identifier{"test_failed"}, []string{"build", "run", "place", "suite", "name", "seconds", "message"},
		pgx.CopyFromSlice(len(failed), func(i int) ([]any, error) {
			t := failed[i]
			return []any{build, run, i, t.Suite, t.Name, t.Seconds, t.Message}, nil
		}))
	return err
}

// TestRow is the sum of one stage run's tests.
type TestRow struct {
	Run     int
	Total   int
	Passed  int
	Failed  int
	Skipped int
}

// Tests lists what the stage runs of a build read.
func (db *DB) Tests(ctx context.Context, build uuid.UUID) ([]TestRow, error) {
	return many[TestRow](ctx, db, `select run, total, passed, failed, skipped from tests where build = $1 order by run`, build)
}

// FailedTests lists a build's failed tests, with whether each failed in another build too.
func (db *DB) FailedTests(ctx context.Context, build uuid.UUID, pipeline uuid.UUID, branch string, number int) ([]view.FailedTest, error) {
	return many[view.FailedTest](ctx, db, `select trim(r.name || ' ' || r.variant) as stage, t.suite, t.name, t.seconds, t.message,
		case when exists (select 1 from test_failed o where o.suite = t.suite and o.name = t.name and o.build =
			(select id from build where pipeline = $2 and branch = $3 and number < $4 and ended_at is not null order by number desc limit 1))
		then 'still' else 'new' end as since
		from test_failed t join stage_run r on r.build = t.build and r.index = t.run where t.build = $1 order by t.run, t.place`, build, pipeline, branch, number)
}
