package database

import (
	"context"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
)

// DueSource is a source that is to be looked at, and the instant until which it is this process's to look at.
type DueSource struct {
	Source
	Until time.Time
}

// watchLease is how long a process may take to look at a source, or to carry out a clock rule, before
// another does.
const watchLease = 5 * time.Minute

// TakeDueSource takes a source that is due, so that no other process looks at it meanwhile; false for none.
func (db *DB) TakeDueSource(ctx context.Context) (DueSource, bool, error) {
	list, err := many[DueSource](ctx, db, `with due as (
			update source set due_at = now() + $1 where id = (select id from source where due_at <= now() order by due_at limit 1 for update skip locked)
			returning id, due_at)
		select `+sourceFields+`, due.due_at as until from source s join due on due.id = s.id join project p on p.id = s.project`, watchLease)
	if err != nil || len(list) == 0 {
		return DueSource{}, false, err
	}
	return list[0], true, nil
}

// EndLook says when a source is due again, unless a call has made it due meanwhile; a zero wait: not
// before the next call. Trouble is why it did not answer, "" when it did.
func (db *DB) EndLook(ctx context.Context, s DueSource, wait time.Duration, fails int, trouble string) error {
	return db.exec(ctx, `update source set due_at = case when due_at <> $2 then due_at when $3::interval > interval '0' then now() + $3 end,
		fails = $4, trouble = $5, looked_at = case when $5 = '' and url = $6 then now() else looked_at end where id = $1`, s.ID, s.Until, wait, fails, trouble, s.URL)
}

// LookNow makes a source due at once.
func (db *DB) LookNow(ctx context.Context, source uuid.UUID) error {
	return db.exec(ctx, `update source set due_at = now() where id = $1`, source)
}

// SetCallKey keeps the sealed key with which calls about a source are signed. What the source had before
// anybody looked is no news.
func (db *DB) SetCallKey(ctx context.Context, source uuid.UUID, sealed []byte) error {
	return db.exec(ctx, `update source set call_key = $2, due_at = now(),
		looked_at = case when not (poll_s = 0 and call_key is null) then looked_at end where id = $1`, source, sealed)
}

// TakeCall notes a call's signature; false when it was taken before. Those too old to be taken again
// are forgotten.
func (db *DB) TakeCall(ctx context.Context, signature []byte, memory time.Duration) (bool, error) {
	if err := db.exec(ctx, `delete from taken_call where at < now() - $1::interval`, memory); err != nil {
		return false, err
	}
	tag, err := db.q.Exec(ctx, `insert into taken_call (signature) values ($1) on conflict do nothing`, signature)
	return tag.RowsAffected() == 1, err
}

// SourceRefs are the refs that a source had when it was looked at last: commits by full names.
func (db *DB) SourceRefs(ctx context.Context, source uuid.UUID) (map[string]string, error) {
	rows, err := many[struct{ Ref, Commit string }](ctx, db, `select ref, commit from source_ref where source = $1`, source)
	refs := make(map[string]string, len(rows))
	for _, r := range rows {
		refs[r.Ref] = r.Commit
	}
	return refs, err
}

// KeepRefs notes where refs of a source stand; commit "" forgets one.
func (db *DB) KeepRefs(ctx context.Context, source uuid.UUID, refs map[string]string) error {
	batch := &pgx.Batch{}
	for ref, commit := range refs {
		if commit == "" {
			batch.Queue(`delete from source_ref where source = $1 and ref = $2`, source, ref)
			continue
		}
		batch.Queue(`insert into source_ref (source, ref, commit) values ($1, $2, $3) on conflict (source, ref) do update set commit = excluded.commit`, source, ref, commit)
	}
	return db.sendBatch(ctx, batch).Close()
}

// PipelinesOf lists the pipelines of a source by name.
func (db *DB) PipelinesOf(ctx context.Context, source uuid.UUID) ([]Pipeline, error) {
	return many[Pipeline](ctx, db, `select `+pipelineColumns+` where l.source = $1 order by l.name`, source)
}

// SetResting lets a pipeline's start rules rest, or wakes them.
func (db *DB) SetResting(ctx context.Context, pipeline uuid.UUID, resting bool) error {
	return db.exec(ctx, `update pipeline set resting = $2 where id = $1`, pipeline, resting)
}

// ClockRule is a clock rule of a pipeline's file; Due is the instant for which it fires next.
type ClockRule struct {
	Pipeline uuid.UUID
	Clock    string
	Zone     string
	Branch   string
	Due      time.Time
}

// AfterRule is an after rule of a pipeline's file.
type AfterRule struct {
	Pipeline uuid.UUID
	Upstream string
	Branch   string
}

// KeepRules makes a pipeline's clock and after rules those of its file. A clock rule that is known
// already keeps the instant for which it is due.
func (db *DB) KeepRules(ctx context.Context, pipeline uuid.UUID, clocks []ClockRule, afters []AfterRule) error {
	return db.Change(ctx, func(tx *DB) error {
		keep := make([]string, len(clocks))
		batch := &pgx.Batch{}
		for i, c := range clocks {
			keep[i] = c.Clock + "\n" + c.Zone + "\n" + c.Branch
			batch.Queue(`insert into clock_rule (pipeline, clock, zone, branch, due_at, try_at) values ($1, $2, $3, $4, $5, $5) on conflict do nothing`,
				pipeline, c.Clock, c.Zone, c.Branch, c.Due)
		}
		batch.Queue(`delete from clock_rule where pipeline = $1 and not clock || e'\n' || zone || e'\n' || branch = any($2)`, pipeline, keep)
		batch.Queue(`delete from after_rule where pipeline = $1`, pipeline)
		for _, a := range afters {
			batch.Queue(`insert into after_rule (pipeline, upstream, branch) values ($1, $2, $3) on conflict do nothing`, pipeline, a.Upstream, a.Branch)
		}
		return tx.sendBatch(ctx, batch).Close()
	})
}

// TakeDueClock takes a clock rule whose instant has come, so that no other process carries it out meanwhile;
// false for none.
func (db *DB) TakeDueClock(ctx context.Context) (ClockRule, bool, error) {
	list, err := many[ClockRule](ctx, db, `update clock_rule set try_at = now() + $1 where (pipeline, clock, zone, branch) =
			(select pipeline, clock, zone, branch from clock_rule where try_at <= now() order by try_at limit 1 for update skip locked)
		returning pipeline, clock, zone, branch, due_at as due`, watchLease)
	if err != nil || len(list) == 0 {
		return ClockRule{}, false, err
	}
	return list[0], true, nil
}

// MoveClock says for which instant a clock rule fires next, if it still stands at the one that fired.
func (db *DB) MoveClock(ctx context.Context, c ClockRule, next time.Time) error {
	return db.exec(ctx, `update clock_rule set due_at = $6, try_at = $6 where pipeline = $1 and clock = $2 and zone = $3 and branch = $4 and due_at = $5`,
		c.Pipeline, c.Clock, c.Zone, c.Branch, c.Due, next)
}

// PutOffClock lets a rule that could not be carried out be tried again later, for the same instant.
func (db *DB) PutOffClock(ctx context.Context, c ClockRule, wait time.Duration) error {
	return db.exec(ctx, `update clock_rule set try_at = now() + $6 where pipeline = $1 and clock = $2 and zone = $3 and branch = $4 and due_at = $5`,
		c.Pipeline, c.Clock, c.Zone, c.Branch, c.Due, wait)
}

// AfterRules lists who starts after a pipeline.
func (db *DB) AfterRules(ctx context.Context, upstream string) ([]AfterRule, error) {
	return many[AfterRule](ctx, db, `select pipeline, upstream, branch from after_rule where upstream = $1 order by pipeline`, upstream)
}

// PipelineByID finds a pipeline by its key.
func (db *DB) PipelineByID(ctx context.Context, id uuid.UUID) (Pipeline, error) {
	return one[Pipeline](ctx, db, missing("no pipeline %s", id), `select `+pipelineColumns+` where l.id = $1`, id)
}

// Occurrence is something that could start a build: a ref that moved, an instant of a clock rule, a
// passed build of another pipeline. Key tells it from all others of its kind. Outcome is "started",
// "nothing" or "refused", with the cause in words.
type Occurrence struct {
	Pipeline uuid.UUID
	Kind     string
	Key      string
	Says     string
	Outcome  string
	Cause    string
	Build    *uuid.UUID
	Number   int
	At       time.Time
}

// AddOccurrence notes an occurrence; false when it was noted before.
func (db *DB) AddOccurrence(ctx context.Context, o Occurrence) (bool, error) {
	tag, err := db.q.Exec(ctx, `insert into occurrence (pipeline, kind, key, says, outcome, cause, build) values ($1, $2, $3, $4, $5, $6, $7) on conflict do nothing`,
		o.Pipeline, o.Kind, o.Key, o.Says, o.Outcome, o.Cause, o.Build)
	return tag.RowsAffected() == 1, err
}

// HasOccurrence tells whether an occurrence was noted.
func (db *DB) HasOccurrence(ctx context.Context, o Occurrence) (bool, error) {
	list, err := column[int](ctx, db, `select 1 from occurrence where pipeline = $1 and kind = $2 and key = $3`, o.Pipeline, o.Kind, o.Key)
	return len(list) > 0, err
}

// Occurrences lists the newest occurrences of a pipeline.
func (db *DB) Occurrences(ctx context.Context, pipeline uuid.UUID, most int) ([]Occurrence, error) {
	return many[Occurrence](ctx, db, `select o.pipeline, o.kind, o.key, o.says, o.outcome, o.cause, o.build, coalesce(b.number, 0) as number, o.at
		from occurrence o left join build b on b.id = o.build where o.pipeline = $1 order by o.at desc limit $2`, pipeline, most)
}
