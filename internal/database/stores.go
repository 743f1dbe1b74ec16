package database

import (
	"context"
	"errors"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"oskeld.dev/oskeld/internal/core/admit"
	"oskeld.dev/oskeld/internal/core/artifact"
	"oskeld.dev/oskeld/internal/core/promotion"
)

// Store row.
type Store struct {
	ID          uuid.UUID
	Project     uuid.UUID
	ProjectName string
	Name        string
	Summary     string
	Format      string
	Rewrite     string
	Rank        int
	Sources     []string
	Outside     bool
	Tools       bool
	Admits      admit.List
	Rules       []promotion.Rule
	Revision    int
	CreatedAt   time.Time
	Names       int
	Versions    int
	Size        int64
}

const ownStoreColumns = `s.id, s.project, p.name as project_name, s.name, s.summary, s.format, s.rewrite, s.rank, s.sources, s.outside, s.tools, s.admits, s.rules, s.revision, s.created_at`

const storeColumns = ownStoreColumns + `,
	(select count(distinct a.name) from admission a where a.store = s.id and a.state = 'sealed') as names,
	(select count(*) from admission a where a.store = s.id and a.state = 'sealed') as versions,
	(select coalesce(sum(size), 0) from content where digest in (select content from admission a where a.store = s.id and a.state = 'sealed'))::bigint as size
	from store s join project p on p.id = s.project`

const briefColumns = ownStoreColumns + `, 0 as names, 0 as versions, 0::bigint as size from store s join project p on p.id = s.project`

// AddStore makes a store. A name that is taken is a conflict.
func (db *DB) AddStore(ctx context.Context, s Store) error {
	err := db.exec(ctx, `insert into store (id, project, name, summary, format, rewrite, rank, sources, outside, rules, tools, admits) values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12)`,
		s.ID, s.Project, s.Name, s.Summary, s.Format, s.Rewrite, s.Rank, notNil(s.Sources), s.Outside, notNil(s.Rules), s.Tools, s.Admits)
	return taken(err, "there is already a store %q", s.Name)
}

// SetStore changes a store's rules and summary; its rules get a new revision.
func (db *DB) SetStore(ctx context.Context, s Store) error {
	return db.exec(ctx, `update store set summary = $2, rewrite = $3, rank = $4, sources = $5, rules = $6, outside = $7, tools = $8, admits = $9, revision = revision + 1 where id = $1`,
		s.ID, s.Summary, s.Rewrite, s.Rank, notNil(s.Sources), notNil(s.Rules), s.Outside, s.Tools, s.Admits)
}

// Store finds a store by name.
func (db *DB) Store(ctx context.Context, name string) (Store, error) {
	return one[Store](ctx, db, missing("no store %q", name), `select `+storeColumns+` where s.name = $1`, name)
}

// StoreBrief finds a store by name without counting what is in it, for the paths that are hot.
func (db *DB) StoreBrief(ctx context.Context, name string) (Store, error) {
	return one[Store](ctx, db, missing("no store %q", name), `select `+briefColumns+` where s.name = $1`, name)
}

// Stores lists the stores of projects, lowest first.
func (db *DB) Stores(ctx context.Context, projects []uuid.UUID) ([]Store, error) {
	return many[Store](ctx, db, `select `+storeColumns+` where s.project = any($1) order by s.rank, s.name`, projects)
}

// ToolStores lists the stores of tools of all projects, by name.
func (db *DB) ToolStores(ctx context.Context) ([]Store, error) {
	return many[Store](ctx, db, `select `+briefColumns+` where s.tools order by s.name`)
}

// Admission row with what it belongs to.
type Admission struct {
	ID         uuid.UUID
	Store      uuid.UUID
	StoreName  string
	Project    uuid.UUID
	Name       string
	Version    string
	Revision   int
	State      string
	Holds      bool
	Content    *string
	Size       int64
	Files      int
	Build      *uuid.UUID
	BuildRef   string
	Commit     string
	Branch     string
	Tag        string
	Origin     *uuid.UUID
	OriginName string
	By         string
	SpareMS    int64
	Marks      []string
	CreatedAt  time.Time
	SealedAt   *time.Time
	EndedAt    *time.Time
	Statements int
}

const admissionColumns = `a.id, a.store, s.name as store_name, s.project, a.name, a.version, a.revision, a.state, a.holds, a.content,
	coalesce(c.size, 0) as size, coalesce(c.files, 0) as files, a.build, coalesce(l.name || '/' || b.number, '') as build_ref,
	coalesce(b.commit, '') as commit, coalesce(b.branch, '') as branch, coalesce(b.tag, '') as tag, a.origin,
	coalesce((select os.name from admission o join store os on os.id = o.store where o.id = a.origin), '') as origin_name, a.by, a.spare_ms,
	array(select m.mark from mark m where m.admission = a.id order by m.mark) as marks, a.created_at, a.sealed_at, a.ended_at,
	(select count(*) from statement t where t.content = a.content) as statements
	from admission a join store s on s.id = a.store left join content c on c.digest = a.content
	left join build b on b.id = a.build left join pipeline l on l.id = b.pipeline`

// AddAdmission writes an admission. A (store, name, version) that is held is a conflict.
func (db *DB) AddAdmission(ctx context.Context, a Admission) error {
	err := db.exec(ctx, `insert into admission (id, store, name, version, revision, state, holds, content, build, origin, by, spare_ms, sealed_at)
		values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, case when $6 = 'sealed' then now() end)`,
		a.ID, a.Store, a.Name, a.Version, a.Revision, a.State, a.Holds, a.Content, a.Build, a.Origin, a.By, a.SpareMS)
	return taken(err, "version %s of %s is taken", a.Version, a.Name)
}

// Holding is the admission that holds (store, name, version); ok is false when it is free.
func (db *DB) Holding(ctx context.Context, store uuid.UUID, name, version string) (a Admission, ok bool, err error) {
	list, err := many[Admission](ctx, db, `select `+admissionColumns+` where a.store = $1 and a.name = $2 and a.version = $3 and a.holds`, store, name, version)
	if err != nil || len(list) == 0 {
		return a, false, err
	}
	return list[0], true, nil
}

// Admission is the newest revision of a version that is sealed, else one that is filling.
func (db *DB) Admission(ctx context.Context, store, name, version string) (Admission, error) {
	return one[Admission](ctx, db, missing("no %s/%s@%s", store, name, version), `select `+admissionColumns+`
		where s.name = $1 and a.name = $2 and a.version = $3 and a.state in ('sealed', 'filling', 'withdrawn')
		order by (a.state = 'sealed') desc, a.revision desc limit 1`, store, name, version)
}

// AdmissionByID finds an admission by its key.
func (db *DB) AdmissionByID(ctx context.Context, id uuid.UUID) (Admission, error) {
	return one[Admission](ctx, db, missing("no admission %s", id), `select `+admissionColumns+` where a.id = $1`, id)
}

// AdmissionAt is what a mark points at.
func (db *DB) AdmissionAt(ctx context.Context, store, name, mark string) (Admission, error) {
	return one[Admission](ctx, db, missing("no mark %s on %s/%s", mark, store, name), `select `+admissionColumns+`
		join mark m on m.admission = a.id where s.name = $1 and m.name = $2 and m.mark = $3`, store, name, mark)
}

// VersionsOf lists the sealed versions of a name in a store, the newest 10,000.
func (db *DB) VersionsOf(ctx context.Context, store uuid.UUID, name string) ([]string, error) {
	return column[string](ctx, db, `select distinct version from (select version from admission where store = $1 and name = $2 and state = 'sealed'
		order by created_at desc limit 10000) v`, store, name)
}

// AdmissionsOf lists what a build delivered or is to deliver.
func (db *DB) AdmissionsOf(ctx context.Context, build uuid.UUID) ([]Admission, error) {
	return many[Admission](ctx, db, `select `+admissionColumns+` where a.build = $1 and a.origin is null order by s.rank, a.name`, build)
}

// AdmissionsNamed lists the admissions of a name in the stores of a project, newest first.
func (db *DB) AdmissionsNamed(ctx context.Context, project uuid.UUID, name string, most int) ([]Admission, error) {
	return many[Admission](ctx, db, `select `+admissionColumns+` where s.project = $1 and a.name = $2 and a.state <> 'dropped' order by a.created_at desc limit $3`, project, name, most)
}

// AdmissionsIn lists what a store holds, newest first.
func (db *DB) AdmissionsIn(ctx context.Context, store uuid.UUID, most int) ([]Admission, error) {
	return many[Admission](ctx, db, `select `+admissionColumns+` where a.store = $1 and a.state <> 'dropped' order by a.created_at desc limit $2`, store, most)
}

// NameRow is a name in a store.
type NameRow struct {
	Name     string
	Versions int
	Latest   string
	LatestAt time.Time
}

// Names lists the names in a store with their newest version.
func (db *DB) Names(ctx context.Context, store uuid.UUID) ([]NameRow, error) {
	return many[NameRow](ctx, db, `select distinct on (name) name, count(*) over (partition by name) as versions, version as latest, created_at as latest_at
		from admission where store = $1 and state = 'sealed' order by name, created_at desc`, store)
}

// NextRevision is the revision after the newest of a version.
func (db *DB) NextRevision(ctx context.Context, store uuid.UUID, name, version string) (n int, err error) {
	err = db.q.QueryRow(ctx, `select coalesce(max(revision), 0) + 1 from admission where store = $1 and name = $2 and version = $3 and state in ('sealed', 'withdrawn')`,
		store, name, version).Scan(&n)
	return n, err
}

// AddFilling notes files that a stage run delivered into a filling admission. The same file again
// changes nothing; another under the same path is a conflict made by the caller from the count.
func (db *DB) AddFilling(ctx context.Context, admission uuid.UUID, run int, f artifact.File) (bool, error) {
	tag, err := db.q.Exec(ctx, `insert into filling (admission, path, size, digest, executable, run) values ($1, $2, $3, $4, $5, $6)
		on conflict (admission, path) do update set run = filling.run where filling.digest = excluded.digest`,
		admission, f.Path, f.Size, f.Digest, f.Executable, run)
	return tag.RowsAffected() == 1, err
}

// Filling lists the files of a filling admission.
func (db *DB) Filling(ctx context.Context, admission uuid.UUID) ([]artifact.File, error) {
	return many[artifact.File](ctx, db, `select path, size, digest, executable, '' as link from filling where admission = $1 order by path`, admission)
}

// ContentFiles lists the files of a content by path.
func (db *DB) ContentFiles(ctx context.Context, content string) ([]artifact.File, error) {
	return many[artifact.File](ctx, db, `select path, size, digest, executable, '' as link from content_file where content = $1 order by path`, content)
}

// ContentFile finds one file of a content.
func (db *DB) ContentFile(ctx context.Context, content, path string) (artifact.File, error) {
	return one[artifact.File](ctx, db, missing("no file %q in it", path),
		`select path, size, digest, executable, '' as link from content_file where content = $1 and path = $2`, content, path)
}

// AddContent keeps a content; the same one again changes nothing.
func (db *DB) AddContent(ctx context.Context, c artifact.Content) error {
	digest := string(c.Digest())
	tag, err := db.q.Exec(ctx, `insert into content (digest, size, files) values ($1, $2, $3) on conflict (digest) do nothing`, digest, c.Size(), len(c.Files))
	if err != nil || tag.RowsAffected() == 0 {
		return err
	}
	_, err = db.q.CopyFrom(ctx, pgx.Identifier{"content_file"}, []string{"content", "path", "size", "digest", "executable"},
		pgx.CopyFromSlice(len(c.Files), func(i int) ([]any, error) {
			f := c.Files[i]
			return []any{digest, f.Path, f.Size, string(f.Digest), f.Executable}, nil
		}))
	return err
}

// Seal makes a filling admission whole: it has its content for ever.
func (db *DB) Seal(ctx context.Context, id uuid.UUID, content string, revision int) error {
	return db.exec(ctx, `update admission set state = 'sealed', content = $2, revision = $3, sealed_at = now() where id = $1 and state = 'filling'`, id, content, revision)
}

// Drop ends the fillings of a build that did not pass: they hold no version any more.
func (db *DB) Drop(ctx context.Context, build uuid.UUID) error {
	return db.exec(ctx, `update admission set state = 'dropped', holds = false, ended_at = now() where build = $1 and state = 'filling'`, build)
}

// DropOne ends one filling admission.
func (db *DB) DropOne(ctx context.Context, id uuid.UUID) error {
	return db.exec(ctx, `update admission set state = 'dropped', holds = false, ended_at = now() where id = $1 and state = 'filling'`, id)
}

// SetMark points a mark at an admission, and gives the version that it pointed at before.
func (db *DB) SetMark(ctx context.Context, store uuid.UUID, name, mark string, admission uuid.UUID, by string) (before string, err error) {
	err = db.q.QueryRow(ctx, `select a.version from mark m join admission a on a.id = m.admission where m.store = $1 and m.name = $2 and m.mark = $3`, store, name, mark).Scan(&before)
	if err != nil && !errors.Is(err, pgx.ErrNoRows) {
		return "", err
	}
	return before, db.exec(ctx, `insert into mark (store, name, mark, admission, set_by) values ($1, $2, $3, $4, $5)
		on conflict (store, name, mark) do update set admission = excluded.admission, set_by = excluded.set_by, set_at = now()`, store, name, mark, admission, by)
}

// Promotion row.
type Promotion struct {
	ID        uuid.UUID
	From      string
	To        string
	Accepted  bool
	Cause     string
	By        string
	Note      string
	Mark      string
	Revision  int
	Verdicts  []promotion.Verdict
	CreatedAt time.Time
}

const promotionColumns = `p.id, os.name || '/' || o.name || '@' || o.version as "from", s.name as "to", p.accepted, p.cause, p.by, p.note, p.mark, p.revision, p.verdicts, p.created_at
	from promotion p join admission o on o.id = p.origin join store os on os.id = o.store join store s on s.id = p.store`

// AddPromotion keeps a promotion that was asked for, accepted or not.
func (db *DB) AddPromotion(ctx context.Context, p Promotion, origin, store uuid.UUID, made *uuid.UUID) error {
	return db.exec(ctx, `insert into promotion (id, origin, store, made, by, note, mark, accepted, cause, revision, verdicts)
		values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11)`,
		p.ID, origin, store, made, p.By, p.Note, p.Mark, p.Accepted, p.Cause, p.Revision, notNil(p.Verdicts))
}

// PromotionsFrom lists the promotions asked for from an admission, newest first.
func (db *DB) PromotionsFrom(ctx context.Context, admission uuid.UUID) ([]Promotion, error) {
	return many[Promotion](ctx, db, `select `+promotionColumns+` where p.origin = $1 order by p.created_at desc`, admission)
}

// PromotionThatMade finds the promotion that made an admission; ok is false when a build or a
// person did.
func (db *DB) PromotionThatMade(ctx context.Context, admission uuid.UUID) (p Promotion, ok bool, err error) {
	list, err := many[Promotion](ctx, db, `select `+promotionColumns+` where p.made = $1`, admission)
	if err != nil || len(list) == 0 {
		return p, false, err
	}
	return list[0], true, nil
}

// PromotionsNamed lists the promotions of a name in a project, newest first.
func (db *DB) PromotionsNamed(ctx context.Context, project uuid.UUID, name string, most int) ([]Promotion, error) {
	return many[Promotion](ctx, db, `select `+promotionColumns+` where os.project = $1 and o.name = $2 order by p.created_at desc limit $3`, project, name, most)
}

// CountPromotions counts the promotions of projects that were accepted and refused.
func (db *DB) CountPromotions(ctx context.Context) (accepted, refused int, err error) {
	err = db.q.QueryRow(ctx, `select count(*) filter (where accepted), count(*) filter (where not accepted) from promotion`).Scan(&accepted, &refused)
	return accepted, refused, err
}
