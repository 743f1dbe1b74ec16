package database

import (
	"context"
	"time"

	"github.com/google/uuid"
	"oskeld.dev/oskeld/internal/core/artifact"
)

// HoldBlobs notes that blobs are on the disk, and keeps them from being collected for their holder. Digests
// stand once each.
func (db *DB) HoldBlobs(ctx context.Context, digests []artifact.Digest, sizes []int64, holder string, length time.Duration) error {
	return db.exec(ctx, `with b as (insert into blob (digest, size) select d, n from unnest($1::text[], $2::bigint[]) as x (d, n) order by d
			on conflict (digest) do update set size = excluded.size returning digest)
		insert into blob_hold (digest, holder, until) select digest, $3, now() + $4 from b order by digest
		on conflict (digest, holder) do update set until = greatest(blob_hold.until, excluded.until)`, digests, sizes, holder, length)
}

// CarriedDigests lists the digests of all files that a build carries.
func (db *DB) CarriedDigests(ctx context.Context, build uuid.UUID) ([]artifact.Digest, error) {
	return column[artifact.Digest](ctx, db, `select distinct f->>'sha256' from stage_run r, jsonb_array_elements(case when jsonb_typeof(r.carried) = 'array' then r.carried else '[]' end) f
		where r.build = $1`, build)
}

// Readable lists those of the digests that the holder sent, or that lie in stores of the projects:
// only they count as present for the one who asks.
func (db *DB) Readable(ctx context.Context, digests []string, holder string, projects []uuid.UUID) ([]string, error) {
	return column[string](ctx, db, `select d from unnest($1::text[]) d where
		exists (select 1 from blob_hold h where h.digest = d and h.holder = $2 and h.until > now()) or
		exists (select 1 from content_file f join admission a on a.content = f.content join store s on s.id = a.store
			where f.digest = d and a.state = 'sealed' and s.project = any($3))`, digests, holder, projects)
}

// NewSizes lists those of the sizes that no blob has which Readable would list.
func (db *DB) NewSizes(ctx context.Context, sizes []int64, holder string, projects []uuid.UUID) ([]int64, error) {
	return column[int64](ctx, db, `select n from unnest($1::bigint[]) n where not
		exists (select 1 from blob_hold h join blob b on b.digest = h.digest where b.size = n and h.holder = $2 and h.until > now()) and not
		exists (select 1 from content_file f join admission a on a.content = f.content join store s on s.id = a.store
			where f.size = n and a.state = 'sealed' and s.project = any($3))`, sizes, holder, projects)
}

// CarriedDigest tells whether a digest is among the carried files of a build.
func (db *DB) CarriedDigest(ctx context.Context, build uuid.UUID, digest artifact.Digest) (bool, error) {
	found, err := column[int](ctx, db, `select 1 from stage_run r, jsonb_array_elements(case when jsonb_typeof(r.carried) = 'array' then r.carried else '[]' end) f
		where r.build = $1 and f->>'sha256' = $2 limit 1`, build, digest)
	return len(found) > 0, err
}
