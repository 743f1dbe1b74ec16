package database

import (
	"context"

	"github.com/google/uuid"
	"oskeld.dev/oskeld/internal/core/artifact"
	"oskeld.dev/oskeld/internal/core/basis"
)

// SetBasis keeps what a chain depends on, and a note for people on what became of its reuse.
func (db *DB) SetBasis(ctx context.Context, k ChainKey, b basis.Basis, note string) error {
	return db.exec(ctx, `update chain set basis = $3, basis_key = $4, reuse_note = $5 where build = $1 and index = $2`, k.Build, k.Index, b, b.Key(), note)
}

// PassedChain is a chain of an earlier build of which all passed.
type PassedChain struct {
	Build  uuid.UUID
	Index  int
	Name   string // PIPELINE/NUMBER
	Commit string
	Basis  basis.Basis
	Runs   []int
}

const passedChain = `c.build, c.index, l.name || '/' || b.number as name, b.commit, c.basis,
	array(select r.index from stage_run r where r.build = c.build and r.chain = c.index order by r.index) as runs
	from chain c join build b on b.id = c.build join pipeline l on l.id = b.pipeline`

const wholePassed = `b.trusted and c.state = 'over' and not exists
	(select 1 from stage_run r where r.build = c.build and r.chain = c.index and not (r.state = 'passed' or r.state = 'skipped' and r.satisfied))`

// ReusableChains lists the newest chains of a pipeline, built of trusted refs, that passed with the same basis.
func (db *DB) ReusableChains(ctx context.Context, pipeline uuid.UUID, key artifact.Digest) ([]PassedChain, error) {
	return many[PassedChain](ctx, db, `select `+passedChain+` where c.basis_key = $2 and b.pipeline = $1 and `+wholePassed+` order by b.number desc limit 5`, pipeline, key)
}

// LastBasis finds the newest passed chain of a pipeline with the same stages; false for none. It looks at
// the last hundred builds.
func (db *DB) LastBasis(ctx context.Context, pipeline uuid.UUID, title string) (PassedChain, bool, error) {
	list, err := many[PassedChain](ctx, db, `select `+passedChain+` where b.pipeline = $1 and b.number > (select last - 100 from pipeline where id = $1)
		and c.title = $2 and c.basis is not null and `+wholePassed+` order by b.number desc limit 1`, pipeline, title)
	if err != nil || len(list) == 0 {
		return PassedChain{}, false, err
	}
	return list[0], true, nil
}

// TakeOverRun gives a stage run what another one carried, exported, read and took in. Its own times stay nought.
func (db *DB) TakeOverRun(ctx context.Context, build uuid.UUID, run int, from uuid.UUID, fromRun int) error {
	for _, sql := range []string{
		`update stage_run r set steps = o.steps, notes = o.notes, tools = o.tools, carried = o.carried, exports = o.exports, agent = ''
			from stage_run o where r.build = $1 and r.index = $2 and o.build = $3 and o.index = $4`,
		`insert into tests (build, run, total, passed, failed, skipped) select $1, $2, total, passed, failed, skipped from tests where build = $3 and run = $4
			on conflict (build, run) do nothing`,
		`insert into input (build, run, admission, path, digest) select $1, $2, admission, path, digest from input where build = $3 and run = $4 on conflict do nothing`,
	} {
		if err := db.exec(ctx, sql, build, run, from, fromRun); err != nil {
			return err
		}
	}
	return nil
}

// DeliveredFile is a file that a stage run delivered.
type DeliveredFile struct {
	Store      string
	Name       string
	Path       string
	Size       int64
	Digest     artifact.Digest
	Executable bool
}

// DeliveredBy lists what a stage run of a build delivered, whatever became of the build.
func (db *DB) DeliveredBy(ctx context.Context, build uuid.UUID, run int) ([]DeliveredFile, error) {
	return many[DeliveredFile](ctx, db, `select s.name as store, a.name, f.path, f.size, f.digest, f.executable
		from filling f join admission a on a.id = f.admission join store s on s.id = a.store where a.build = $1 and f.run = $2 order by s.name, a.name, f.path`, build, run)
}

// ReuseNotes gives by chain what is told of its reuse.
func (db *DB) ReuseNotes(ctx context.Context, build uuid.UUID) (map[int]string, error) {
	rows, err := many[struct {
		Index int
		Note  string
	}](ctx, db, `select index, reuse_note as note from chain where build = $1 and reuse_note <> ''`, build)
	notes := map[int]string{}
	for _, r := range rows {
		notes[r.Index] = r.Note
	}
	return notes, err
}
