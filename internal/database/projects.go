package database

import (
	"context"
	"time"

	"github.com/google/uuid"
	"oskeld.dev/oskeld/internal/core/admit"
)

// Project row.
type Project struct {
	ID          uuid.UUID
	Name        string
	Summary     string
	MostPlaces  int // how many places its builds may have at a time; 0: no limit
	CacheBytes  int64
	CacheAdmits admit.List
	CacheDays   int
	CreatedAt   time.Time
}

// AddProject makes a project. A name that is taken is a conflict.
func (db *DB) AddProject(ctx context.Context, p Project) error {
	err := db.exec(ctx, `insert into project (id, name, summary) values ($1, $2, $3)`, p.ID, p.Name, p.Summary)
	return taken(err, "there is already a project %q", p.Name)
}

// Project finds a project by name.
func (db *DB) Project(ctx context.Context, name string) (Project, error) {
	return one[Project](ctx, db, missing("no project %q", name), `select id, name, summary, most_places, cache_bytes, cache_days, cache_admits, created_at from project where name = $1`, name)
}

// Projects lists all projects by name.
func (db *DB) Projects(ctx context.Context) ([]Project, error) {
	return many[Project](ctx, db, `select id, name, summary, most_places, cache_bytes, cache_days, cache_admits, created_at from project order by name`)
}

// SetMostPlaces limits how many places a project's builds may have at a time; 0: no limit.
func (db *DB) SetMostPlaces(ctx context.Context, project uuid.UUID, most int) error {
	return db.exec(ctx, `update project set most_places = $2 where id = $1`, project, most)
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
	PollS       int    // how often it is looked at, in seconds; 0: after calls alone
	CallKey     []byte // sealed; nil for none
	LookedAt    *time.Time
	Fails       int    // how often in a row it did not answer
	Trouble     string // why not
}

const sourceFields = `s.id, s.project, p.name as project_name, s.name, s.url, s.credential, s.trusted, s.created_at,
	s.poll_s, s.call_key, s.looked_at, s.fails, s.trouble`

const sourceColumns = sourceFields + ` from source s join project p on p.id = s.project`

// AddSource keeps a source. A name that is taken is a conflict.
func (db *DB) AddSource(ctx context.Context, s Source) error {
	err := db.exec(ctx, `insert into source (id, project, name, url, credential, trusted, poll_s) values ($1, $2, $3, $4, $5, $6, $7)`,
		s.ID, s.Project, s.Name, s.URL, s.Credential, s.Trusted, s.PollS)
	return taken(err, "there is already a source %q", s.Name)
}

// SetSource changes a source's address, credential, trusted refs and how often it is looked at. What it
// has at a new address, or had before anybody looked, is no news.
func (db *DB) SetSource(ctx context.Context, s Source) error {
	return db.exec(ctx, `update source set url = $2, credential = $3, trusted = $4, poll_s = $5, due_at = now(), fails = 0,
		looked_at = case when url = $2 and not (poll_s = 0 and call_key is null) then looked_at end where id = $1`, s.ID, s.URL, s.Credential, s.Trusted, s.PollS)
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
	Last        int // number of its newest build
	Resting     bool
	CreatedAt   time.Time
}

const pipelineColumns = `l.id, l.project, p.name as project_name, l.name, l.source, s.name as source_name, l.file, l.summary, l.last, l.resting, l.created_at
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
