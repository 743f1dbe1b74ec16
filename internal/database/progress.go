package database

import (
	"context"
	"errors"
	"slices"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"oskeld.dev/oskeld/internal/core/plan"
	"oskeld.dev/oskeld/internal/core/progress"
)

// saved is a state of a build, and the transaction that saved it.
type saved struct {
	moved int64
	state progress.Build
}

// LockBuild locks a build until the end of the transaction and reads it, without the sum of its times, and its
// state. With skip, one that somebody else has locked gives false; so does one that is not there. What this
// process saved last, or read, is not read again: an event in a large build costs no more than in a small one.
func (db *DB) LockBuild(ctx context.Context, id uuid.UUID, skip bool) (b Build, p progress.Build, ok bool, err error) {
	sql := `select ` + ownColumns + `, '{}'::jsonb as times, '{}'::jsonb as plan, b.moved` + fromBuild + ` where b.id = $1 for update of b`
	if skip {
		sql += ` skip locked`
	}
	row, err := one[struct {
		Build
		Moved int64
	}](ctx, db, nil, sql, id)
	if errors.Is(err, pgx.ErrNoRows) {
		return b, p, false, nil
	}
	if err != nil {
		return b, p, false, err
	}
	b = row.Build
	if b.Plan, err = db.Plan(ctx, id); err != nil {
		return b, p, false, err
	}
	if known, found := db.kept.states.Get(id); found && known.moved == row.Moved {
		return b, known.state, true, nil
	}
	if p, err = db.progress(ctx, b); err == nil {
		db.moved[id] = saved{row.Moved, p}
	}
	return b, p, err == nil, err
}

// progress reads the state of a build for core/progress.
func (db *DB) progress(ctx context.Context, b Build) (progress.Build, error) {
	p := progress.Build{State: b.State, Cause: b.Cause, Stopping: b.Stopping}
	runs, err := many[struct {
		State     progress.State
		Cause     string
		Satisfied bool
	}](ctx, db, `select state, cause, satisfied from stage_run where build = $1 order by index`, b.ID)
	if err != nil {
		return p, err
	}
	for i, r := range runs {
		run := progress.Of(b.Plan.Runs[i])
		run.State, run.Cause, run.Satisfied = r.State, r.Cause, r.Satisfied
		p.Runs = append(p.Runs, run)
	}
	chains, err := many[struct {
		State progress.ChainState
		Agent string
		Fence int64
		Lost  int
		Halt  string
	}](ctx, db, `select c.state, coalesce(a.name, '') as agent, c.fence, c.lost, c.halt from chain c left join agent a on a.id = c.agent where c.build = $1 order by c.index`, b.ID)
	for i, c := range chains {
		p.Chains = append(p.Chains, progress.Chain{State: c.State, Agent: c.Agent, Fence: c.Fence, Lost: c.Lost, Halt: c.Halt, Runs: b.Plan.Chains[i].Runs})
	}
	return p, err
}

// SaveProgress writes what changed between two states of a build, of which the transaction holds the lock.
func (db *DB) SaveProgress(ctx context.Context, id uuid.UUID, before, after progress.Build) error {
	var moved int64
	if err := db.q.QueryRow(ctx, `update build set state = $2, cause = $3, stopping = $4,
		started_at = coalesce(started_at, case when $2 = 'running' then now() end), ended_at = case when $5 then now() end where id = $1 returning moved`,
		id, after.State, after.Cause, after.Stopping, after.State.Over()).Scan(&moved); err != nil {
		return err
	}
	batch := &pgx.Batch{}
	for i, r := range after.Runs {
		if r.State != before.Runs[i].State || r.Cause != before.Runs[i].Cause || r.Satisfied != before.Runs[i].Satisfied {
			batch.Queue(`update stage_run set state = $3, cause = $4, satisfied = $5,
				started_at = case $3 when 'running' then now() when 'waiting' then null else started_at end,
				waiting_ms = case $3 when 'running' then (extract(epoch from now() - coalesce(ready_at, now())) * 1000)::bigint else waiting_ms end,
				ended_at = case when $6 then now() end,
				agent = case $3 when 'running' then $7 else agent end,
				fence = case $3 when 'running' then $8 else fence end where build = $1 and index = $2`,
				id, i, r.State, r.Cause, r.Satisfied, r.State.Over(), after.Chains[r.Chain].Agent, after.Chains[r.Chain].Fence)
		}
	}
	for i, c := range after.Chains {
		if was := before.Chains[i]; c.State != was.State || c.Fence != was.Fence || c.Lost != was.Lost || c.Halt != was.Halt {
			batch.Queue(`update chain set state = $3, fence = $4, lost = $5, halt = $6, agent = case when $3 = 'taken' then agent end,
				token = case when $3 = 'taken' then token end, lease_until = case when $3 = 'taken' then lease_until end,
				ready_at = case when $3 = 'waiting' then now() else ready_at end where build = $1 and index = $2`,
				id, i, c.State, c.Fence, c.Lost, c.Halt)
			if c.State != was.State && (was.State == progress.ChainTaken || c.State == progress.ChainOver) {
				batch.Queue(`delete from alone where build = $1 and chain = $2`, id, i)
			}
		}
	}
	was := before.Ready()
	if ready := slices.DeleteFunc(after.Ready(), func(i int) bool { _, found := slices.BinarySearch(was, i); return found }); len(ready) > 0 {
		batch.Queue(`update stage_run set ready_at = now() where build = $1 and index = any($2)`, id, ready)
	}
	if err := db.sendBatch(ctx, batch).Close(); err != nil {
		return err
	}
	db.moved[id] = saved{moved, after}
	return nil
}

// Plan reads a build's plan, once a process.
func (db *DB) Plan(ctx context.Context, id uuid.UUID) (plan.Plan, error) {
	if p, ok := db.kept.plans.Get(id); ok {
		return p, nil
	}
	list, err := column[plan.Plan](ctx, db, `select plan from build where id = $1`, id)
	if err != nil || len(list) == 0 {
		return plan.Plan{}, err
	}
	db.kept.plans.Add(id, list[0])
	return list[0], nil
}
