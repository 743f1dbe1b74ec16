package agent

import (
	"context"
	"os"
	"path/filepath"
	"slices"
	"strings"
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
	s.segment(assignment.Segment{Seq: 1, Body: []byte("one")})
	s.event(assignment.Event{Kind: assignment.RunEnded, State: progress.Passed})
	s.end()
	var told []string
	for {
		items := s.next(t.Context())
		if len(items) == 0 {
			break
		}
		if item := items[0]; item.report != nil {
			told = append(told, string(item.report.Events[0].Kind))
			if item.report.Number != int64(len(told)+1)/2 || item.report.Fence != 3 {
				t.Errorf("report %+v", item.report)
			}
			continue
		}
		if bodies := bodies(t, s, items); bodies != "one" {
			t.Error(bodies)
		}
		told = append(told, "log")
		s.done(items)
	}
	if len(told) != 3 || told[0] != "started" || told[1] != "log" || told[2] != "ended" {
		t.Errorf("told %v", told)
	}
	for range 3 { // the file begins anew, for nothing of it is wanted any more
		s.segment(assignment.Segment{Seq: 2, Body: []byte("two")})
		s.segment(assignment.Segment{Seq: 3, Body: []byte("three")})
		items := s.next(t.Context())
		if bodies := bodies(t, s, items); bodies != "two three" {
			t.Error(bodies)
		}
		s.done(items)
	}
	if info, err := os.Stat(filepath.Join(dir, "log")); err != nil || info.Size() != 8 {
		t.Errorf("the file has %d bytes: %v", info.Size(), err)
	}
	s.remove()
	if _, err := os.Stat(dir); err == nil {
		t.Error("the spool is left on the disk")
	}
}

func bodies(t *testing.T, s *spool, items []spooled) string {
	t.Helper()
	segments, err := s.segments(items)
	if err != nil {
		t.Error(err)
	}
	var list []string
	for _, g := range segments {
		list = append(list, string(g.Body))
	}
	return strings.Join(list, " ")
}

// Pieces of logs are told together as long as the service takes so many, a report on its own.
func TestSpoolTellsTogether(t *testing.T) {
	s, _ := newSpool(t.TempDir(), assignment.Key{})
	for range assignment.MostSegments + 6 {
		s.segment(assignment.Segment{Body: []byte("x")})
	}
	s.event(assignment.Event{Kind: assignment.RunEnded})
	s.event(assignment.Event{Kind: assignment.RunStarted})
	for range 3 {
		s.segment(assignment.Segment{Body: make([]byte, assignment.MostSegmentBytes/2)})
	}
	s.segment(assignment.Segment{Body: make([]byte, 2*assignment.MostSegmentBytes)})
	s.segment(assignment.Segment{Body: []byte("x")})
	s.end()
	var told []int
	for items := s.next(t.Context()); len(items) > 0; items = s.next(t.Context()) {
		told = append(told, len(items))
	}
	if want := []int{assignment.MostSegments, 6, 1, 1, 2, 1, 1, 1}; !slices.Equal(told, want) {
		t.Errorf("told %v, want %v", told, want)
	}
}

func TestSpoolWaitsAndGivesUp(t *testing.T) {
	s, _ := newSpool(t.TempDir(), assignment.Key{})
	got := make(chan bool)
	go func() { got <- len(s.next(t.Context())) > 0 }()
	s.event(assignment.Event{})
	if !<-got {
		t.Error("an item came, and was not given")
	}
	ctx, cancel := context.WithCancel(t.Context())
	go func() { got <- len(s.next(ctx)) > 0 }()
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
	s.segment(assignment.Segment{Seq: 1, Body: []byte("x")})
	s.event(assignment.Event{Kind: assignment.RunEnded})
	items := s.next(t.Context())
	if len(items) != 1 || items[0].report == nil || len(items[0].report.Events[0].Notes) != 1 {
		t.Errorf("%+v", items)
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
