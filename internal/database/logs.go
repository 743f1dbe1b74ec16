package database

import (
	"context"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"oskeld.dev/oskeld/internal/core/artifact"
	"oskeld.dev/oskeld/internal/core/assignment"
)

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

// AddSegments keeps segments of logs under a fence, and gives those that are new: one that is there already,
// or whose log has ended and is a blob, is left as it is. Their places in the build are taken under a lock on
// the build, so readers that follow by place miss none.
func (db *DB) AddSegments(ctx context.Context, build uuid.UUID, fence int64, list []assignment.Segment) (added []assignment.Segment, err error) {
	err = db.Change(ctx, func(tx *DB) error {
		var at int64
		if err := tx.q.QueryRow(ctx, `select log_at from build where id = $1 for no key update`, build).Scan(&at); err != nil {
			return err
		}
		if added, err = tx.newSegments(ctx, build, fence, list); err != nil || len(added) == 0 {
			return err
		}
		var add pgx.Batch
		for _, s := range added {
			at++
			add.Queue(`insert into log_segment (build, run, fence, seq, at, first, lines, body) values ($1, $2, $3, $4, $5, $6, $7, $8)
				on conflict do nothing`, // of one that stands twice in the list
				build, s.Run, fence, s.Seq, at, s.First, s.Lines, s.Body)
		}
		add.Queue(`update build set log_at = $2 where id = $1`, build, at)
		return tx.sendBatch(ctx, &add).Close()
	})
	return added, err
}

// newSegments are those of a list that are neither segments nor in blobs.
func (db *DB) newSegments(ctx context.Context, build uuid.UUID, fence int64, list []assignment.Segment) ([]assignment.Segment, error) {
	runs, seqs, firsts := make([]int, len(list)), make([]int64, len(list)), make([]int64, len(list))
	for i, s := range list {
		runs[i], seqs[i], firsts[i] = s.Run, s.Seq, s.First
	}
	places, err := column[int](ctx, db, `select place from unnest($3::int[], $4::bigint[], $5::bigint[]) with ordinality as n (run, seq, first, place)
		where not exists (select from log_segment g where g.build = $1 and g.run = n.run and g.fence = $2 and g.seq = n.seq)
		and not exists (select from log_blob b where b.build = $1 and b.run = n.run and b.fence = $2)
		and not exists (select from log_part p where p.build = $1 and p.run = n.run and p.fence = $2 and p.lines >= n.first)
		order by place`, build, fence, runs, seqs, firsts)
	fresh := make([]assignment.Segment, len(places))
	for i, place := range places {
		fresh[i] = list[place-1]
	}
	return fresh, err
}

const segmentColumns = `run, fence, seq, at, first, lines, body from log_segment`

// SegmentsAfter lists a build's segments after a place, in order, at most most.
func (db *DB) SegmentsAfter(ctx context.Context, build uuid.UUID, at int64, most int) ([]Segment, error) {
	return many[Segment](ctx, db, `select `+segmentColumns+` where build = $1 and at > $2 order by at limit $3`, build, at, most)
}

// SegmentsOf lists the segments of one stage run under a fence that hold lines from first to
// last, at most most.
func (db *DB) SegmentsOf(ctx context.Context, build uuid.UUID, run int, fence, first, last int64, most int) ([]Segment, error) {
	return many[Segment](ctx, db, `select `+segmentColumns+` where build = $1 and run = $2 and fence = $3 and first + lines > $4 and first <= $5 order by seq limit $6`,
		build, run, fence, first, last, most)
}

// LogKey names the log of a stage run in one hand-out.
type LogKey struct {
	Run   int
	Fence int64
}

// LogKeyOf is a LogKey among all builds.
type LogKeyOf struct {
	Build uuid.UUID
	LogKey
}

// OpenLogs lists a build's logs that are segments yet.
func (db *DB) OpenLogs(ctx context.Context, build uuid.UUID) ([]LogKey, error) {
	return many[LogKey](ctx, db, `select run, fence from log_segment where build = $1 union select run, fence from log_part where build = $1 order by run, fence`, build)
}

// LogPlace is where a segment's body stands in its log's blob, after those before it.
type LogPlace struct {
	At     int64 `json:"at"`
	First  int64 `json:"first"`
	Lines  int   `json:"lines"`
	Length int64 `json:"length"`
}

// LogBlob is a log that has ended, as a blob.
type LogBlob struct {
	Run    int
	Fence  int64
	Digest artifact.Digest
	Size   int64
	Lines  int64
	Places []LogPlace
}

// LogParts lists the parts of a log whose older text has become blobs, in order.
func (db *DB) LogParts(ctx context.Context, build uuid.UUID, k LogKey) ([]LogBlob, error) {
	return many[LogBlob](ctx, db, `select run, fence, digest, size, lines, places from log_part where build = $1 and run = $2 and fence = $3 order by part`, build, k.Run, k.Fence)
}

// LogPartsOf lists the parts of all logs of a build.
func (db *DB) LogPartsOf(ctx context.Context, build uuid.UUID) ([]LogBlob, error) {
	return many[LogBlob](ctx, db, `select run, fence, digest, size, lines, places from log_part where build = $1 order by run, fence, part`, build)
}

// FenceOf is the newest fence under which a stage run was handed out; false when there is no such run.
func (db *DB) FenceOf(ctx context.Context, build uuid.UUID, run int) (int64, bool, error) {
	list, err := column[int64](ctx, db, `select fence from stage_run where build = $1 and index = $2`, build, run)
	if err != nil || len(list) == 0 {
		return 0, false, err
	}
	return list[0], true, nil
}

// LogAt is the place of a build's newest segment.
func (db *DB) LogAt(ctx context.Context, build uuid.UUID) (at int64, err error) {
	err = db.q.QueryRow(ctx, `select log_at from build where id = $1`, build).Scan(&at)
	return at, err
}

// AddLogPart keeps the older text of a log as a blob in place of its segments up to the part's last line;
// after so many parts, else somebody was faster and nothing is done.
func (db *DB) AddLogPart(ctx context.Context, build uuid.UUID, parts int, b LogBlob) error {
	return db.Change(ctx, func(tx *DB) error {
		if err := tx.exec(ctx, `insert into blob (digest, size) values ($1, $2) on conflict (digest) do nothing`, b.Digest, b.Size); err != nil {
			return err
		}
		tag, err := tx.q.Exec(ctx, `insert into log_part (build, run, fence, part, digest, size, lines, places)
			select $1, $2, $3, $4, $5, $6, $7, $8 where not exists (select 1 from log_blob where build = $1 and run = $2 and fence = $3)
			on conflict do nothing`, build, b.Run, b.Fence, parts, b.Digest, b.Size, b.Lines, b.Places)
		if err != nil || tag.RowsAffected() == 0 {
			return err
		}
		return tx.exec(ctx, `delete from log_segment where build = $1 and run = $2 and fence = $3 and first <= $4`, build, b.Run, b.Fence, b.Lines)
	})
}

// AddLogBlob keeps a log as a blob in place of its segments and parts, in one transaction.
func (db *DB) AddLogBlob(ctx context.Context, build uuid.UUID, b LogBlob) error {
	return db.Change(ctx, func(tx *DB) error {
		if err := tx.exec(ctx, `insert into blob (digest, size) values ($1, $2) on conflict (digest) do nothing`, b.Digest, b.Size); err != nil {
			return err
		}
		if err := tx.exec(ctx, `insert into log_blob (build, run, fence, digest, size, lines, places) values ($1, $2, $3, $4, $5, $6, $7)
			on conflict (build, run, fence) do nothing`, build, b.Run, b.Fence, b.Digest, b.Size, b.Lines, b.Places); err != nil {
			return err
		}
		if err := tx.exec(ctx, `with gone as (delete from log_part where build = $1 and run = $2 and fence = $3 returning digest)
			insert into gone_blob (digest) select digest from gone on conflict do nothing`, build, b.Run, b.Fence); err != nil {
			return err
		}
		return tx.exec(ctx, `delete from log_segment where build = $1 and run = $2 and fence = $3`, build, b.Run, b.Fence)
	})
}

// LogBlobs lists a build's logs that are blobs.
func (db *DB) LogBlobs(ctx context.Context, build uuid.UUID) ([]LogBlob, error) {
	return many[LogBlob](ctx, db, `select run, fence, digest, size, lines, places from log_blob where build = $1 order by run, fence`, build)
}

// LogBlobOf finds one log as a blob; false when it is not one.
func (db *DB) LogBlobOf(ctx context.Context, build uuid.UUID, k LogKey) (LogBlob, bool, error) {
	list, err := many[LogBlob](ctx, db, `select run, fence, digest, size, lines, places from log_blob where build = $1 and run = $2 and fence = $3`, build, k.Run, k.Fence)
	if err != nil || len(list) == 0 {
		return LogBlob{}, false, err
	}
	return list[0], true, nil
}
