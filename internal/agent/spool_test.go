package agent

import (
	"context"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"testing"
	"testing/synctest"

	"oskeld.dev/oskeld/internal/client"
	"oskeld.dev/oskeld/internal/core/artifact"
	"oskeld.dev/oskeld/internal/core/assignment"
	"oskeld.dev/oskeld/internal/core/bundle"
	"oskeld.dev/oskeld/internal/core/fault"
	"oskeld.dev/oskeld/internal/core/progress"
	"oskeld.dev/oskeld/internal/runner"
)

// What happened is told in the order in which it happened, reports numbered from 1, and a piece of
// a log is forgotten once it was told.
func TestSpoolKeepsOrder(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "spool")
	s, err := newSpool(dir, assignment.Key{Build: "b", Fence: 3})
	if err != nil {
		t.Fatal(err)
	}
	s.event(assignment.Event{Kind: assignment.RunStarted})
	s.segment(runner.Segment{Seq: 1, Body: []byte("one")})
	s.event(assignment.Event{Kind: assignment.RunEnded, State: progress.Passed})
	s.end()
	var told []string
	for {
		item, ok := s.next(t.Context())
		if !ok {
			break
		}
		if item.report != nil {
			told = append(told, string(item.report.Events[0].Kind))
			if item.report.Number != int64(len(told)+1)/2 || item.report.Fence != 3 {
				t.Errorf("report %+v", item.report)
			}
			continue
		}
		body, err := s.body(item)
		if err != nil || string(body) != "one" {
			t.Error(string(body), err)
		}
		told = append(told, "log")
		s.done(item)
	}
	if len(told) != 3 || told[0] != "started" || told[1] != "log" || told[2] != "ended" {
		t.Errorf("told %v", told)
	}
	for range 3 { // the file begins anew, for nothing of it is wanted any more
		s.segment(runner.Segment{Seq: 2, Body: []byte("two")})
		s.segment(runner.Segment{Seq: 3, Body: []byte("three")})
		for _, want := range []string{"two", "three"} {
			item, _ := s.next(t.Context())
			if body, err := s.body(item); err != nil || string(body) != want {
				t.Errorf("%q %v", body, err)
			}
			s.done(item)
		}
	}
	if info, err := os.Stat(filepath.Join(dir, "log")); err != nil || info.Size() != 8 {
		t.Errorf("the file has %d bytes: %v", info.Size(), err)
	}
	s.remove()
	if _, err := os.Stat(dir); err == nil {
		t.Error("the spool is left on the disk")
	}
}

func TestSpoolWaitsAndGivesUp(t *testing.T) {
	s, _ := newSpool(t.TempDir(), assignment.Key{})
	got := make(chan bool)
	go func() { _, ok := s.next(t.Context()); got <- ok }()
	s.event(assignment.Event{})
	if !<-got {
		t.Error("an item came, and was not given")
	}
	ctx, cancel := context.WithCancel(t.Context())
	go func() { _, ok := s.next(ctx); got <- ok }()
	cancel()
	if <-got {
		t.Error("something was given out of nothing")
	}
}

// A disk that is full under the spool loses log, says so, and does not stop the build.
func TestSpoolOnBrokenDisk(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "spool")
	s, _ := newSpool(dir, assignment.Key{})
	if err := os.RemoveAll(dir); err != nil {
		t.Fatal(err)
	}
	s.segment(runner.Segment{Seq: 1, Body: []byte("x")})
	s.event(assignment.Event{Kind: assignment.RunEnded})
	item, ok := s.next(t.Context())
	if !ok || item.report == nil || len(item.report.Events[0].Notes) != 1 {
		t.Errorf("%+v", item.report)
	}
}

// service stands for the far side: what it lacks, and what it was sent.
type service struct {
	lacking func([]artifact.Digest) (map[artifact.Digest]bool, error)
	away    int // bundles that find it away
	alone   []string
	bundled []string
	mu      sync.Mutex
}

func (s *service) Lacking(_ context.Context, digests []artifact.Digest) (map[artifact.Digest]bool, error) {
	return s.lacking(digests)
}

func (s *service) Upload(_ context.Context, path string, _ artifact.File, _ func(int64)) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.alone = append(s.alone, path)
	return nil
}

func (s *service) SendBundle(_ context.Context, files []client.LocalFile) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.away > 0 {
		s.away--
		return fault.Unavailable("away")
	}
	for _, f := range files {
		s.bundled = append(s.bundled, f.Path)
	}
	return nil
}

// Each digest is sent once, and only when it is lacking, small ones in bundles; the service may be away meanwhile.
func TestSend(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		one, two, big := artifact.DigestOf([]byte("1")), artifact.DigestOf([]byte("2")), artifact.DigestOf([]byte("3"))
		files := []runner.SendFile{{Path: "a", File: artifact.File{Digest: one}}, {Path: "b", File: artifact.File{Digest: one}}, {Path: "c", File: artifact.File{Digest: two}},
			{Path: "d", File: artifact.File{Digest: big, Size: bundle.MostFile + 1}}}
		asked := 0
		s := &service{away: 1, lacking: func(digests []artifact.Digest) (map[artifact.Digest]bool, error) {
			if asked++; asked == 1 {
				return nil, fault.Unavailable("away")
			}
			if len(digests) != 3 {
				t.Errorf("asked for %v", digests)
			}
			return map[artifact.Digest]bool{one: true, big: true}, nil
		}}
		if err := send(t.Context(), s, files); err != nil {
			t.Fatal(err)
		}
		if !slices.Equal(s.bundled, []string{"a"}) || !slices.Equal(s.alone, []string{"d"}) {
			t.Errorf("sent %v bundled and %v alone", s.bundled, s.alone)
		}
		s = &service{lacking: func([]artifact.Digest) (map[artifact.Digest]bool, error) { return nil, fault.Refused("no") }}
		if err := send(t.Context(), s, files); !fault.Is(err, fault.KindRefused) {
			t.Error(err)
		}
	})
}

func TestBundles(t *testing.T) {
	var files []client.LocalFile
	for range bundle.MostFiles + 1 {
		files = append(files, client.LocalFile{})
	}
	for range 130 {
		files = append(files, client.LocalFile{File: artifact.File{Size: bundle.MostFile}})
	}
	total := 0
	for i, group := range client.Bundles(files) {
		size := int64(0)
		for _, f := range group {
			size += f.Size
		}
		if total += len(group); len(group) == 0 || len(group) > bundle.MostFiles || size > bundle.MostBytes {
			t.Errorf("group %d holds %d files, %d bytes", i, len(group), size)
		}
	}
	if total != len(files) {
		t.Errorf("%d of %d files are in a bundle", total, len(files))
	}
	if len(client.Bundles(nil)) != 0 {
		t.Error("nothing makes a bundle")
	}
}

func TestLook(t *testing.T) {
	f := runner.Look(t.Context())
	for _, name := range []string{"os", "arch", "cpus", "memory", "go", "git"} {
		if f[name] == "" {
			t.Errorf("no %s among %v", name, f)
		}
	}
	if f["os"] != "linux" {
		t.Error(f["os"])
	}
}
