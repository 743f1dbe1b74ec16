package service

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"slices"
	"sync"
	"time"

	"github.com/google/uuid"
	"oskeld.dev/oskeld/internal/core/artifact"
	"oskeld.dev/oskeld/internal/core/fault"
	"oskeld.dev/oskeld/internal/core/view"
	"oskeld.dev/oskeld/internal/database"
)

// Right is what a deed asks of who does it. Higher rights in a project hold the lower ones.
type Right int

const (
	Open    Right = iota // anybody
	Known                // anybody who has signed in
	Read                 // see what a project has
	BuildIt              // start, stop and deliver
	Promote              // move artifacts up
	Manage               // set a project up
	Own                  // set the service up
	AsAgent              // agents only
	AsStage              // agents' stage runs, or people who may read
)

func (r Right) String() string {
	return [...]string{"open", "known", "read", "build", "promote", "manage", "own", "agent", "stage"}[r]
}

// Roles in a project, weakest first, with the right that each has.
var Roles = map[string]Right{"read": Read, "build": BuildIt, "promote": Promote, "manage": Manage}

// scopes limit a token to less than its person may do.
var scopes = map[string]Right{"read": Read, "build": BuildIt, "all": Own}

// Actor is who does a deed: a person, an agent, or a stage run.
type Actor struct {
	Name    string
	person  uuid.UUID
	Shown   string
	Owner   bool
	Scope   string
	Session bool
	token   uuid.UUID
	Agent   *database.Agent
	Stage   *database.ChainHolder
}

// IsPerson tells a person from an agent or a stage run.
func (a Actor) IsPerson() bool { return a.Agent == nil && a.Stage == nil }

// Digest is under which a token is kept.
func digestOf(token string) []byte {
	sum := sha256.Sum256([]byte(token))
	return sum[:]
}

// Kinds of token, told apart by their beginning, so that a leaked one can be recognised.
const (
	personToken = "okp_"
	agentToken  = "oka_"
	stageToken  = "oks_"
	joinToken   = "okj_"
)

func newToken(kind string) (text string, digest []byte) {
	text = kind + rand.Text()
	return text, digestOf(text)
}

// Actor finds who holds a token; errors are of kind unknown.
func (s *Service) Actor(ctx context.Context, token string) (Actor, error) {
	if len(token) < 8 {
		return Actor{}, fault.Unknown("the token is not known").Hint("sign in: oskeld login")
	}
	switch token[:4] {
	case agentToken:
		a, err := s.DB.AgentByDigest(ctx, digestOf(token))
		return Actor{Name: "agent " + a.Name, Agent: &a}, err
	case stageToken:
		c, err := s.DB.ChainByToken(ctx, digestOf(token))
		return Actor{Name: "build " + c.Pipeline, Stage: &c, Scope: "build"}, err
	}
	h, err := s.DB.Holder(ctx, digestOf(token))
	return Actor{Name: h.Name, person: h.Person, Shown: h.Shown, Owner: h.Owner, Scope: h.Scope, Session: h.Session, token: h.Token}, err
}

// may tells whether an actor has a right in a project. Who may not even read it is told that it
// is not there.
func (s *Service) may(ctx context.Context, a Actor, project uuid.UUID, want Right, what string) error {
	have, err := s.right(ctx, a, project)
	switch {
	case err != nil:
		return err
	case have < Read:
		return fault.Missing("no %s", what)
	case have < want:
		return fault.Refused("you may not do this with %s: it needs the right %q", what, want).
			Hint("ask someone who manages the project: oskeld project member PROJECT PERSON %s", want)
	case scopes[a.Scope] < want:
		return fault.Refused("this token may only %s", a.Scope).Hint("sign in yourself, or make a token of a wider scope")
	}
	return nil
}

func (s *Service) right(ctx context.Context, a Actor, project uuid.UUID) (Right, error) {
	switch {
	case a.Agent != nil:
		return Open, nil
	case a.Stage != nil:
		if a.Stage.Project == project {
			return BuildIt, nil
		}
		return Open, nil
	case a.Owner:
		return Own, nil
	}
	role, err := s.DB.Role(ctx, project, a.person)
	return Roles[role], err
}

// owns demands the right to set the service up.
func owns(a Actor) error {
	if !a.Owner || scopes[a.Scope] < Own {
		return fault.Refused("only an owner of this service may do this")
	}
	return nil
}

// projects lists what an actor may read.
func (s *Service) projects(ctx context.Context, a Actor) ([]uuid.UUID, error) {
	switch {
	case a.Stage != nil:
		return []uuid.UUID{a.Stage.Project}, nil
	case a.Agent != nil:
		return []uuid.UUID{}, nil
	case a.Owner:
		all, err := s.DB.Projects(ctx)
		ids := make([]uuid.UUID, len(all))
		for i, p := range all {
			ids[i] = p.ID
		}
		return ids, err
	}
	return s.DB.ProjectsOf(ctx, a.person)
}

// attempts slows down whoever tries passwords: after five wrong ones for a name, or from an
// address, each further one must wait longer, up to a minute.
type attempts struct {
	mu   sync.Mutex
	last map[string]attempt
}

type attempt struct {
	wrong int
	at    time.Time
}

func (t *attempts) wait(keys ...string) time.Duration {
	t.mu.Lock()
	defer t.mu.Unlock()
	var wait time.Duration
	for _, k := range keys {
		a := t.last[k]
		if a.wrong >= 5 {
			pause := min(time.Minute, time.Second<<min(a.wrong-5, 6))
			wait = max(wait, time.Until(a.at.Add(pause)))
		}
	}
	return wait
}

func (t *attempts) note(wrong bool, keys ...string) {
	t.mu.Lock()
	defer t.mu.Unlock()
	for k, a := range t.last {
		if time.Since(a.at) > 15*time.Minute {
			delete(t.last, k)
		}
	}
	for _, k := range keys {
		if !wrong {
			delete(t.last, k)
		} else {
			t.last[k] = attempt{t.last[k].wrong + 1, time.Now()}
		}
	}
}

// SignIn checks a password and gives a session's token, good for twelve hours.
func (s *Service) SignIn(ctx context.Context, name, password, address string) (token string, err error) {
	byName, byAddress := "name "+name, "address "+address
	if wait := s.tries.wait(byName, byAddress); wait > 0 {
		return "", fault.Refused("too many wrong passwords").Hint("try again in %d s", int(wait.Seconds())+1)
	}
	p, err := s.DB.Person(ctx, name)
	if err != nil && !fault.Is(err, fault.KindMissing) {
		return "", err
	}
	if !fits(p.Password, password) || err != nil { // an unknown name takes as long as a wrong password
		s.tries.note(true, byName, byAddress)
		if err := s.DB.AddRecord(ctx, name, "sign-in refused", "person "+name, map[string]string{"address": address}); err != nil {
			return "", err
		}
		return "", fault.Unknown("the name or the password is wrong")
	}
	s.tries.note(false, byName)
	token, digest := newToken(personToken)
	t := database.Token{ID: newID(), Digest: digest, Person: p.ID, Name: "session", Scope: "all", Session: true, EndsAt: time.Now().Add(12 * time.Hour)}
	return token, s.DB.AddToken(ctx, t)
}

// SignOut ends the session or token that the actor came with.
func (s *Service) SignOut(ctx context.Context, a Actor) error {
	if !a.IsPerson() {
		return nil
	}
	return s.DB.EndToken(ctx, a.person, a.token)
}

// AddToken makes a token for the actor's own programs, shown once.
func (s *Service) AddToken(ctx context.Context, a Actor, name, scope string, length time.Duration) (string, view.Token, error) {
	if _, ok := scopes[scope]; !ok {
		return "", view.Token{}, fault.Invalid("%q is not a scope", scope).On("scope").Hint("read, build or all")
	}
	if scopes[scope] > scopes[a.Scope] {
		return "", view.Token{}, fault.Refused("a token of scope %q cannot make one of scope %q", a.Scope, scope)
	}
	if length <= 0 || length > 366*24*time.Hour {
		return "", view.Token{}, fault.Invalid("a token lasts between a moment and a year").On("lasts")
	}
	if _, err := artifact.ParseName("name", name); err != nil {
		return "", view.Token{}, err
	}
	text, digest := newToken(personToken)
	t := database.Token{ID: newID(), Digest: digest, Person: a.person, Name: name, Scope: scope, EndsAt: time.Now().Add(length).UTC()}
	if err := s.DB.AddToken(ctx, t); err != nil {
		return "", view.Token{}, err
	}
	return text, tokenView(t), s.DB.AddRecord(ctx, a.Name, "token added", "person "+a.Name, map[string]string{"token": name, "scope": scope})
}

func tokenView(t database.Token) view.Token {
	return view.Token{ID: t.ID.String(), Name: t.Name, Scope: t.Scope, EndsAt: t.EndsAt, CreatedAt: t.CreatedAt}
}

// Tokens lists the actor's own tokens.
func (s *Service) Tokens(ctx context.Context, a Actor) ([]view.Token, error) {
	list, err := s.DB.Tokens(ctx, a.person)
	return mapped(list, tokenView), err
}

// EndToken ends one of the actor's own tokens.
func (s *Service) EndToken(ctx context.Context, a Actor, id string) error {
	key, err := uuid.Parse(id)
	if err != nil {
		return fault.Missing("no token %q of yours", id)
	}
	return s.DB.EndToken(ctx, a.person, key)
}

// AddPerson makes an account.
func (s *Service) AddPerson(ctx context.Context, a Actor, name, shown, password string, owner bool) error {
	if err := owns(a); err != nil {
		return err
	}
	return s.addPerson(ctx, a.Name, name, shown, password, owner)
}

func (s *Service) addPerson(ctx context.Context, by, name, shown, password string, owner bool) error {
	if _, err := artifact.ParseName("person", name); err != nil {
		return err
	}
	hash, err := hashPassword(password)
	if err != nil {
		return err
	}
	if shown == "" {
		shown = name
	}
	if err := s.DB.AddPerson(ctx, database.Person{ID: newID(), Name: name, Shown: shown, Password: hash, Owner: owner}); err != nil {
		return err
	}
	return s.DB.AddRecord(ctx, by, "person added", "person "+name, nil)
}

// SetPassword changes the actor's own password, who must know the old one; the actor's other
// sessions end.
func (s *Service) SetPassword(ctx context.Context, a Actor, old, fresh string) error {
	if !a.IsPerson() || !a.Session {
		return fault.Refused("a password is changed from a session, not with a token").Hint("sign in: oskeld login")
	}
	p, err := s.DB.Person(ctx, a.Name)
	if err != nil {
		return err
	}
	if !fits(p.Password, old) {
		return fault.Refused("the old password is wrong")
	}
	hash, err := hashPassword(fresh)
	if err != nil {
		return err
	}
	if err := s.DB.SetPassword(ctx, a.person, hash, a.token); err != nil {
		return err
	}
	return s.DB.AddRecord(ctx, a.Name, "password changed", "person "+a.Name, nil)
}

// FirstPerson makes the owner of a service that has no people yet; false when it has.
func (s *Service) FirstPerson(ctx context.Context, name, shown, password string) (bool, error) {
	people, err := s.DB.People(ctx)
	if err != nil || len(people) > 0 {
		return false, err
	}
	return true, s.addPerson(ctx, "serve", name, shown, password, true)
}

// People lists the accounts.
func (s *Service) People(ctx context.Context, a Actor) ([]view.Person, error) {
	if err := owns(a); err != nil {
		return nil, err
	}
	list, err := s.DB.People(ctx)
	return mapped(list, func(p database.Person) view.Person {
		return view.Person{Name: p.Name, Shown: p.Shown, Owner: p.Owner, CreatedAt: p.CreatedAt}
	}), err
}

// mapped turns rows into views; an empty list is not nil, so that it is [] in JSON.
func mapped[A, B any](list []A, f func(A) B) []B {
	out := make([]B, 0, len(list))
	for _, a := range list {
		out = append(out, f(a))
	}
	return slices.Clip(out)
}
