package database

import (
	"context"
	"time"

	"github.com/google/uuid"
	"oskeld.dev/oskeld/internal/core/artifact"
	"oskeld.dev/oskeld/internal/core/view"
)

// AddInput notes that a build took a file of an artifact in.
func (db *DB) AddInput(ctx context.Context, build uuid.UUID, run int, admission uuid.UUID, f artifact.File) error {
	return db.exec(ctx, `insert into input (build, run, admission, path, digest) values ($1, $2, $3, $4, $5) on conflict do nothing`,
		build, run, admission, f.Path, f.Digest)
}

// Inputs lists what a build took in.
func (db *DB) Inputs(ctx context.Context, build uuid.UUID) ([]view.Input, error) {
	return many[view.Input](ctx, db, `select s.name as store, a.name, a.version, i.path, i.digest, r.name as stage
		from input i join admission a on a.id = i.admission join store s on s.id = a.store
		join stage_run r on r.build = i.build and r.index = i.run where i.build = $1 order by s.name, a.name, i.path`, build)
}

// Uses lists the builds that took one of the contents in, newest first.
func (db *DB) Uses(ctx context.Context, contents []string, most int) ([]view.Use, error) {
	return many[view.Use](ctx, db, `select l.name || '/' || b.number as build, b.version, min(i.at) as at
		from input i join admission a on a.id = i.admission join build b on b.id = i.build join pipeline l on l.id = b.pipeline
		where a.content = any($1) group by 1, 2 order by 3 desc limit $2`, contents, most)
}

// Lying is an admission with the path under which a digest lies in it.
type Lying struct {
	ID   uuid.UUID
	Path string
}

// WhereLies lists the admissions of projects in which a file or content of that digest lies.
func (db *DB) WhereLies(ctx context.Context, digest artifact.Digest, projects []uuid.UUID) ([]Lying, error) {
	return many[Lying](ctx, db, `select a.id, f.path from content_file f join admission a on a.content = f.content join store s on s.id = a.store
			where f.digest = $1 and s.project = any($2) and a.state in ('sealed', 'withdrawn')
		union all select a.id, '' from admission a join store s on s.id = a.store where a.content = $1 and s.project = any($2) and a.state in ('sealed', 'withdrawn')
		limit 200`, digest, projects)
}

// AddStatement keeps a signed statement about a content.
func (db *DB) AddStatement(ctx context.Context, content string, build uuid.UUID, envelope []byte) error {
	return db.exec(ctx, `insert into statement (content, build, envelope) values ($1, $2, $3) on conflict do nothing`, content, build, envelope)
}

// Statements lists the envelopes about a content, oldest first.
func (db *DB) Statements(ctx context.Context, content string) ([][]byte, error) {
	return column[[]byte](ctx, db, `select envelope from statement where content = $1 order by created_at`, content)
}

// AddRecord writes into the journal.
func (db *DB) AddRecord(ctx context.Context, who, did, thing string, details map[string]string) error {
	if details == nil {
		details = map[string]string{}
	}
	return db.exec(ctx, `insert into record (who, did, thing, details) values ($1, $2, $3, $4)`, who, did, thing, details)
}

// Records lists the journal below an id, newest first; of one thing when it is given.
func (db *DB) Records(ctx context.Context, thing string, below int64, most int) ([]view.Record, error) {
	return many[view.Record](ctx, db, `select id, at, who, did, thing, details from record
		where ($1 = '' or thing = $1) and ($2 = 0 or id < $2) order by id desc limit $3`, thing, below, most)
}

// Errand is work owed after a change, done at least once.
type Errand struct {
	ID    int64
	Kind  string
	About uuid.UUID
	Tries int
}

// AddErrand owes an errand; the same one owed twice is owed once.
func (db *DB) AddErrand(ctx context.Context, kind string, about uuid.UUID) error {
	return db.exec(ctx, `insert into errand (kind, about) values ($1, $2) on conflict (kind, about) do nothing`, kind, about)
}

// TakeErrands takes due errands for a minute: a service that dies over them leaves them to another.
func (db *DB) TakeErrands(ctx context.Context, most int) ([]Errand, error) {
	return many[Errand](ctx, db, `update errand set due_at = now() + interval '1 minute', tries = tries + 1 where id in
		(select id from errand where due_at <= now() order by due_at limit $1 for update skip locked) returning id, kind, about, tries`, most)
}

// EndErrand forgets an errand that is done.
func (db *DB) EndErrand(ctx context.Context, id int64) error {
	return db.exec(ctx, `delete from errand where id = $1`, id)
}

// PutOffErrand tries a failed errand again later.
func (db *DB) PutOffErrand(ctx context.Context, id int64, wait time.Duration, said string) error {
	return db.exec(ctx, `update errand set due_at = now() + $2, said = $3 where id = $1`, id, wait, said)
}

// OwesStatement tells whether the provenance of a build is still to be written.
func (db *DB) OwesStatement(ctx context.Context, build uuid.UUID) (bool, error) {
	found, err := column[int64](ctx, db, `select id from errand where kind = 'provenance' and about = $1`, build)
	return len(found) > 0, err
}

// Find looks for pipelines, stores, builds, versions and names that begin with a text.
func (db *DB) Find(ctx context.Context, text string, projects []uuid.UUID, most int) ([]view.Found, error) {
	return many[view.Found](ctx, db, `(select 'pipeline' as kind, l.name as text, l.summary as more, '/pipelines/' || l.name as path
			from pipeline l where l.project = any($2) and l.name like $1 || '%' order by l.name limit $3)
		union all (select 'store', s.name, s.summary, '/stores/' || s.name from store s where s.project = any($2) and s.name like $1 || '%' order by s.name limit $3)
		union all (select 'build', l.name || '/' || b.number, b.state || ' ' || b.version, '/pipelines/' || l.name || '/' || b.number
			from build b join pipeline l on l.id = b.pipeline where l.project = any($2)
			and (l.name || '/' || b.number = $1 or (length($1) >= 4 and b.commit like $1 || '%') or b.version = $1) order by b.created_at desc limit $3)
		union all (select 'artifact', s.name || '/' || a.name || '@' || a.version, a.state, '/stores/' || s.name || '/' || a.name || '/' || a.version
			from admission a join store s on s.id = a.store where s.project = any($2) and a.state = 'sealed'
			and (a.name = $1 or a.version like $1 || '%' or s.name || '/' || a.name || '@' || a.version = $1) order by a.created_at desc limit $3)`, escapeLike(text), projects, most)
}

func escapeLike(s string) string {
	var out []rune
	for _, r := range s {
		if r == '%' || r == '_' || r == '\\' {
			out = append(out, '\\')
		}
		out = append(out, r)
	}
	return string(out)
}
