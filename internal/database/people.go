package database

import (
	"context"
	"time"

	"github.com/google/uuid"
	"oskeld.dev/oskeld/internal/core/fault"
)

// Person is an account; Password is an argon2id hash in PHC form.
type Person struct {
	ID        uuid.UUID
	Name      string
	Shown     string
	Password  string
	Owner     bool
	CreatedAt time.Time
}

// AddPerson makes an account. A name that is taken is a conflict.
func (db *DB) AddPerson(ctx context.Context, p Person) error {
	err := db.exec(ctx, `insert into person (id, name, shown, password, owner) values ($1, $2, $3, $4, $5)`,
		p.ID, p.Name, p.Shown, p.Password, p.Owner)
	return taken(err, "there is already a person %q", p.Name)
}

// SetPassword replaces a person's password and ends all of the person's sessions but one.
func (db *DB) SetPassword(ctx context.Context, person uuid.UUID, hash string, but uuid.UUID) error {
	return db.exec(ctx, `with ended as (delete from token where person = $1 and session and id <> $3)
		update person set password = $2 where id = $1`, person, hash, but)
}

// Person finds an account by name.
func (db *DB) Person(ctx context.Context, name string) (Person, error) {
	return one[Person](ctx, db, missing("no person %q", name),
		`select id, name, shown, password, owner, created_at from person where name = $1`, name)
}

// People lists all accounts by name.
func (db *DB) People(ctx context.Context) ([]Person, error) {
	return many[Person](ctx, db, `select id, name, shown, password, owner, created_at from person order by name`)
}

// Token is what a program or a browser signs in with; Digest is the SHA-256 of its text.
type Token struct {
	ID        uuid.UUID
	Digest    []byte
	Person    uuid.UUID
	Name      string
	Scope     string
	Session   bool
	EndsAt    time.Time
	CreatedAt time.Time
}

// AddToken keeps a token's digest until it ends.
func (db *DB) AddToken(ctx context.Context, t Token) error {
	return db.exec(ctx, `insert into token (id, digest, person, name, scope, session, ends_at) values ($1, $2, $3, $4, $5, $6, $7)`,
		t.ID, t.Digest, t.Person, t.Name, t.Scope, t.Session, t.EndsAt)
}

// Holder is who a token stands for.
type Holder struct {
	Token   uuid.UUID
	Person  uuid.UUID
	Name    string
	Shown   string
	Owner   bool
	Scope   string
	Session bool
}

// Holder finds who holds the token of a digest; kind unknown when nobody does, or no longer.
func (db *DB) Holder(ctx context.Context, digest []byte) (Holder, error) {
	return one[Holder](ctx, db, func() error {
		return fault.Unknown("the token is not known, or has ended").Hint("sign in again: oskeld login")
	},
		`select t.id as token, p.id as person, p.name, p.shown, p.owner, t.scope, t.session
		from token t join person p on p.id = t.person where t.digest = $1 and t.ends_at > now()`, digest)
}

// Tokens lists a person's tokens that are no sessions, newest first.
func (db *DB) Tokens(ctx context.Context, person uuid.UUID) ([]Token, error) {
	return many[Token](ctx, db, `select id, digest, person, name, scope, session, ends_at, created_at from token
		where person = $1 and not session order by created_at desc`, person)
}

// EndToken ends a token of a person at once.
func (db *DB) EndToken(ctx context.Context, person, id uuid.UUID) error {
	tag, err := db.q.Exec(ctx, `delete from token where id = $1 and person = $2`, id, person)
	if err == nil && tag.RowsAffected() == 0 {
		return fault.Missing("no such token of yours")
	}
	return err
}

// SetMember gives a person a role in a project.
func (db *DB) SetMember(ctx context.Context, project, person uuid.UUID, role string) error {
	return db.exec(ctx, `insert into member (project, person, role) values ($1, $2, $3)
		on conflict (project, person) do update set role = excluded.role`, project, person, role)
}

// RemoveMember takes a person out of a project.
func (db *DB) RemoveMember(ctx context.Context, project, person uuid.UUID) error {
	return db.exec(ctx, `delete from member where project = $1 and person = $2`, project, person)
}

// Role is a person's role in a project, "" for none.
func (db *DB) Role(ctx context.Context, project, person uuid.UUID) (string, error) {
	roles, err := column[string](ctx, db, `select role from member where project = $1 and person = $2`, project, person)
	if err != nil || len(roles) == 0 {
		return "", err
	}
	return roles[0], nil
}

// MemberRow is a member of a project by name.
type MemberRow struct{ Person, Role string }

// Members lists a project's people by name.
func (db *DB) Members(ctx context.Context, project uuid.UUID) ([]MemberRow, error) {
	return many[MemberRow](ctx, db, `select p.name as person, m.role from member m join person p on p.id = m.person
		where m.project = $1 order by p.name`, project)
}

// ProjectsOf lists the projects that a person is a member of.
func (db *DB) ProjectsOf(ctx context.Context, person uuid.UUID) ([]uuid.UUID, error) {
	return column[uuid.UUID](ctx, db, `select project from member where person = $1`, person)
}
