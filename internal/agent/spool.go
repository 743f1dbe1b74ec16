package agent

import (
	"context"
	"os"
	"path/filepath"
	"sync"

	"oskeld.dev/oskeld/internal/core/assignment"
	"oskeld.dev/oskeld/internal/runner"
)

// spool keeps what is to be told of an assignment, in order: reports in memory, which are few and
// small, pieces of logs in a file, for they may be many while the service is away. The file begins anew
// whenever all of it has been told.
type spool struct {
	dir    string
	key    assignment.Key
	mu     sync.Mutex
	items  []spooled
	file   *os.File
	size   int64 // of what is written in the file
	untold int   // pieces in it
	number int64
	ended  bool
	broken error
	wake   chan struct{}
}

// spooled is a report, or a piece of a log that lies in the file.
type spooled struct {
	report     *assignment.Report
	head       runner.Segment // without its body
	at, length int64
}

func newSpool(dir string, key assignment.Key) (*spool, error) {
	return &spool{dir: dir, key: key, wake: make(chan struct{}, 1)}, os.MkdirAll(dir, 0o700)
}

func (s *spool) remove() {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.file != nil {
		s.file.Close()
	}
	os.RemoveAll(s.dir)
}

// body reads a piece of a log.
func (s *spool) body(i spooled) ([]byte, error) {
	body := make([]byte, i.length)
	_, err := s.file.ReadAt(body, i.at)
	return body, err
}

// done forgets what has been told.
func (s *spool) done(i spooled) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if i.report != nil {
		return
	}
	if s.untold--; s.untold == 0 {
		s.size = 0
	}
}

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
	s.mu.Lock()
	defer s.mu.Unlock()
	if err := s.write(g.Body); err != nil {
		s.broken = err
		return
	}
	i := spooled{at: s.size, length: int64(len(g.Body))}
	s.size += i.length
	s.untold++
	g.Body = nil
	i.head = g
	s.push(i)
}

func (s *spool) write(body []byte) (err error) {
	if s.file == nil {
		if s.file, err = os.OpenFile(filepath.Join(s.dir, "log"), os.O_CREATE|os.O_RDWR|os.O_TRUNC, 0o600); err != nil {
			s.file = nil
			return err
		}
	}
	_, err = s.file.WriteAt(body, s.size)
	return err
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
