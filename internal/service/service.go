// Package service is what Oskeld does, one file a deed: start a build, hand out an assignment,
// take a report, deliver, promote, trace. It knows no HTTP; errors are faults.
//
//	s, err := service.New(ctx, service.Options{DB: db, Dir: dir, Key: key})
//	go s.Run(ctx)
//	build, err := s.Start(ctx, actor, "hivebook", service.StartOptions{Ref: "main"})
//
// Any number of services may share a database, a directory of blobs and a key; any may die.
package service

import (
	"context"
	"crypto/ed25519"
	"log/slog"
	"path/filepath"
	"sync"
	"time"

	"github.com/google/uuid"
	"oskeld.dev/oskeld/internal/blob"
	"oskeld.dev/oskeld/internal/core/fault"
	"oskeld.dev/oskeld/internal/database"
	"oskeld.dev/oskeld/internal/git"
)

// Version of this program, shown in status and logs.
const Version = "0.1.0"

// Options for New. Key seals secrets and credentials and never enters the database. URL is where
// people reach the service. Lease is how long an agent may be silent before its work is handed
// out again.
type Options struct {
	DB    *database.DB
	Dir   string
	Key   [32]byte
	URL   string
	Lease time.Duration
	Log   *slog.Logger
}

// Service is one process of any number.
type Service struct {
	Options
	Hub     *Hub
	blobs   *blob.Disk
	seal    sealer
	signing ed25519.PrivateKey
	tries   attempts
	looking chan struct{} // who looks for work now
	logs    *logSizes
	waiting waitingDemands
}

// New opens the blobs, checks that the key is the one that this database was begun with, and
// makes the signing key on first start.
func New(ctx context.Context, o Options) (*Service, error) {
	if o.Lease == 0 {
		o.Lease = 30 * time.Second
	}
	if o.Log == nil {
		o.Log = slog.Default()
	}
	disk, err := blob.Open(filepath.Join(o.Dir, "store"))
	if err != nil {
		return nil, err
	}
	seal, err := newSealer(o.Key)
	if err != nil {
		return nil, err
	}
	s := &Service{Options: o, Hub: newHub(o.DB, o.Log), blobs: disk, seal: seal, tries: attempts{last: map[string]attempt{}}, looking: make(chan struct{}, 1), logs: newLogSizes()}
	if err := s.checkKey(ctx); err != nil {
		return nil, err
	}
	return s, s.loadSigningKey(ctx)
}

const keyProof = "oskeld key proof"

// checkKey refuses a key that does not open what this database holds.
func (s *Service) checkKey(ctx context.Context) error {
	sealed, err := s.seal.seal([]byte(keyProof))
	if err != nil {
		return err
	}
	if sealed, err = s.DB.KeepSetting(ctx, "key-proof", sealed); err != nil {
		return err
	}
	if text, err := s.seal.open(sealed); err != nil || string(text) != keyProof {
		return fault.Refused("the key does not fit this database: its secrets were sealed with another").
			Hint("give every service the same key file (--key), the one that this database was begun with")
	}
	return nil
}

func (s *Service) loadSigningKey(ctx context.Context) error {
	_, fresh, err := ed25519.GenerateKey(nil)
	if err != nil {
		return err
	}
	sealed, err := s.seal.seal(fresh)
	if err != nil {
		return err
	}
	if sealed, err = s.DB.KeepSetting(ctx, "signing-key", sealed); err != nil {
		return err
	}
	key, err := s.seal.open(sealed)
	s.signing = ed25519.PrivateKey(key)
	return err
}

// PublicKey is the key that statements are checked with.
func (s *Service) PublicKey() ed25519.PublicKey { return s.signing.Public().(ed25519.PublicKey) }

// Ready tells whether the service can do its work: the database answers, with the schema that
// this program knows.
func (s *Service) Ready(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, 2*time.Second)
	defer cancel()
	fresh, err := s.DB.Fresh(ctx)
	if err != nil {
		return fault.Unavailable("the database does not answer").Because(err)
	}
	if !fresh {
		return fault.Unavailable("the database has a schema that this program does not know").Hint("run the newest oskeld")
	}
	return nil
}

// Unavailable tells whether an error means that the database does not answer now.
func Unavailable(err error) bool { return database.Unavailable(err) }

// Run does what no call asks for: it follows the news, hands out lost work again, does errands,
// looks at sources and at the clock, until ctx ends.
func (s *Service) Run(ctx context.Context) {
	var loops sync.WaitGroup
	loops.Go(func() { s.Hub.run(ctx) })
	loops.Go(func() { s.watchLeases(ctx) })
	loops.Go(func() { s.runErrands(ctx) })
	loops.Go(func() { s.watchSources(ctx) })
	loops.Go(func() { s.watchClocks(ctx) })
	loops.Wait()
}

// every calls f now, and again each time the wait is over or topic has news, until ctx ends.
func (s *Service) every(ctx context.Context, wait time.Duration, topic string, f func()) {
	news, cancel := s.Hub.Subscribe(topic)
	defer cancel()
	for ctx.Err() == nil {
		f()
		select {
		case <-ctx.Done():
		case <-news:
		case <-time.After(wait):
		}
	}
}

// source is the copy of a source that this service keeps, with its credential.
func (s *Service) source(src database.Source) (git.Copy, git.Remote, error) {
	credential, err := s.openCredential(src.Credential)
	remote := git.Remote{URL: src.URL, Credential: credential}
	return git.CopyAt(filepath.Join(s.Dir, "sources", src.ID.String()), remote), remote, err
}

func newID() uuid.UUID { return uuid.Must(uuid.NewV7()) }
