package database

import (
	"context"
	"time"

	"github.com/google/uuid"
	"oskeld.dev/oskeld/internal/core/facts"
	"oskeld.dev/oskeld/internal/core/fault"
)

// Demand row: equal demands are interned, so that an agent compares each kind once.
type Demand struct {
	ID    int64
	Facts facts.Demand
}

// WaitingDemands lists the demands of chains that wait.
func (db *DB) WaitingDemands(ctx context.Context) ([]Demand, error) {
	return many[Demand](ctx, db, `select d.id, d.facts from demand d where exists (select 1 from chain c where c.demand = d.id and c.state = 'waiting')`)
}

// ChainKey names a chain.
type ChainKey struct {
	Build uuid.UUID
	Index int
}

// WaitingChains lists chains that wait with one of the demands, the longest waiting first.
func (db *DB) WaitingChains(ctx context.Context, demands []int64, most int) ([]ChainKey, error) {
	return many[ChainKey](ctx, db, `select build, index from chain where state = 'waiting' and demand = any($1) order by ready_at limit $2`, demands, most)
}

// NextFence gives a number higher than any given before.
func (db *DB) NextFence(ctx context.Context) (n int64, err error) {
	err = db.q.QueryRow(ctx, `select nextval('fence')`).Scan(&n)
	return n, err
}

// HoldChain gives a taken chain to an agent, for the length of a lease.
func (db *DB) HoldChain(ctx context.Context, k ChainKey, agent uuid.UUID, token []byte, lease time.Duration) error {
	return db.exec(ctx, `update chain set agent = $3, token = $4, taken_at = now(), lease_until = now() + $5, reported = 0 where build = $1 and index = $2`,
		k.Build, k.Index, agent, token, lease)
}

// Held is a chain that an agent holds.
type Held struct {
	Build    uuid.UUID
	Index    int
	Fence    int64
	Stopping bool
}

// RenewLeases prolongs what an agent still holds among the fences, and lists it.
func (db *DB) RenewLeases(ctx context.Context, agent uuid.UUID, fences []int64, lease time.Duration) ([]Held, error) {
	return many[Held](ctx, db, `update chain c set lease_until = greatest(lease_until, now() + $3) from build b
		where b.id = c.build and c.agent = $1 and c.fence = any($2) and c.state = 'taken'
		returning c.build, c.index, c.fence, b.stopping <> '' as stopping`, agent, fences, lease)
}

// ExpiredChains lists chains whose lease has run out.
func (db *DB) ExpiredChains(ctx context.Context) ([]Held, error) {
	return many[Held](ctx, db, `select build, index, fence, false as stopping from chain where state = 'taken' and lease_until < now() order by lease_until limit 100`)
}

// ExtendLeases gives every held chain a whole lease again: the service was away, and the agents
// could not beat.
func (db *DB) ExtendLeases(ctx context.Context, lease time.Duration) error {
	return db.exec(ctx, `update chain set lease_until = greatest(lease_until, now() + $1) where state = 'taken'`, lease)
}

// Reported moves a chain's report counter from one number to another; false when it stands
// elsewhere, or the fence is old.
func (db *DB) Reported(ctx context.Context, k ChainKey, fence, to int64) (bool, error) {
	tag, err := db.q.Exec(ctx, `update chain set reported = $4 where build = $1 and index = $2 and fence = $3 and state = 'taken' and reported = $4 - 1`,
		k.Build, k.Index, fence, to)
	return tag.RowsAffected() == 1, err
}

// ReportCounter gives the number of the last report of a chain under a fence, whatever its state, to
// the agent that holds it, or to any once nobody does: only then may a report come a second time;
// kind conflict when the fence is old.
func (db *DB) ReportCounter(ctx context.Context, k ChainKey, fence int64, agent uuid.UUID) (int64, error) {
	n, err := column[int64](ctx, db, `select reported from chain where build = $1 and index = $2 and fence = $3
		and (agent = $4 or agent is null)`, k.Build, k.Index, fence, agent)
	if err != nil {
		return 0, err
	}
	if len(n) == 0 {
		return 0, fault.Conflict("the assignment is not this agent's under that fence: it was handed out again").Hint("end its processes and drop it")
	}
	return n[0], nil
}

// ChainHolder is who a stage run's token stands for.
type ChainHolder struct {
	Build    uuid.UUID
	Index    int
	Pipeline string
	Number   int
	Project  uuid.UUID
	Fence    int64
}

// ChainByToken finds the chain of a stage run's token, while it is taken.
func (db *DB) ChainByToken(ctx context.Context, digest []byte) (ChainHolder, error) {
	return one[ChainHolder](ctx, db, func() error { return fault.Unknown("the token of this stage run has ended") },
		`select c.build, c.index, l.name as pipeline, b.number, l.project, c.fence
		from chain c join build b on b.id = c.build join pipeline l on l.id = b.pipeline where c.token = $1 and c.state = 'taken'`, digest)
}

// Segment is a piece of a stage run's log: Lines lines from number First on, compressed. At is
// its place among all segments of the build.
type Segment struct {
	Run   int
	Fence int64
	Seq   int64
	At    int64
	First int64
	Lines int
	Body  []byte
}

// AddSegment keeps a segment; one that is there already is left as it is, and gives false. Its
// place in the build is taken under a lock on the build, so readers that follow by place miss none.
func (db *DB) AddSegment(ctx context.Context, build uuid.UUID, s Segment) (added bool, err error) {
	err = db.Change(ctx, func(tx *DB) error {
		there, err := column[int64](ctx, tx, `select seq from log_segment where build = $1 and run = $2 and fence = $3 and seq = $4`, build, s.Run, s.Fence, s.Seq)
		if err != nil || len(there) > 0 {
			return err
		}
		var at int64
		if err := tx.q.QueryRow(ctx, `update build set log_at = log_at + 1 where id = $1 returning log_at`, build).Scan(&at); err != nil {
			return err
		}
		tag, err := tx.q.Exec(ctx, `insert into log_segment (build, run, fence, seq, at, first, lines, body) values ($1, $2, $3, $4, $5, $6, $7, $8)
			on conflict (build, run, fence, seq) do nothing`, build, s.Run, s.Fence, s.Seq, at, s.First, s.Lines, s.Body)
		added = tag.RowsAffected() == 1
		return err
	})
	return added, err
}

// SegmentsAfter lists a build's segments after a place, in order, at most most.
func (db *DB) SegmentsAfter(ctx context.Context, build uuid.UUID, at int64, most int) ([]Segment, error) {
	return many[Segment](ctx, db, `select run, fence, seq, at, first, lines, body from log_segment where build = $1 and at > $2 order by at limit $3`, build, at, most)
}

// SegmentsOf lists the segments of one stage run under a fence that hold lines from first to
// last, at most most.
func (db *DB) SegmentsOf(ctx context.Context, build uuid.UUID, run int, fence, first, last int64, most int) ([]Segment, error) {
	return many[Segment](ctx, db, `select run, fence, seq, at, first, lines, body from log_segment
		where build = $1 and run = $2 and fence = $3 and first + lines > $4 and first <= $5 order by seq limit $6`, build, run, fence, first, last, most)
}
