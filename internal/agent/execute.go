package agent

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"sync"
	"time"

	"oskeld.dev/oskeld/internal/core/artifact"
	"oskeld.dev/oskeld/internal/core/assignment"
	"oskeld.dev/oskeld/internal/core/fault"
	"oskeld.dev/oskeld/internal/runner"
)

// execute runs an assignment and tells the service, in order, all that happens. It returns when
// all is told, or the assignment is lost.
func (a *Agent) execute(ctx context.Context, as assignment.Assignment, lose context.CancelCauseFunc) error {
	spool, err := newSpool(filepath.Join(a.Dir, "spool", as.Key.String()), as.Key)
	if err != nil {
		return err
	}
	defer spool.remove()
	if as.Stopping {
		lose(runner.ErrStop)
	}
	// Telling goes on after a stop: only a lost assignment ends it.
	telling, endTelling := context.WithCancelCause(context.WithoutCancel(ctx))
	defer endTelling(nil)
	watch := context.AfterFunc(ctx, func() {
		if errors.Is(context.Cause(ctx), errLost) {
			endTelling(errLost)
		}
	})
	defer watch()
	told := make(chan error, 1)
	go func() {
		err := a.tell(telling, spool)
		if err != nil {
			lose(errLost) // nobody listens any more: end the processes
		}
		told <- err
	}()
	stage := a.client.With(as.Token)
	a.machine.Run(ctx, as, runner.Hooks{
		Event:   func(e assignment.Event) { spool.event(e) },
		Segment: func(s runner.Segment) { spool.segment(s) },
		Send: func(ctx context.Context, files []runner.SendFile) error {
			return send(ctx, stage.Lacking, func(f runner.SendFile) error {
				return stage.Upload(ctx, f.Path, f.File, func(int64) {})
			}, files)
		},
		Get: func(ctx context.Context, d artifact.Digest) (io.ReadCloser, error) {
			body, _, _, err := stage.Open(ctx, "/blobs/"+string(d), 0)
			return body, err
		},
	})
	spool.end()
	return <-told
}

// send uploads what is lacking, each digest once, a few at a time.
func send(ctx context.Context, lacking func(context.Context, []artifact.Digest) (map[artifact.Digest]bool, error), upload func(runner.SendFile) error, files []runner.SendFile) error {
	byDigest := map[artifact.Digest]runner.SendFile{}
	var digests []artifact.Digest
	for _, f := range files {
		if _, ok := byDigest[f.Digest]; !ok {
			byDigest[f.Digest] = f
			digests = append(digests, f.Digest)
		}
	}
	var lack map[artifact.Digest]bool
	for { // the service may be away for a while
		var err error
		if lack, err = lacking(ctx, digests); err == nil {
			break
		}
		if !fault.Is(err, fault.KindUnavailable) || ctx.Err() != nil {
			return fmt.Errorf("delivering: %w", err)
		}
		pause(ctx, time.Second)
	}
	var all sync.WaitGroup
	places := make(chan struct{}, 4)
	errs := make([]error, len(digests))
	for i, d := range digests {
		if !lack[d] {
			continue
		}
		places <- struct{}{}
		all.Go(func() {
			defer func() { <-places }()
			if err := upload(byDigest[d]); err != nil {
				errs[i] = fmt.Errorf("delivering %s: %w", byDigest[d].File.Path, err)
			}
		})
	}
	all.Wait()
	return errors.Join(errs...)
}

// tell sends the spool in order, each item again until the service has taken it. A service that
// refuses ends it: the assignment is lost.
func (a *Agent) tell(ctx context.Context, s *spool) error {
	for {
		item, ok := s.next(ctx)
		if !ok {
			return context.Cause(ctx)
		}
		for wait := 50 * time.Millisecond; ; wait = min(2*wait, 2*time.Second) {
			err := a.tellOne(ctx, s.key, item)
			if err == nil {
				break
			}
			if !fault.Is(err, fault.KindUnavailable) && !fault.Is(err, fault.KindInternal) {
				return err
			}
			if ctx.Err() != nil {
				return context.Cause(ctx)
			}
			pause(ctx, wait)
		}
		item.done()
	}
}

func (a *Agent) tellOne(ctx context.Context, key assignment.Key, item spooled) error {
	ctx, cancel := context.WithTimeoutCause(ctx, time.Minute, fault.Unavailable("the service did not answer within a minute"))
	defer cancel()
	var err error
	if item.report != nil {
		err = a.client.Report(ctx, *item.report)
	} else {
		body, readErr := os.ReadFile(item.path)
		if readErr != nil {
			return readErr
		}
		err = a.client.Log(ctx, assignment.Segment{Key: key, Run: item.head.Run, Seq: item.head.Seq, First: item.head.First, Lines: item.head.Lines}, body)
	}
	if errors.Is(err, context.DeadlineExceeded) {
		return context.Cause(ctx)
	}
	return err
}
