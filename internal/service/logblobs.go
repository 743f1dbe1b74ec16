package service

import (
	"bytes"
	"cmp"
	"context"
	"io"
	"slices"

	"github.com/google/uuid"
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
	read, write := io.Pipe()
	go func() { write.CloseWithError(s.copySegments(ctx, build, &b, write)) }()
	var err error
	if b.Digest, b.Size, err = s.blobs.Put(read); err != nil {
		return read.CloseWithError(err)
	}
	return s.DB.AddLogBlob(ctx, build, b)
}

// copySegments writes the bodies of a log's segments one after the other, and notes where each stands.
func (s *Service) copySegments(ctx context.Context, build uuid.UUID, b *database.LogBlob, w io.Writer) error {
	for next := int64(1); ; {
		list, err := s.DB.SegmentsOf(ctx, build, b.Run, b.Fence, next, 1<<62, segmentsAtOnce)
		if err != nil || len(list) == 0 {
			return err
		}
		for _, g := range list {
			if _, err := w.Write(g.Body); err != nil {
				return err
			}
			b.Places = append(b.Places, database.LogPlace{At: g.At, First: g.First, Lines: g.Lines, Length: int64(len(g.Body))})
			b.Lines = g.First + int64(g.Lines) - 1
			next = b.Lines + 1
		}
	}
}

// segmentsAfter is (*DB).SegmentsAfter over logs that are blobs as well.
func (s *Service) segmentsAfter(ctx context.Context, build uuid.UUID, at int64, most int) ([]database.Segment, error) {
	list, err := s.DB.SegmentsAfter(ctx, build, at, most)
	if err != nil {
		return nil, err
	}
	blobs, err := s.DB.LogBlobs(ctx, build) // asked second: a log that becomes a blob meanwhile is in one of both
	if err != nil {
		return nil, err
	}
	for _, b := range blobs {
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

// segmentsOf is (*DB).SegmentsOf over logs that are blobs as well.
func (s *Service) segmentsOf(ctx context.Context, build uuid.UUID, k database.LogKey, first, last int64, most int) ([]database.Segment, error) {
	list, err := s.DB.SegmentsOf(ctx, build, k.Run, k.Fence, first, last, most)
	if err != nil || len(list) > 0 {
		return list, err
	}
	b, ok, err := s.DB.LogBlobOf(ctx, build, k)
	if err != nil || !ok {
		return nil, err
	}
	return s.segmentsIn(b, most, func(p database.LogPlace) bool { return p.First+int64(p.Lines) > first && p.First <= last })
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
