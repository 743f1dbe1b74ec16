package database

import (
	"context"
	"fmt"
	"time"

	"github.com/google/uuid"
	"oskeld.dev/oskeld/internal/core/fault"
)

// Secret row; Sealed is the value under the service's key. Pipeline is "" for one of the whole project.
// AdmitsPipelines and AdmitsRefs name who may have it; none named: all of the project, all trusted refs.
type Secret struct {
	Name            string
	Pipeline        string
	Sealed          []byte
	Revision        int
	AdmitsPipelines []string
	AdmitsRefs      []string
	SetBy           string
	SetAt           time.Time
}

// SetSecret keeps a project's secret; a new value is a new revision.
func (db *DB) SetSecret(ctx context.Context, project uuid.UUID, s Secret) error {
	return db.exec(ctx, `insert into secret (project, name, sealed, revision, admits_pipelines, admits_refs, set_by) values ($1, $2, $3, 1, $4, $5, $6)
		on conflict (project, name) do update set sealed = excluded.sealed, revision = secret.revision + 1,
			admits_pipelines = excluded.admits_pipelines, admits_refs = excluded.admits_refs, set_by = excluded.set_by, set_at = now()`,
		project, s.Name, s.Sealed, notNil(s.AdmitsPipelines), notNil(s.AdmitsRefs), s.SetBy)
}

// SetPipelineSecret keeps a secret of one pipeline, which it sees instead of the project's of that name.
func (db *DB) SetPipelineSecret(ctx context.Context, pipeline uuid.UUID, s Secret) error {
	return db.exec(ctx, `insert into pipeline_secret (pipeline, name, sealed, revision, admits_refs, set_by) values ($1, $2, $3, 1, $4, $5)
		on conflict (pipeline, name) do update set sealed = excluded.sealed, revision = pipeline_secret.revision + 1,
			admits_refs = excluded.admits_refs, set_by = excluded.set_by, set_at = now()`, pipeline, s.Name, s.Sealed, notNil(s.AdmitsRefs), s.SetBy)
}

// RemoveSecret forgets a project's secret.
func (db *DB) RemoveSecret(ctx context.Context, project uuid.UUID, name string) error {
	tag, err := db.q.Exec(ctx, `delete from secret where project = $1 and name = $2`, project, name)
	if err == nil && tag.RowsAffected() == 0 {
		return fault.Missing("no secret %q", name)
	}
	return err
}

// RemovePipelineSecret forgets a secret of one pipeline.
func (db *DB) RemovePipelineSecret(ctx context.Context, pipeline uuid.UUID, name string) error {
	tag, err := db.q.Exec(ctx, `delete from pipeline_secret where pipeline = $1 and name = $2`, pipeline, name)
	if err == nil && tag.RowsAffected() == 0 {
		return fault.Missing("no secret %q of that pipeline", name)
	}
	return err
}

// Secrets lists the secrets of a project and of its pipelines, by name.
func (db *DB) Secrets(ctx context.Context, project uuid.UUID) ([]Secret, error) {
	return many[Secret](ctx, db, `select name, '' as pipeline, sealed, revision, admits_pipelines, admits_refs, set_by, set_at from secret where project = $1
		union all select s.name, l.name, s.sealed, s.revision, '{}', s.admits_refs, s.set_by, s.set_at
			from pipeline_secret s join pipeline l on l.id = s.pipeline where l.project = $1
		order by 1, 2`, project)
}

// SecretsFor lists what a pipeline sees by name: its own, else its project's.
func (db *DB) SecretsFor(ctx context.Context, project, pipeline uuid.UUID) (map[string]Secret, error) {
	list, err := many[Secret](ctx, db, `select name, '' as pipeline, sealed, revision, admits_pipelines, admits_refs, set_by, set_at from secret where project = $1
		union all select s.name, l.name, s.sealed, s.revision, '{}', s.admits_refs, s.set_by, s.set_at
			from pipeline_secret s join pipeline l on l.id = s.pipeline where l.id = $2
		order by 2`, project, pipeline)
	seen := make(map[string]Secret, len(list))
	for _, s := range list { // the project's come first
		seen[s.Name] = s
	}
	return seen, err
}

// sealedColumns are all that is kept under the service's key: table, key, column.
var sealedColumns = [][3]string{{"source", "id::text", "credential"}, {"source", "id::text", "call_key"}, {"secret", "project::text || name", "sealed"},
	{"pipeline_secret", "pipeline::text || name", "sealed"}, {"setting", "name", "value"}}

// Reseal gives every sealed value to reseal and keeps what that gives, all in one transaction. It counts them.
func (db *DB) Reseal(ctx context.Context, reseal func([]byte) ([]byte, error)) (n int, err error) {
	err = db.Change(ctx, func(tx *DB) error {
		for _, c := range sealedColumns {
			where := c[2] + " is not null"
			if c[0] == "setting" {
				where = "name in ('key-proof', 'signing-key')"
			}
			rows, err := many[struct {
				Key   string
				Value []byte
			}](ctx, tx, fmt.Sprintf(`select %s as key, %s as value from %s where %s for update`, c[1], c[2], c[0], where))
			if err != nil {
				return err
			}
			for _, r := range rows {
				sealed, err := reseal(r.Value)
				if err != nil {
					return err
				}
				if err := tx.exec(ctx, fmt.Sprintf(`update %s set %s = $2 where %s = $1`, c[0], c[2], c[1]), r.Key, sealed); err != nil {
					return err
				}
				n++
			}
		}
		return nil
	})
	return n, err
}

// OthersAt counts the connections of services to the database.
func (db *DB) OthersAt(ctx context.Context) (int, error) {
	n, err := column[int](ctx, db, `select count(*) from pg_stat_activity where datname = current_database() and application_name = $1`, serviceName)
	if err != nil {
		return 0, err
	}
	return n[0], nil
}
