package database

import (
	"context"
	"time"

	"github.com/google/uuid"
	"oskeld.dev/oskeld/internal/core/admit"
	"oskeld.dev/oskeld/internal/core/facts"
	"oskeld.dev/oskeld/internal/core/fault"
)

// AddJoinToken keeps the digest of a token with which one agent may join.
func (db *DB) AddJoinToken(ctx context.Context, digest []byte, by string, endsAt time.Time) error {
	return db.exec(ctx, `insert into join_token (digest, made_by, ends_at) values ($1, $2, $3)`, digest, by, endsAt)
}

// UseJoinToken spends a join token; refused when it was used or has ended.
func (db *DB) UseJoinToken(ctx context.Context, digest []byte) error {
	tag, err := db.q.Exec(ctx, `update join_token set used_at = now() where digest = $1 and used_at is null and ends_at > now()`, digest)
	if err == nil && tag.RowsAffected() == 0 {
		return fault.Unknown("the join token is not known, was used, or has ended").Hint("make a new one: oskeld agent add")
	}
	return err
}

// Agent row. Here tells whether it was seen in the last minute, and has not left since.
type Agent struct {
	ID        uuid.UUID
	Name      string
	Facts     facts.Facts
	Places    int
	SeenAt    time.Time
	CreatedAt time.Time
	Here      bool
	Draining  bool
	Admits    admit.List
	Does      []string
}

// AddAgent keeps an agent under the digest of its credential; an agent of that name that was
// removed, has left, or has not been seen for a minute, gives its name up.
func (db *DB) AddAgent(ctx context.Context, a Agent, digest []byte) (uuid.UUID, error) {
	if a.Facts == nil {
		a.Facts = facts.Facts{}
	}
	var id uuid.UUID
	err := db.q.QueryRow(ctx, `insert into agent (id, name, digest, facts, places) values ($1, $2, $3, $4, $5)
		on conflict (name) do update set digest = excluded.digest, facts = excluded.facts, places = excluded.places, seen_at = now(), left_at = null, removed_at = null, draining = false
		where agent.removed_at is not null or agent.seen_at < now() - interval '1 minute' or agent.left_at >= agent.seen_at
		returning id`, a.ID, a.Name, digest, a.Facts, a.Places).Scan(&id)
	if id == uuid.Nil && (err == nil || err.Error() == "no rows in result set") {
		return id, fault.Conflict("an agent %q is there already", a.Name).Hint("give this one another name: --name")
	}
	return id, err
}

const ownAgentColumns = `a.id, a.name, a.facts, a.places, a.seen_at, a.created_at, a.seen_at > now() - interval '1 minute' and (a.left_at is null or a.left_at < a.seen_at) as here, a.draining, a.admits, `

const agentColumns = ownAgentColumns + `
	array(select l.name || '/' || b.number || ' ' || coalesce((select r.name from stage_run r where r.build = c.build and r.chain = c.index and r.state = 'running' limit 1), '')
		from chain c join build b on b.id = c.build join pipeline l on l.id = b.pipeline where c.agent = a.id and c.state = 'taken' order by 1) as does
	from agent a`

// AgentByDigest finds who holds an agent's credential, without what it does: every call asks.
func (db *DB) AgentByDigest(ctx context.Context, digest []byte) (Agent, error) {
	return one[Agent](ctx, db, func() error {
		return fault.Unknown("this agent is not known, or was removed").Hint("join again with a new join token")
	}, `select `+ownAgentColumns+`'{}'::text[] as does from agent a where a.digest = $1 and a.removed_at is null`, digest)
}

// Agents lists those that are not removed, by name.
func (db *DB) Agents(ctx context.Context) ([]Agent, error) {
	return many[Agent](ctx, db, `select `+agentColumns+` where a.removed_at is null order by a.name`)
}

// AgentSeen is an agent as a candidate for what is to be run.
type AgentSeen struct {
	Name   string
	Facts  facts.Facts
	Admits admit.List
}

// AgentsSeen lists the agents seen in the last 14 days.
func (db *DB) AgentsSeen(ctx context.Context) ([]AgentSeen, error) {
	return many[AgentSeen](ctx, db, `select name, facts, admits from agent where removed_at is null and seen_at > now() - interval '14 days' order by name`)
}

// Admits tells for which pipelines and refs an agent is there; false when it may be given nothing.
func (db *DB) Admits(ctx context.Context, agent uuid.UUID, call int64) (l admit.List, ok bool, err error) {
	err = db.q.QueryRow(ctx, `select admits, take_call = $2 and not draining from agent where id = $1`, agent, call).Scan(&l, &ok)
	return l, ok, err
}

// SetAdmits says for which pipelines and refs an agent is there.
func (db *DB) SetAdmits(ctx context.Context, name string, l admit.List) error {
	tag, err := db.q.Exec(ctx, `update agent set admits = $2 where name = $1 and removed_at is null`, name, l)
	if err == nil && tag.RowsAffected() == 0 {
		return fault.Missing("no agent %q", name)
	}
	return err
}

// BeginTake notes that an agent calls for work, with its facts and places, and gives the number of the call.
func (db *DB) BeginTake(ctx context.Context, id uuid.UUID, f facts.Facts, places int) (call int64, err error) {
	if f == nil {
		f = facts.Facts{}
	}
	err = db.q.QueryRow(ctx, `update agent set take_call = take_call + 1, seen_at = now(), facts = $2, places = $3 where id = $1 returning take_call`,
		id, f, places).Scan(&call)
	return call, err
}

// LeaveAgent notes that an agent leaves: what it asked for last gives it nothing any more.
func (db *DB) LeaveAgent(ctx context.Context, id uuid.UUID) error {
	return db.exec(ctx, `update agent set take_call = take_call + 1, seen_at = now(), left_at = now() where id = $1`, id)
}

// MayGive tells whether an agent may be given work in answer to a call: it does not drain, and the call is
// its newest. Until the end of the transaction it stays so.
func (db *DB) MayGive(ctx context.Context, id uuid.UUID, call int64) (bool, error) {
	found, err := column[int](ctx, db, `select 1 from agent where id = $1 and take_call = $2 and not draining and removed_at is null for share`, id, call)
	return len(found) > 0, err
}

// SeeAgent notes that an agent called, with its facts and places: when they have changed, and every twenty
// seconds, for each note waits for the disk.
func (db *DB) SeeAgent(ctx context.Context, id uuid.UUID, f facts.Facts, places int) error {
	if f == nil {
		f = facts.Facts{}
	}
	return db.exec(ctx, `update agent set seen_at = now(), facts = $2, places = $3
		where id = $1 and (seen_at < now() - interval '20 seconds' or facts <> $2 or places <> $3)`, id, f, places)
}

// Drain keeps new work from an agent, or gives it some again.
func (db *DB) Drain(ctx context.Context, name string, draining bool) error {
	tag, err := db.q.Exec(ctx, `update agent set draining = $2 where name = $1 and removed_at is null`, name, draining)
	if err == nil && tag.RowsAffected() == 0 {
		return fault.Missing("no agent %q", name)
	}
	return err
}

// RemoveAgent bars an agent; what it runs is handed out again when its lease ends.
func (db *DB) RemoveAgent(ctx context.Context, name string) error {
	tag, err := db.q.Exec(ctx, `update agent set removed_at = now(), digest = sha256(digest) where name = $1 and removed_at is null`, name)
	if err == nil && tag.RowsAffected() == 0 {
		return fault.Missing("no agent %q", name)
	}
	return err
}
