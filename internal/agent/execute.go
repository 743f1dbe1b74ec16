package agent

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"path/filepath"
	"sync"
	"time"

	"oskeld.dev/oskeld/internal/client"
	"oskeld.dev/oskeld/internal/core/artifact"
	"oskeld.dev/oskeld/internal/core/assignment"
	"oskeld.dev/oskeld/internal/core/bundle"
	"oskeld.dev/oskeld/internal/core/fault"
	"oskeld.dev/oskeld/internal/runner"
)

// execute runs an assignment and tells the service, in order, all that happens. It returns when
// all is told, or the assignment is lost.
func (a *Agent) execute(ctx context.Context, as assignment.Assignment, lose context.CancelCauseFunc, stopped <-chan struct{}) error {
	spool, err := newSpool(filepath.Join(a.Dir, "spool", as.Key.String()), as.Key)
	if err != nil {
		return err
	}
	defer spool.remove()
	told := make(chan error, 1)
	go func() {
		err := a.tell(ctx, spool) // goes on after a stop: only a lost assignment ends it
		if err != nil {
			lose(errLost) // nobody listens any more: end the processes
		}
		told <- err
	}()
	a.kept.makeRoom()
	stage := a.client.With(as.Token)
	a.mu.Lock()
	machine := a.machine
	a.mu.Unlock()
	machine.Run(ctx, as, runner.Hooks{
		Event:   func(e assignment.Event) { spool.event(e) },
		Segment: func(s assignment.Segment) { spool.segment(s) },
		Send: func(ctx context.Context, files []runner.SendFile) error {
			for _, f := range files {
				if f.Again && f.Size > bundle.MostFile {
					a.kept.addFile(string(f.Digest), f.Path)
				}
			}
			return send(ctx, stage, files)
		},
		FindCache: stage.FindCache,
		Get: func(ctx context.Context, d artifact.Digest) (io.ReadCloser, error) {
			return a.getFile(ctx, stage, d)
		},
		GetSmall: func(ctx context.Context, files []artifact.File, put func(artifact.Digest, io.Reader) error) error {
			return a.getSmall(ctx, stage, files, put)
		},
		Fetch: func(ctx context.Context, ref, dir string) ([]string, error) {
			return stage.FetchInto(ctx, ref, dir, client.Silent)
		},
		Stop: stopped,
	})
	spool.end()
	return <-told
}

// carrier is what sends and gets bytes: the client of a stage run.
type carrier interface {
	Lacking(context.Context, []artifact.Digest) (map[artifact.Digest]bool, error)
	Upload(ctx context.Context, path string, f artifact.File, sent func(int64)) error
	SendBundle(context.Context, []client.LocalFile) error
}

// send uploads what is lacking, each digest once, a few at a time: small files in bundles, others by themselves.
func send(ctx context.Context, to carrier, files []runner.SendFile) error {
	byDigest := map[artifact.Digest]client.LocalFile{}
	var digests []artifact.Digest
	for _, f := range files {
		if _, ok := byDigest[f.Digest]; !ok {
			byDigest[f.Digest] = client.LocalFile{Path: f.Path, File: f.File}
			digests = append(digests, f.Digest)
		}
	}
	var lack map[artifact.Digest]bool
	for { // the service may be away for a while
		var err error
		if lack, err = to.Lacking(ctx, digests); err == nil {
			break
		}
		if !fault.Is(err, fault.KindUnavailable) || ctx.Err() != nil {
			return fmt.Errorf("delivering: %w", err)
		}
		pause(ctx, time.Second)
	}
	var small []client.LocalFile
	var deeds []func() error
	for _, d := range digests {
		switch f := byDigest[d]; {
		case !lack[d]:
		case f.Size <= bundle.MostFile:
			small = append(small, f)
		default:
			deeds = append(deeds, func() error {
				if err := to.Upload(ctx, f.Path, f.File, func(int64) {}); err != nil {
					return fmt.Errorf("delivering %s: %w", f.File.Path, err)
				}
				return nil
			})
		}
	}
	for _, group := range client.Bundles(small) {
		deeds = append(deeds, func() error {
			if err := sendBundle(ctx, to, group); err != nil {
				return fmt.Errorf("delivering %s and %d more: %w", group[0].File.Path, len(group)-1, err)
			}
			return nil
		})
	}
	var all sync.WaitGroup
	places := make(chan struct{}, 4)
	errs := make([]error, len(deeds))
	for i, deed := range deeds {
		places <- struct{}{}
		all.Go(func() {
			defer func() { <-places }()
			errs[i] = deed()
		})
	}
	all.Wait()
	return errors.Join(errs...)
}

// sendBundle sends a bundle, again while the service is away.
func sendBundle(ctx context.Context, to carrier, group []client.LocalFile) error {
	for {
		err := to.SendBundle(ctx, group)
		if err == nil || !fault.Is(err, fault.KindUnavailable) || ctx.Err() != nil {
			return err
		}
		pause(ctx, time.Second)
	}
}

// getFile gets a file's bytes, again while the service is away.
func (a *Agent) getFile(ctx context.Context, from *client.Client, d artifact.Digest) (io.ReadCloser, error) {
	d, err := artifact.ParseDigest(string(d)) // it becomes a file's name, and another agent may have told it
	if err != nil {
		return nil, err
	}
	for {
		f, err := a.kept.get(ctx, string(d), func(w io.Writer) error { return from.Blob(ctx, d, w) })
		if err == nil {
			return f, nil
		}
		if !fault.Is(err, fault.KindUnavailable) || ctx.Err() != nil {
			return nil, err
		}
		pause(ctx, time.Second)
	}
}

// getSmall gets small files in bundles and gives each digest's bytes to put.
func (a *Agent) getSmall(ctx context.Context, from *client.Client, files []artifact.File, put func(artifact.Digest, io.Reader) error) error {
	list := make([]client.LocalFile, len(files))
	for i, f := range files {
		list[i] = client.LocalFile{File: f}
	}
	for _, group := range client.Bundles(list) {
		digests := make([]artifact.Digest, len(group))
		for i, f := range group {
			digests[i] = f.Digest
		}
		if err := a.getBundle(ctx, from, digests, put); err != nil {
			return err
		}
	}
	return nil
}

// getBundle gets a bundle, again while the service is away. A kept one that turns out to be damaged is got anew.
func (a *Agent) getBundle(ctx context.Context, from *client.Client, digests []artifact.Digest, put func(artifact.Digest, io.Reader) error) error {
	list, err := json.Marshal(digests)
	if err != nil {
		return err
	}
	name := bundled + string(artifact.DigestOf(list))
	for damaged := 0; ; {
		f, err := a.kept.get(ctx, name, func(w io.Writer) error {
			body, err := from.CarriedBundle(ctx, digests)
			if err != nil {
				return err
			}
			_, err = io.Copy(w, body)
			return errors.Join(err, body.Close())
		})
		if fault.Is(err, fault.KindUnavailable) && ctx.Err() == nil {
			pause(ctx, time.Second)
			continue
		}
		if err != nil {
			return err
		}
		if err = errors.Join(readBundle(f, digests, put), f.Close()); err == nil {
			return nil
		}
		a.kept.forget(name)
		if damaged++; damaged == 2 || ctx.Err() != nil {
			return err
		}
	}
}

// readBundle gives the files of a bundle to put. All that are wanted must be in it.
func readBundle(body io.Reader, wanted []artifact.Digest, put func(artifact.Digest, io.Reader) error) error {
	came := map[artifact.Digest]bool{}
	for r := bundle.NewReader(body); ; {
		digest, _, from, err := r.Next()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return err
		}
		if err := put(digest, from); err != nil {
			return err
		}
		came[digest] = true
	}
	for _, d := range wanted {
		if !came[d] {
			return fault.Refused("the bundle lacks the bytes %s", d)
		}
	}
	return nil
}

// tell sends the spool in order, each part again until the service has taken it. A service that
// refuses ends it: the assignment is lost.
func (a *Agent) tell(ctx context.Context, s *spool) error {
	for {
		items := s.next(ctx)
		if len(items) == 0 {
			return context.Cause(ctx)
		}
		for wait := 50 * time.Millisecond; ; wait = min(2*wait, 2*time.Second) {
			err := a.tellThese(ctx, s, items)
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
		s.done(items)
	}
}

func (a *Agent) tellThese(ctx context.Context, s *spool, items []spooled) error {
	ctx, cancel := context.WithTimeoutCause(ctx, time.Minute, fault.Unavailable("the service did not answer within a minute"))
	defer cancel()
	var err error
	if report := items[0].report; report != nil {
		err = a.client.Report(ctx, *report)
	} else {
		segments, readErr := s.segments(items)
		if readErr != nil {
			return readErr
		}
		err = a.client.Log(ctx, s.key, segments)
	}
	if errors.Is(err, context.DeadlineExceeded) {
		return context.Cause(ctx)
	}
	return err
}
