package database

import (
	"context"
	"time"

	"github.com/google/uuid"
)

// EarlierRun is what became of a stage run in an earlier round of its build. Failed names the tests that failed.
type EarlierRun struct {
	Run       int
	Round     int
	State     string
	Cause     string
	Agent     string
	Fence     int64
	StartedAt *time.Time
	EndedAt   *time.Time
	Failed    []string
}

// BeginRound keeps what became of runs, and empties them for the next round of the build.
func (db *DB) BeginRound(ctx context.Context, build uuid.UUID, runs []int) error {
	for _, sql := range []string{
		`insert into earlier_run (build, round, run, state, cause, agent, fence, started_at, ended_at, failed)
			select r.build, b.round, r.index, r.state, r.cause, r.agent, r.fence, r.started_at, r.ended_at,
				coalesce((select jsonb_agg(t.suite || ' ' || t.name order by t.place) from test_failed t where t.build = r.build and t.run = r.index and t.place < 50), '[]')
			from stage_run r join build b on b.id = r.build where r.build = $1 and r.index = any($2)`,
		`delete from test_failed where build = $1 and run = any($2)`,
		`delete from tests where build = $1 and run = any($2)`,
		`update stage_run set agent = '', fence = 0, ready_at = null, waiting_ms = 0, preparing_ms = 0, working_ms = 0, delivering_ms = 0,
			steps = '[]', notes = '[]', lost = '[]', tools = '[]', carried = null, exports = null where build = $1 and index = any($2)`,
	} {
		if err := db.exec(ctx, sql, build, runs); err != nil {
			return err
		}
	}
	// A build that had ended when chains learnt of their project has none yet.
	if err := db.exec(ctx, `update chain c set project = l.project from build b join pipeline l on l.id = b.pipeline
		where c.build = $1 and b.id = c.build and c.project is null`, build); err != nil {
		return err
	}
	return db.exec(ctx, `update build set round = round + 1 where id = $1`, build)
}

// EarlierRuns lists what became of a build's stage runs in its earlier rounds.
func (db *DB) EarlierRuns(ctx context.Context, build uuid.UUID) ([]EarlierRun, error) {
	return many[EarlierRun](ctx, db, `select run, round, state, cause, agent, fence, started_at, ended_at, failed from earlier_run where build = $1 order by run, round`, build)
}

// PutBehind lets a build wait for another one to end.
func (db *DB) PutBehind(ctx context.Context, build, other uuid.UUID) error {
	if err := db.exec(ctx, `update build set behind = $2 where id = $1`, build, other); err != nil {
		return err
	}
	return db.exec(ctx, `update chain set held = true where build = $1`, build)
}

// Refill lets a dropped admission be filled again; holds says whether it reserves its version.
func (db *DB) Refill(ctx context.Context, id uuid.UUID, holds bool) error {
	return db.exec(ctx, `update admission set state = 'filling', holds = $2, ended_at = null where id = $1 and state = 'dropped'`, id, holds)
}
