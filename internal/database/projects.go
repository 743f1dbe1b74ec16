package database

import (
	"context"
	"time"

	"github.com/google/uuid"
	"oskeld.dev/oskeld/internal/core/fault"
)

// Project row.
type Project struct {
	ID        uuid.UUID
	Name      string
	Summary   string
	CreatedAt time.Time
}

// AddProject makes a project. A name that is taken is a conflict.
func (db *DB) AddProject(ctx context.Context, p Project) error {
	err := db.exec(ctx, `insert into project (id, name, summary) values ($1, $2, $3)`, p.ID, p.Name, p.Summary)
	return taken(err, "there is already a project %q", p.Name)
}

// Project finds a project by name.
func (db *DB) Project(ctx context.Context, name string) (Project, error) {
	return one[Project](ctx, db, missing("no project %q", name), `select id, name, summary, created_at from project where name = $1`, name)
}

// Projects lists all projects by name.
func (db *DB) Projects(ctx context.Context) ([]Project, error) {
	return many[Project](ctx, db, `select id, name, summary, created_at from project order by name`)
}

// Source row; Credential is sealed.
type Source struct {
	ID          uuid.UUID
	Project     uuid.UUID
	ProjectName string
	Name        string
	URL         string
	Credential  []byte
	Trusted     []string
	CreatedAt   time.Time
}

const sourceColumns = `s.id, s.project, p.name as project_name, s.name, s.url, s.credential, s.trusted, s.created_at
	from source s join project p on p.id = s.project`

// AddSource keeps a source. A name that is taken is a conflict.
func (db *DB) AddSource(ctx context.Context, s Source) error {
	err := db.exec(ctx, `insert into source (id, project, name, url, credential, trusted) values ($1, $2, $3, $4, $5, $6)`,
		s.ID, s.Project, s.Name, s.URL, s.Credential, s.Trusted)
	return taken(err, "there is already a source %q", s.Name)
}

// SetSource changes a source's address, credential and trusted refs.
func (db *DB) SetSource(ctx context.Context, s Source) error {
	return db.exec(ctx, `update source set url = $2, credential = $3, trusted = $4 where id = $1`, s.ID, s.URL, s.Credential, s.Trusted)
}

// Source finds a source by name.
func (db *DB) Source(ctx context.Context, name string) (Source, error) {
	return one[Source](ctx, db, missing("no source %q", name), `select `+sourceColumns+` where s.name = $1`, name)
}

// Sources lists the sources of projects by name.
func (db *DB) Sources(ctx context.Context, projects []uuid.UUID) ([]Source, error) {
	return many[Source](ctx, db, `select `+sourceColumns+` where s.project = any($1) order by s.name`, projects)
}

// Pipeline row with the names of what it belongs to.
type Pipeline struct {
	ID          uuid.UUID
	Project     uuid.UUID
	ProjectName string
	Name        string
	Source      uuid.UUID
	SourceName  string
	File        string
	Summary     string
	CreatedAt   time.Time
}

const pipelineColumns = `l.id, l.project, p.name as project_name, l.name, l.source, s.name as source_name, l.file, l.summary, l.created_at
	from pipeline l join project p on p.id = l.project join source s on s.id = l.source`

// AddPipeline keeps a pipeline. A name that is taken is a conflict.
func (db *DB) AddPipeline(ctx context.Context, p Pipeline) error {
	err := db.exec(ctx, `insert into pipeline (id, project, name, source, file, summary) values ($1, $2, $3, $4, $5, $6)`,
		p.ID, p.Project, p.Name, p.Source, p.File, p.Summary)
	return taken(err, "there is already a pipeline %q", p.Name)
}

// SetSummary keeps what the file said of the pipeline last.
func (db *DB) SetSummary(ctx context.Context, pipeline uuid.UUID, summary string) error {
	return db.exec(ctx, `update pipeline set summary = $2 where id = $1 and summary <> $2`, pipeline, summary)
}

// Pipeline finds a pipeline by name.
func (db *DB) Pipeline(ctx context.Context, name string) (Pipeline, error) {
	return one[Pipeline](ctx, db, missing("no pipeline %q", name), `select `+pipelineColumns+` where l.name = $1`, name)
}

// Pipelines lists the pipelines of projects by name.
func (db *DB) Pipelines(ctx context.Context, projects []uuid.UUID) ([]Pipeline, error) {
	return many[Pipeline](ctx, db, `select `+pipelineColumns+` where l.project = any($1) order by l.name`, projects)
}

// Secret row; Sealed is the value under the service's key.
type Secret struct {
	Name     string
	Sealed   []byte
	Revision int
	SetBy    string
	SetAt    time.Time
}

// SetSecret keeps a secret's value; a new value is a new revision.
func (db *DB) SetSecret(ctx context.Context, project uuid.UUID, name string, sealed []byte, by string) error {
	return db.exec(ctx, `insert into secret (project, name, sealed, revision, set_by) values ($1, $2, $3, 1, $4)
		on conflict (project, name) do update set sealed = excluded.sealed, revision = secret.revision + 1, set_by = excluded.set_by, set_at = now()`,
		project, name, sealed, by)
}

// RemoveSecret forgets a secret.
func (db *DB) RemoveSecret(ctx context.Context, project uuid.UUID, name string) error {
	tag, err := db.q.Exec(ctx, `delete from secret where project = $1 and name = $2`, project, name)
	if err == nil && tag.RowsAffected() == 0 {
		return fault.Missing("no secret %q", name)
	}
	return err
}

// Secrets lists a project's secrets by name.
func (db *DB) Secrets(ctx context.Context, project uuid.UUID) ([]Secret, error) {
	return many[Secret](ctx, db, `select name, sealed, revision, set_by, set_at from secret where project = $1 order by name`, project)
}
