package service

import (
	"bytes"
	"cmp"
	"context"
	"io"
	"slices"
	"sync"

	"github.com/google/uuid"
	lru "github.com/hashicorp/golang-lru/v2"
	"oskeld.dev/oskeld/internal/database"
)

// segmentsAtOnce is how many segments are held in memory at a time.
const segmentsAtOnce = 64

// keepLogs makes blobs of the logs of a build that has ended, so that their text leaves the database.
func (s *Service) keepLogs(ctx context.Context, build uuid.UUID) error {
	open, err := s.DB.OpenLogs(ctx, build)
	if err != nil {
		return err
	}
	for _, k := range open {
		if err := s.keepLog(ctx, build, k); err != nil {
			return err
		}
	}
	return nil
}

func (s *Service) keepLog(ctx context.Context, build uuid.UUID, k database.LogKey) error {
	b := database.LogBlob{Run: k.Run, Fence: k.Fence, Places: []database.LogPlace{}}
	err := s.putLog(&b, func(w io.Writer) error {
		parts, err := s.DB.LogParts(ctx, build, k)
		if err != nil {
			return err
		}
		for _, p := range parts {
			if err := s.copyPart(&b, p, w); err != nil {
				return err
			}
		}
		return s.copySegments(ctx, build, &b, 0, w)
	})
	if err != nil {
		return err
	}
	return s.DB.AddLogBlob(ctx, build, b)
}

// putLog makes a blob of what write writes.
func (s *Service) putLog(b *database.LogBlob, write func(io.Writer) error) (err error) {
	read, to := io.Pipe()
	go func() { to.CloseWithError(write(to)) }()
	if b.Digest, b.Size, err = s.blobs.Put(read); err != nil {
		return read.CloseWithError(err)
	}
	return nil
}

// copyPart writes a part's body, and notes where its segments stand.
func (s *Service) copyPart(b *database.LogBlob, p database.LogBlob, w io.Writer) error {
	f, _, err := s.blobs.Read(p.Digest)
	if err != nil {
		return err
	}
	defer f.Close()
	b.Places, b.Lines = append(b.Places, p.Places...), p.Lines
	_, err = io.Copy(w, f)
	return err
}

// copySegments writes the bodies of a log's segments after b's last line one after the other, up to most
// bytes unless that is 0, and notes where each stands.
func (s *Service) copySegments(ctx context.Context, build uuid.UUID, b *database.LogBlob, most int64, w io.Writer) error {
	for copied := int64(0); ; {
		list, err := s.DB.SegmentsOf(ctx, build, b.Run, b.Fence, b.Lines+1, 1<<62, segmentsAtOnce)
		if err != nil || len(list) == 0 {
			return err
		}
		for _, g := range list {
			if copied += int64(len(g.Body)); most > 0 && copied > most {
				return nil
			}
			if _, err := w.Write(g.Body); err != nil {
				return err
			}
			b.Places = append(b.Places, database.LogPlace{At: g.At, First: g.First, Lines: g.Lines, Length: int64(len(g.Body))})
			b.Lines = g.First + int64(g.Lines) - 1
		}
	}
}

// Of a log that grows, so many bytes of packed text at most stay in the database: then all but the newest
// become a part.
const (
	mostLogInDatabase = 8 << 20
	logPart           = 6 << 20
)

// logSizes counts what this process has added to each log since its last part. One that is forgotten
// over many others begins anew.
type logSizes struct {
	mu    sync.Mutex
	bytes *lru.Cache[database.LogKeyOf, int64]
}

func newLogSizes() *logSizes {
	c, err := lru.New[database.LogKeyOf, int64](10_000)
	if err != nil {
		panic(err) // for no size but this one
	}
	return &logSizes{bytes: c}
}

// add counts bytes of a log, and tells whether it is time for a part.
func (l *logSizes) add(k database.LogKeyOf, n int) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	have, _ := l.bytes.Get(k)
	if have += int64(n); have >= mostLogInDatabase {
		l.bytes.Add(k, have-logPart)
		return true
	}
	l.bytes.Add(k, have)
	return false
}

// shorten makes a part of the older text of a log that grows.
func (s *Service) shorten(ctx context.Context, k database.LogKeyOf) error {
	parts, err := s.DB.LogParts(ctx, k.Build, k.LogKey)
	if err != nil {
		return err
	}
	b := database.LogBlob{Run: k.Run, Fence: k.Fence, Places: []database.LogPlace{}}
	if len(parts) > 0 {
		b.Lines = parts[len(parts)-1].Lines
	}
	if err := s.putLog(&b, func(w io.Writer) error { return s.copySegments(ctx, k.Build, &b, logPart, w) }); err != nil {
		return err
	}
	return s.DB.AddLogPart(ctx, k.Build, len(parts), b)
}

// segmentsAfter is (*DB).SegmentsAfter over logs that are blobs as well.
func (s *Service) segmentsAfter(ctx context.Context, build uuid.UUID, at int64, most int) ([]database.Segment, error) {
	list, err := s.DB.SegmentsAfter(ctx, build, at, most)
	if err != nil {
		return nil, err
	}
	if goesOn(list, at) { // as for nearly every follower, who need not wait for what stands in blobs
		return list, nil
	}
	if newest, err := s.DB.LogAt(ctx, build); err != nil || newest <= at {
		return nil, err
	}
	blobs, err := s.DB.LogPartsOf(ctx, build) // in this order: text that moves on meanwhile is found twice, not never
	if err != nil {
		return nil, err
	}
	whole, err := s.DB.LogBlobs(ctx, build)
	if err != nil {
		return nil, err
	}
	for _, b := range append(blobs, whole...) {
		more, err := s.segmentsIn(b, most, func(p database.LogPlace) bool { return p.At > at })
		if err != nil {
			return nil, err
		}
		list = append(list, more...)
	}
	slices.SortStableFunc(list, func(a, b database.Segment) int { return cmp.Compare(a.At, b.At) })
	list = slices.CompactFunc(list, func(a, b database.Segment) bool { return a.At == b.At })
	return list[:min(len(list), most)], nil
}

// goesOn tells whether segments follow a place, and each other, without a gap that blobs might fill.
func goesOn(list []database.Segment, at int64) bool {
	for i, g := range list {
		if g.At != at+int64(i)+1 {
			return false
		}
	}
	return len(list) > 0
}

// segmentsOf is (*DB).SegmentsOf over logs that are blobs as well.
func (s *Service) segmentsOf(ctx context.Context, build uuid.UUID, k database.LogKey, first, last int64, most int) ([]database.Segment, error) {
	list, err := s.DB.SegmentsOf(ctx, build, k.Run, k.Fence, first, last, most)
	if err != nil {
		return nil, err
	}
	parts, err := s.DB.LogParts(ctx, build, k)
	if err != nil {
		return nil, err
	}
	if len(list) == 0 || list[0].First > first && len(parts) == 0 { // it has ended, or does so meanwhile
		if b, ok, err := s.DB.LogBlobOf(ctx, build, k); err != nil {
			return nil, err
		} else if ok {
			parts = []database.LogBlob{b}
		}
	}
	wanted := func(p database.LogPlace) bool { return p.First+int64(p.Lines) > first && p.First <= last }
	var older []database.Segment
	for _, b := range parts {
		more, err := s.segmentsIn(b, most-len(older), wanted)
		if err != nil {
			return nil, err
		}
		if older = append(older, more...); len(older) >= most {
			break
		}
	}
	list = append(older, list...)
	list = slices.CompactFunc(list, func(a, b database.Segment) bool { return a.First == b.First })
	return list[:min(len(list), most)], nil
}

// segmentsIn reads those segments of a blob that are wanted, at most most: their ranges alone.
func (s *Service) segmentsIn(b database.LogBlob, most int, wanted func(database.LogPlace) bool) (list []database.Segment, err error) {
	var body io.ReaderAt
	offset := int64(0)
	for i, p := range b.Places {
		if wanted(p) {
			if body == nil {
				f, _, err := s.blobs.Read(b.Digest)
				if err != nil {
					return nil, err
				}
				defer f.Close()
				body = f
			}
			g := database.Segment{Run: b.Run, Fence: b.Fence, Seq: int64(i + 1), At: p.At, First: p.First, Lines: p.Lines}
			var text bytes.Buffer
			if _, err := io.Copy(&text, io.NewSectionReader(body, offset, p.Length)); err != nil {
				return nil, err
			}
			g.Body = text.Bytes()
			if list = append(list, g); len(list) == most {
				break
			}
		}
		offset += p.Length
	}
	return list, nil
}
