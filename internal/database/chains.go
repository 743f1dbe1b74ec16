package database

import (
	"context"
	"slices"
	"time"

	"github.com/google/uuid"
	"oskeld.dev/oskeld/internal/core/facts"
	"oskeld.dev/oskeld/internal/core/fault"
	"oskeld.dev/oskeld/internal/core/turn"
)

// Demand row: equal demands are interned, so that an agent compares each kind once.
type Demand struct {
	ID     int64
	Facts  facts.Demand
	Offers facts.Offers
}

// Need of the demand.
func (d Demand) Need() facts.Need { return facts.Need{Demand: d.Facts, Offers: d.Offers} }

// WaitingDemands lists the demands of chains that wait for a place.
func (db *DB) WaitingDemands(ctx context.Context) ([]Demand, error) {
	return many[Demand](ctx, db, `select d.id, d.facts, d.offers from demand d where exists (select 1 from chain c where c.demand = d.id and c.state = 'waiting' and not c.held)`)
}

// ChainKey names a chain.
type ChainKey struct {
	Build uuid.UUID
	Index int
}

// Waiting is a chain that waits for a place.
type Waiting struct {
	Build   uuid.UUID
	Index   int
	Project uuid.UUID
	Rank    turn.Rank
	ReadyAt time.Time
	Alone   []string
}

// WaitingChains lists chains that wait with one of the demands, of each project and demand the most
// urgent and longest waiting. Those are left out that want to be alone with something that another has,
// and those of builds other than the named ones; nil names all.
func (db *DB) WaitingChains(ctx context.Context, demands []int64, builds []uuid.UUID, most int) ([]Waiting, error) {
	return many[Waiting](ctx, db, `select c.* from project p cross join unnest($1::bigint[]) as d (id) cross join lateral (
			select c.build, c.index, c.project, c.rank, c.ready_at, c.alone from chain c
			where c.project = p.id and c.demand = d.id and c.state = 'waiting' and not c.held
			and not exists (select 1 from alone a where a.name = any(c.alone))
			and ($3::uuid[] is null or c.build = any($3))
			order by c.rank, c.ready_at limit $2) c`, demands, most, builds)
}

// WaitingBuild is a build of which a chain waits.
type WaitingBuild struct {
	ID       uuid.UUID
	Pipeline string
	Branch   string
	Tag      string
}

// WaitingBuilds lists the builds of which chains wait with one of the demands.
func (db *DB) WaitingBuilds(ctx context.Context, demands []int64) ([]WaitingBuild, error) {
	return many[WaitingBuild](ctx, db, `select b.id, l.name as pipeline, b.branch, b.tag from build b join pipeline l on l.id = b.pipeline
		where b.id in (select c.build from chain c where c.demand = any($1) and c.state = 'waiting' and not c.held)`, demands)
}

// Busy counts the places that each project has now.
func (db *DB) Busy(ctx context.Context) (map[uuid.UUID]int, error) {
	rows, err := many[struct {
		Project uuid.UUID
		Count   int
	}](ctx, db, `select project, count(*) as count from chain where state = 'taken' group by project`)
	busy := make(map[uuid.UUID]int, len(rows))
	for _, r := range rows {
		busy[r.Project] = r.Count
	}
	return busy, err
}

// MayTake tells whether a project may have one more place. Where it has a limit, others that ask at the
// same time wait for the end of the transaction.
func (db *DB) MayTake(ctx context.Context, project uuid.UUID) (bool, error) {
	most, err := column[int](ctx, db, `select most_places from project where id = $1 and most_places > 0`, project)
	if err != nil || len(most) == 0 {
		return err == nil, err
	}
	if err := db.exec(ctx, `select pg_advisory_xact_lock(hashtextextended($1::text, 0))`, project.String()); err != nil {
		return false, err
	}
	has, err := column[int](ctx, db, `select count(*) from chain where project = $1 and state = 'taken'`, project)
	return err == nil && has[0] < most[0], err
}

// TakeAlone gives names to a chain that is to be alone with them; false when another has one.
func (db *DB) TakeAlone(ctx context.Context, k ChainKey, names []string) (bool, error) {
	for _, name := range slices.Sorted(slices.Values(names)) { // in one order, so that two never wait for each other
		tag, err := db.q.Exec(ctx, `insert into alone (name, build, chain) values ($1, $2, $3) on conflict do nothing`, name, k.Build, k.Index)
		if err != nil || tag.RowsAffected() == 0 {
			return false, err
		}
	}
	return true, nil
}

// Ahead is what stands before a waiting chain.
type Ahead struct {
	Index  int
	Behind string // the build that must end first, "" for none
	Alone  string // a name that another has, "" for none
	Holder string // and which build that is
	Before int    // chains with the same demand whose turn comes first; 1000 stands for that or more
}

// AheadOf tells what stands before each waiting chain of a build.
func (db *DB) AheadOf(ctx context.Context, build uuid.UUID) ([]Ahead, error) {
	return many[Ahead](ctx, db, `select c.index, case when c.held then coalesce(q.name || '/' || e.number, '') else '' end as behind, coalesce(a.name, '') as alone, coalesce(a.holder, '') as holder,
			(select count(*) from (select 1 from chain o where o.demand = c.demand and o.state = 'waiting' and not o.held
				and (o.rank, o.ready_at) < (c.rank, c.ready_at) limit 1000) o) as before
		from chain c join build b on b.id = c.build left join build e on e.id = b.behind left join pipeline q on q.id = e.pipeline
		left join lateral (select a.name, l.name || '/' || b.number as holder from alone a join build b on b.id = a.build
			join pipeline l on l.id = b.pipeline where a.name = any(c.alone) limit 1) a on true
		where c.build = $1 and c.state = 'waiting' order by c.index`, build)
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
	// Uncounted: the agent has never told anything of it, or gives it back.
	Uncounted bool
}

// RenewLeases prolongs what an agent still holds among the fences, and lists it.
func (db *DB) RenewLeases(ctx context.Context, agent uuid.UUID, fences []int64, lease time.Duration) ([]Held, error) {
	return many[Held](ctx, db, `update chain c set lease_until = greatest(lease_until, now() + $3) from build b
		where b.id = c.build and c.agent = $1 and c.fence = any($2) and c.state = 'taken'
		returning c.build, c.index, c.fence, b.stopping <> '' or c.halt <> '' as stopping, false as uncounted`, agent, fences, lease)
}

// NotHeld lists the chains that an agent was given and that are not among those which it says it holds.
func (db *DB) NotHeld(ctx context.Context, agent uuid.UUID, fences []int64) ([]Held, error) {
	return many[Held](ctx, db, `select build, index, fence, false as stopping, reported = 0 as uncounted from chain
		where agent = $1 and state = 'taken' and fence <> all($2)`, agent, notNil(fences))
}

// ExpiredChains lists chains whose lease has run out.
func (db *DB) ExpiredChains(ctx context.Context) ([]Held, error) {
	return many[Held](ctx, db, `select build, index, fence, false as stopping, false as uncounted from chain where state = 'taken' and lease_until < now() order by lease_until limit 100`)
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
