package service

import (
	"context"
	"encoding/json"
	"strings"
	"time"

	"github.com/google/uuid"
	"oskeld.dev/oskeld/internal/core/assignment"
	"oskeld.dev/oskeld/internal/core/fault"
	"oskeld.dev/oskeld/internal/core/logtext"
	"oskeld.dev/oskeld/internal/core/view"
	"oskeld.dev/oskeld/internal/database"
)

// AddSegments keeps pieces of an assignment's logs, all or none. The same piece again changes nothing; one
// under an old fence is a conflict.
func (s *Service) AddSegments(ctx context.Context, agent database.Agent, key assignment.Key, segments []assignment.Segment) error {
	id, err := uuid.Parse(key.Build)
	if err != nil {
		return fault.Missing("no build %s", key.Build)
	}
	if _, err := s.DB.ReportCounter(ctx, database.ChainKey{Build: id, Index: key.Chain}, key.Fence, agent.ID); err != nil {
		return err
	}
	for _, g := range segments {
		lines, err := logtext.Count(g.Body)
		if err != nil {
			return err
		}
		if lines != g.Lines {
			return fault.Invalid("the segment holds %d lines, its head says %d", lines, g.Lines)
		}
	}
	added, err := s.DB.AddSegments(ctx, id, key.Fence, segments)
	if err != nil || len(added) == 0 {
		return err
	}
	s.Hub.Tell(TopicLog(key.Build))
	for _, g := range added {
		if k := (database.LogKeyOf{Build: id, LogKey: database.LogKey{Run: g.Run, Fence: key.Fence}}); s.logs.add(k, len(g.Body)) {
			if err := s.shorten(ctx, k); err != nil { // it stays in the database, and is tried again
				s.Log.Warn("the older text of a log could not be moved out of the database", "build", id, "run", g.Run, "error", err)
			}
		}
	}
	return nil
}

// FromNow is the place in a build's log at which nothing has been missed yet.
const FromNow = -1

// Follower receives what happens to a build. At is where to go on from after a break. An error
// ends the following.
type Follower struct {
	Build func(at int64, d view.BuildDetail) error
	Lines func(at int64, part view.LogPart) error
	Beat  func() error // now and then, so that a gone follower is noticed
}

// Follow tells a follower how a build is, its log from a place on, and what comes, until the build
// has ended and all is told, or ctx ends. At FromNow leaves out what was printed before.
func (s *Service) Follow(ctx context.Context, a Actor, pipeline string, number int, at int64, f Follower) error {
	id, err := s.buildID(ctx, a, pipeline, number)
	if err != nil {
		return err
	}
	moves, cancelMoves := s.Hub.Subscribe(TopicBuild(id.String()))
	defer cancelMoves()
	prints, cancelPrints := s.Hub.Subscribe(TopicLog(id.String()))
	defer cancelPrints()
	if at == FromNow {
		if at, err = s.DB.LogAt(ctx, id); err != nil {
			return err
		}
	}
	var b database.Build
	last, moved := "", true // a log that grows asks for its lines alone, not for the whole build
	for {
		if moved {
			if b, err = s.DB.BuildByID(ctx, id); err != nil {
				return err
			}
		}
		over := b.State.Over() // asked before the log is read, so that nothing comes after the last look
		for {
			segments, err := s.segmentsAfter(ctx, id, at, 32)
			if err != nil {
				return err
			}
			for _, g := range segments {
				lines, err := logtext.Unpack(g.Body, g.First)
				if err != nil {
					return err
				}
				at = g.At
				if err := f.Lines(at, view.LogPart{Run: g.Run, Fence: g.Fence, Lines: lines}); err != nil {
					return err
				}
			}
			if len(segments) < 32 {
				break
			}
		}
		if moved {
			if last, err = s.tellBuild(ctx, b, at, last, f); err != nil || over {
				return err
			}
		}
		moved = true
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-moves:
		case <-prints:
			moved = false
		case <-time.After(10 * time.Second):
			if err := f.Beat(); err != nil {
				return err
			}
		}
	}
}

// tellBuild tells the state when it differs from what was told last.
func (s *Service) tellBuild(ctx context.Context, b database.Build, at int64, last string, f Follower) (string, error) {
	d, err := s.detail(ctx, b)
	if err != nil {
		return last, err
	}
	runs := make([]int64, len(d.Runs))
	for i := range d.Runs { // a growing log is told by its lines
		runs[i], d.Runs[i].Lines = d.Runs[i].Lines, 0
	}
	text, err := json.Marshal(d)
	if err != nil || string(text) == last {
		return last, err
	}
	for i := range d.Runs {
		d.Runs[i].Lines = runs[i]
	}
	return string(text), f.Build(at, d)
}

// Lines gives lines from first on of a stage run's log, under its newest fence or the one given,
// at most most.
func (s *Service) Lines(ctx context.Context, a Actor, pipeline string, number, run int, fence, first int64, most int) (view.LogPart, error) {
	part := view.LogPart{Run: run, Fence: fence, Lines: []view.LogLine{}}
	id, err := s.buildID(ctx, a, pipeline, number)
	if err != nil {
		return part, err
	}
	if part.Fence, err = s.fenceOf(ctx, id, pipeline, number, run, fence); err != nil {
		return part, err
	}
	segments, err := s.segmentsOf(ctx, id, database.LogKey{Run: run, Fence: part.Fence}, first, first+int64(most)-1, 256)
	if err != nil {
		return part, err
	}
	for _, g := range segments {
		lines, err := logtext.Unpack(g.Body, g.First)
		if err != nil {
			return part, err
		}
		for _, l := range lines {
			if l.Number >= first && len(part.Lines) < most {
				part.Lines = append(part.Lines, l)
			}
		}
	}
	return part, nil
}

// FindInLog gives lines from first on of a stage run's log that hold a text, upper and lower case alike, at
// most most. Next is where to go on, 0 when all has been looked at.
func (s *Service) FindInLog(ctx context.Context, a Actor, pipeline string, number, run int, fence, first int64, text string, most int) (view.LogFound, error) {
	found := view.LogFound{Run: run, Fence: fence, Lines: []view.LogLine{}}
	if text == "" {
		return found, fault.Invalid("there is nothing to look for").On("text")
	}
	id, err := s.buildID(ctx, a, pipeline, number)
	if err != nil {
		return found, err
	}
	if found.Fence, err = s.fenceOf(ctx, id, pipeline, number, run, fence); err != nil {
		return found, err
	}
	for {
		segments, err := s.segmentsOf(ctx, id, database.LogKey{Run: run, Fence: found.Fence}, first, 1<<62, segmentsAtOnce)
		if err != nil || len(segments) == 0 {
			return found, err
		}
		for _, g := range segments {
			lines, err := logtext.Search(g.Body, g.First, text)
			if err != nil {
				return found, err
			}
			for _, l := range lines {
				if l.Number < first {
					continue
				}
				if len(found.Lines) == most {
					found.Next = l.Number
					return found, nil
				}
				found.Lines = append(found.Lines, l)
			}
			first = g.First + int64(g.Lines)
		}
		if ctx.Err() != nil {
			return found, ctx.Err()
		}
	}
}

// fenceOf is the fence asked for, or the newest of a stage run.
func (s *Service) fenceOf(ctx context.Context, build uuid.UUID, pipeline string, number, run int, fence int64) (int64, error) {
	newest, ok, err := s.DB.FenceOf(ctx, build, run)
	if err == nil && !ok {
		err = fault.Missing("build %s/%d has no stage run %d", pipeline, number, run)
	}
	if fence != 0 {
		newest = fence
	}
	return newest, err
}

// Text writes a stage run's whole log as plain text, a segment at a time.
func (s *Service) Text(ctx context.Context, a Actor, pipeline string, number, run int, fence int64, write func(string) error) error {
	for first := int64(1); ; {
		part, err := s.Lines(ctx, a, pipeline, number, run, fence, first, 20_000)
		if err != nil || len(part.Lines) == 0 {
			return err
		}
		var text strings.Builder
		for _, l := range part.Lines {
			text.WriteString(l.Text)
			text.WriteByte('\n')
		}
		if err := write(text.String()); err != nil {
			return err
		}
		first = part.Lines[len(part.Lines)-1].Number + 1
	}
}
