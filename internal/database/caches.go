package database

import (
	"context"
	"time"

	"github.com/google/uuid"
	"oskeld.dev/oskeld/internal/core/admit"
	"oskeld.dev/oskeld/internal/core/artifact"
	"oskeld.dev/oskeld/internal/core/cache"
)

// Cache row. Size is that of its packed bytes.
type Cache struct {
	ID     uuid.UUID
	Key    artifact.Digest
	Basis  cache.Basis
	Digest artifact.Digest
	Size   int64
	From   string // the build that saved it
	Uses   int
	MadeAt time.Time
	UsedAt time.Time
}

const cacheColumns = `c.id, c.key, c.basis, c.digest, c.size, l.name || '/' || b.number as "from", c.uses, c.made_at, c.used_at
	from cache c join build b on b.id = c.build join pipeline l on l.id = b.pipeline`

// FindCache finds a project's cache by its key; false for none.
func (db *DB) FindCache(ctx context.Context, project uuid.UUID, key artifact.Digest) (Cache, bool, error) {
	list, err := many[Cache](ctx, db, `select `+cacheColumns+` where c.project = $1 and c.key = $2`, project, key)
	if err != nil || len(list) == 0 {
		return Cache{}, false, err
	}
	return list[0], true, nil
}

// NewestCache finds the newest cache of a project with the same directories; false for none.
func (db *DB) NewestCache(ctx context.Context, project uuid.UUID, dirs string) (Cache, bool, error) {
	list, err := many[Cache](ctx, db, `select `+cacheColumns+` where c.project = $1 and c.dirs = $2 order by c.made_at desc limit 1`, project, dirs)
	if err != nil || len(list) == 0 {
		return Cache{}, false, err
	}
	return list[0], true, nil
}

// UseCache notes that a stage run took a cache in, and with it what the run took in that saved it.
func (db *DB) UseCache(ctx context.Context, id, build uuid.UUID, run int) error {
	if err := db.exec(ctx, `update cache set uses = uses + 1, used_at = now() where id = $1`, id); err != nil {
		return err
	}
	return db.exec(ctx, `insert into input (build, run, admission, path, digest) select $2, $3, admission, path, digest from cache_input where cache = $1
		on conflict do nothing`, id, build, run)
}

// AddCache keeps a cache that a stage run saved, with what the run took in. One that is there under the
// key stays; false then.
func (db *DB) AddCache(ctx context.Context, project uuid.UUID, c Cache, build uuid.UUID, run int) (bool, error) {
	tag, err := db.q.Exec(ctx, `insert into cache (id, project, key, dirs, basis, digest, size, build, run) values ($1, $2, $3, $4, $5, $6, $7, $8, $9)
		on conflict (project, key) do nothing`, c.ID, project, c.Key, c.Basis.Name(), c.Basis, c.Digest, c.Size, build, run)
	if err != nil || tag.RowsAffected() == 0 {
		return false, err
	}
	return true, db.exec(ctx, `insert into cache_input (cache, admission, path, digest) select $1, admission, path, digest from input where build = $2 and run = $3
		on conflict do nothing`, c.ID, build, run)
}

// Caches lists a project's caches, the last used first.
func (db *DB) Caches(ctx context.Context, project uuid.UUID) ([]Cache, error) {
	return many[Cache](ctx, db, `select `+cacheColumns+` where c.project = $1 order by c.used_at desc limit 500`, project)
}

// EvictCaches removes a project's caches that nobody used for long, and the longest unused ones beyond
// its quota.
func (db *DB) EvictCaches(ctx context.Context, project uuid.UUID) error {
	return db.exec(ctx, `with old as (
			select c.id from (select id, used_at, sum(size) over (order by used_at desc, id) as total from cache where project = $1) c, project p
			where p.id = $1 and (c.total > p.cache_bytes or c.used_at < now() - make_interval(days => p.cache_days))),
		gone as (delete from cache where id in (select id from old) returning digest)
		insert into gone_blob (digest) select distinct digest from gone on conflict do nothing`, project)
}

// RemoveCache removes a project's cache; false when it is not there.
func (db *DB) RemoveCache(ctx context.Context, project, id uuid.UUID) (bool, error) {
	tag, err := db.q.Exec(ctx, `with gone as (delete from cache where project = $1 and id = $2 returning digest)
		insert into gone_blob (digest) select digest from gone on conflict do nothing`, project, id)
	return tag.RowsAffected() > 0, err
}

// SetCaches sets a project's quota of caches in bytes, after how many days unused ones go, and whom they admit.
func (db *DB) SetCaches(ctx context.Context, project uuid.UUID, bytes int64, days int, admits admit.List) error {
	return db.exec(ctx, `update project set cache_bytes = $2, cache_days = $3, cache_admits = $4 where id = $1`, project, bytes, days, admits)
}

// CacheAdmits tells whom a project's caches admit, and of which pipeline, branch and tag a build is.
func (db *DB) CacheAdmits(ctx context.Context, build uuid.UUID) (admits admit.List, pipeline, branch, tag string, err error) {
	err = db.q.QueryRow(ctx, `select p.cache_admits, l.name, b.branch, b.tag from build b join pipeline l on l.id = b.pipeline
		join project p on p.id = l.project where b.id = $1`, build).Scan(&admits, &pipeline, &branch, &tag)
	return admits, pipeline, branch, tag, err
}

// CachedDigest tells whether a digest is the packed bytes of a project's cache.
func (db *DB) CachedDigest(ctx context.Context, project uuid.UUID, digest artifact.Digest) (bool, error) {
	found, err := column[int](ctx, db, `select 1 from cache where project = $1 and digest = $2 limit 1`, project, digest)
	return len(found) > 0, err
}

// GoneBlobs lists blobs that may be removed.
func (db *DB) GoneBlobs(ctx context.Context) ([]artifact.Digest, error) {
	return column[artifact.Digest](ctx, db, `select digest from gone_blob order by digest limit 1000`)
}

// RemoveBlob forgets a blob to which nothing refers, and calls remove while nobody else can come to refer
// to it. One that is held for somebody yet is kept for a later look; one that is referred to is kept.
func (db *DB) RemoveBlob(ctx context.Context, digest artifact.Digest, remove func() error) error {
	return db.Change(ctx, func(tx *DB) error {
		if err := tx.exec(ctx, `select digest from blob where digest = $1 for update`, digest); err != nil {
			return err
		}
		held, err := column[int](ctx, tx, `select 1 from blob_hold where digest = $1 and until > now() limit 1`, digest)
		if err != nil || len(held) > 0 {
			return err
		}
		used, err := column[int](ctx, tx, `select 1 where exists (select 1 from content_file where digest = $1) or exists (select 1 from filling where digest = $1)
			or exists (select 1 from cache where digest = $1) or exists (select 1 from log_blob where digest = $1)
			or exists (select 1 from log_part where digest = $1)`, digest)
		if err != nil {
			return err
		}
		if len(used) == 0 {
			if err := tx.exec(ctx, `delete from blob_hold where digest = $1`, digest); err != nil {
				return err
			}
			if err := tx.exec(ctx, `delete from blob where digest = $1`, digest); err != nil {
				return err
			}
			if err := remove(); err != nil {
				return err
			}
		}
		return tx.exec(ctx, `delete from gone_blob where digest = $1`, digest)
	})
}
