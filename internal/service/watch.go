package service

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"strings"
	"sync"
	"time"

	"oskeld.dev/oskeld/internal/core/fault"
	"oskeld.dev/oskeld/internal/core/language"
	"oskeld.dev/oskeld/internal/core/view"
	"oskeld.dev/oskeld/internal/database"
	"oskeld.dev/oskeld/internal/git"
)

// mostLooks is how many sources one process looks at side by side, and how many clock rules it carries out.
const mostLooks = 8

// watchSources looks at the sources that are due, because the time has come or a call said so, and
// starts what pushes and tags start. Of several processes one looks at a source at a time.
func (s *Service) watchSources(ctx context.Context) {
	s.eachOf(ctx, TopicSources, func() (func(), bool) {
		src, ok, err := s.DB.TakeDueSource(ctx)
		return func() { s.watch(ctx, src) }, err == nil && ok
	})
}

// eachOf takes what is due, every second and when topic has news, and does it, a few side by side: a source
// that does not answer holds up no other. It returns when ctx has ended and all is done.
func (s *Service) eachOf(ctx context.Context, topic string, take func() (do func(), ok bool)) {
	var deeds sync.WaitGroup
	defer deeds.Wait()
	places := make(chan struct{}, mostLooks)
	s.every(ctx, time.Second, topic, func() {
		for ctx.Err() == nil {
			places <- struct{}{}
			do, ok := take()
			if !ok {
				<-places
				return
			}
			deeds.Go(func() {
				defer func() { <-places }()
				do()
			})
		}
	})
}

// watch looks at one source and says when it is due again: later each time that it does not answer.
func (s *Service) watch(ctx context.Context, src database.DueSource) {
	err := s.follow(ctx, src.Source)
	if ctx.Err() != nil {
		return // another process will take it up
	}
	fails, trouble := 0, ""
	wait := time.Duration(src.PollS) * time.Second
	if err != nil {
		fails, trouble = src.Fails+1, err.Error()
		if fault.Is(err, fault.KindInternal) {
			trouble = "the service has met a fault of its own; its log tells more"
			s.Log.Error("a source could not be followed", "source", src.Name, "error", err)
		}
		wait = min(time.Hour, max(wait, 5*time.Second)<<min(src.Fails, 10))
	}
	if wait > 0 { // services and sources that began together do not stay in step
		wait += time.Duration(rand.Int64N(int64(wait)/5 + 1))
	}
	if err := s.DB.EndLook(ctx, src, wait, fails, trouble); err != nil {
		s.Log.Error("a source's next look could not be set", "source", src.Name, "error", err)
	}
}

// follow asks a source what it has and starts what its moves start. A ref counts as moved until all
// pipelines have answered, so that what fails on the way is taken up again.
func (s *Service) follow(ctx context.Context, src database.Source) error {
	refs, err := s.look(ctx, src)
	if err != nil {
		return err
	}
	now := fullRefs(refs)
	if src.LookedAt == nil { // what it had before it was bound is no push
		if err := s.DB.KeepRefs(ctx, src.ID, now); err != nil {
			return err
		}
		return s.readRules(ctx, src, refs)
	}
	before, err := s.DB.SourceRefs(ctx, src.ID)
	if err != nil {
		return err
	}
	moved := movedRefs(before, now)
	if len(moved) == 0 {
		return nil
	}
	source, _, err := s.source(src)
	if err != nil {
		return err
	}
	if err := source.Fetch(ctx); err != nil {
		return err
	}
	if _, ok := moved["refs/heads/"+refs.Default]; ok {
		if err := s.readRules(ctx, src, refs); err != nil {
			return err
		}
	}
	pipelines, err := s.DB.PipelinesOf(ctx, src.ID)
	if err != nil {
		return err
	}
	first := "refs/heads/" + refs.Default // does not wait for a flood of others
	names := slices.SortedFunc(maps.Keys(moved), func(a, b string) int {
		switch {
		case a == b:
			return 0
		case a == first:
			return -1
		case b == first:
			return 1
		}
		return strings.Compare(a, b)
	})
	for _, name := range names {
		move := refMove{name: name, old: before[name], now: moved[name], base: now["refs/heads/"+refs.Default]}
		for _, p := range pipelines {
			if err := s.moved(ctx, source, p, move); err != nil {
				return err
			}
		}
		if err := s.DB.KeepRefs(ctx, src.ID, map[string]string{name: move.now}); err != nil {
			return err
		}
	}
	return nil
}

func fullRefs(refs git.Refs) map[string]string {
	all := make(map[string]string, len(refs.Branches)+len(refs.Tags))
	for name, commit := range refs.Branches {
		all["refs/heads/"+name] = commit
	}
	for name, commit := range refs.Tags {
		all["refs/tags/"+name] = commit
	}
	return all
}

// movedRefs are the refs that stand elsewhere now; "" where one is gone.
func movedRefs(before, now map[string]string) map[string]string {
	moved := map[string]string{}
	for name, commit := range now {
		if before[name] != commit {
			moved[name] = commit
		}
	}
	for name := range before {
		if now[name] == "" {
			moved[name] = ""
		}
	}
	return moved
}

// refMove is a ref that stood at the commit old, "" when it is new, and stands at now, "" when it is gone.
type refMove struct {
	name, old, now string
	base           string // where the default branch stands
}

// moved lets a pipeline answer to a ref that moved, by the rules of its file at the new commit.
func (s *Service) moved(ctx context.Context, source git.Copy, p database.Pipeline, m refMove) error {
	if m.now == "" || !source.Has(ctx, m.now) { // it moved on: the next look finds that
		return nil
	}
	var move language.Move
	kind := view.ByTag
	if branch, ok := strings.CutPrefix(m.name, "refs/heads/"); ok {
		move.Branch, kind = branch, view.ByPush
		since := m.old
		if since == "" {
			since = source.Fork(ctx, m.base, m.now)
		}
		var err error
		if move.Changed, err = source.ChangedPaths(ctx, since, m.now); err != nil {
			return err
		}
	} else {
		move.Tag = strings.TrimPrefix(m.name, "refs/tags/")
	}
	o := database.Occurrence{Pipeline: p.ID, Kind: string(kind), Key: m.name + " " + m.old + " " + m.now, Says: moveInWords(ctx, source, move, m)}
	st := &start{pipeline: p, by: "a push", ref: cmp.Or(move.Tag, move.Branch), moved: &git.At{Commit: m.now, Branch: move.Branch, Tag: move.Tag}, why: view.Why{Kind: kind, Says: o.Says}}
	read, err := s.readFile(ctx, source, &start{pipeline: p, at: git.At{Commit: m.now}})
	switch {
	case fault.Is(err, fault.KindMissing):
		return s.noteNothing(ctx, o, err.Error())
	case transient(err):
		return err
	case err == nil:
		if begins, why := read.Begins(move); !begins {
			return s.noteNothing(ctx, o, why)
		}
	}
	return s.answer(ctx, st, o) // a file with mistakes is refused there, with a record
}

func moveInWords(ctx context.Context, source git.Copy, move language.Move, m refMove) string {
	switch {
	case move.Tag != "":
		return fmt.Sprintf("%s was pushed at %.7s", move, m.now)
	case m.old == "":
		return fmt.Sprintf("%s was pushed at %.7s", move, m.now)
	}
	commits := "commits"
	list, err := source.Changes(ctx, m.old, m.now, 100)
	if err != nil || len(list) == 0 {
		return fmt.Sprintf("%s was set from %.7s to %.7s", move, m.old, m.now)
	}
	if len(list) == 1 {
		commits = "commit"
	}
	return fmt.Sprintf("%d %s pushed to %s, %.7s to %.7s", len(list), commits, move, m.old, m.now)
}
