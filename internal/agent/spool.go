package agent

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"sync"

	"oskeld.dev/oskeld/internal/core/assignment"
	"oskeld.dev/oskeld/internal/runner"
)

// spool keeps what is to be told of an assignment, in order: reports in memory, which are few and
// small, pieces of logs on the disk, which may be many while the service is away.
type spool struct {
	dir    string
	key    assignment.Key
	mu     sync.Mutex
	items  []spooled
	number int64
	ended  bool
	broken error
	wake   chan struct{}
}

type spooled struct {
	report *assignment.Report
	head   runner.Segment // without its body
	path   string
}

func (i spooled) done() {
	if i.path != "" {
		os.Remove(i.path)
	}
}

func newSpool(dir string, key assignment.Key) (*spool, error) {
	return &spool{dir: dir, key: key, wake: make(chan struct{}, 1)}, os.MkdirAll(dir, 0o700)
}

func (s *spool) remove() { os.RemoveAll(s.dir) }

func (s *spool) push(i spooled) {
	s.items = append(s.items, i)
	select {
	case s.wake <- struct{}{}:
	default:
	}
}

func (s *spool) event(e assignment.Event) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.broken != nil && e.Kind == assignment.RunEnded && e.Cause == "" {
		e.Notes = append(e.Notes, "part of the log is missing: "+s.broken.Error())
	}
	s.number++
	s.push(spooled{report: &assignment.Report{Key: s.key, Number: s.number, Events: []assignment.Event{e}}})
}

func (s *spool) segment(g runner.Segment) {
	path := filepath.Join(s.dir, fmt.Sprintf("%d-%d", g.Run, g.Seq))
	err := os.WriteFile(path, g.Body, 0o600)
	s.mu.Lock()
	defer s.mu.Unlock()
	if err != nil {
		s.broken = err
		os.Remove(path)
		return
	}
	g.Body = nil
	s.push(spooled{head: g, path: path})
}

func (s *spool) end() {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.ended = true
	select {
	case s.wake <- struct{}{}:
	default:
	}
}

// next waits for the next item; false when all is told or ctx ends.
func (s *spool) next(ctx context.Context) (spooled, bool) {
	for {
		s.mu.Lock()
		if len(s.items) > 0 {
			item := s.items[0]
			s.items = s.items[1:]
			s.mu.Unlock()
			return item, true
		}
		ended := s.ended
		s.mu.Unlock()
		if ended {
			return spooled{}, false
		}
		select {
		case <-ctx.Done():
			return spooled{}, false
		case <-s.wake:
		}
	}
}
