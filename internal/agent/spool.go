package agent

import (
	"context"
	"os"
	"path/filepath"
	"sync"

	"oskeld.dev/oskeld/internal/core/assignment"
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
	head       assignment.Segment // without its body
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

// segments reads pieces of logs.
func (s *spool) segments(items []spooled) ([]assignment.Segment, error) {
	list := make([]assignment.Segment, len(items))
	for n, i := range items {
		list[n] = i.head
		list[n].Body = make([]byte, i.length)
		if _, err := s.file.ReadAt(list[n].Body, i.at); err != nil {
			return nil, err
		}
	}
	return list, nil
}

// done forgets what has been told.
func (s *spool) done(items []spooled) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if items[0].report != nil {
		return
	}
	if s.untold -= len(items); s.untold == 0 {
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

func (s *spool) segment(g assignment.Segment) {
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

// next waits for what comes next: a report, or as many pieces of logs as may be told at once. None when all
// is told or ctx ends.
func (s *spool) next(ctx context.Context) []spooled {
	for {
		s.mu.Lock()
		n := s.together()
		items, ended := s.items[:n:n], s.ended
		s.items = s.items[n:]
		s.mu.Unlock()
		if n > 0 || ended {
			return items
		}
		select {
		case <-ctx.Done():
			return nil
		case <-s.wake:
		}
	}
}

// together is how many of the items may be told at once.
func (s *spool) together() (n int) {
	bytes := int64(0)
	for _, i := range s.items {
		bytes += i.length
		if n > 0 && (i.report != nil || n == assignment.MostSegments || bytes > assignment.MostSegmentBytes) {
			break
		}
		n++
		if i.report != nil {
			break
		}
	}
	return n
}
