package service

import (
	"context"
	"crypto/rand"
	"strconv"
	"time"

	"oskeld.dev/oskeld/internal/core/fault"
	"oskeld.dev/oskeld/internal/core/signature"
	"oskeld.dev/oskeld/internal/core/view"
)

// callWindow is how far a call's clock may be from ours, and how long its signature is remembered.
const callWindow = 5 * time.Minute

// NewCallKey makes the key with which calls about a source are signed; an earlier key ends.
func (s *Service) NewCallKey(ctx context.Context, a Actor, source string) (string, error) {
	src, err := s.sourceFor(ctx, a, source, Manage)
	if err != nil {
		return "", err
	}
	key := rand.Text()
	sealed, err := s.seal.seal([]byte(key))
	if err != nil {
		return "", err
	}
	if err := s.DB.SetCallKey(ctx, src.ID, sealed); err != nil {
		return "", err
	}
	s.Hub.Tell(TopicSources)
	return key, s.DB.AddRecord(ctx, a.Name, "call key made", "source "+source, nil)
}

// SignedCall takes a call which says that a pipeline's source has moved: it is looked at now, and its
// start rules answer. It is signed under the source's key (package signature) and may come once, within
// five minutes of its time. It carries no orders: what moved is read from the source itself.
func (s *Service) SignedCall(ctx context.Context, pipeline, at, signed string, body []byte) (view.Looking, error) {
	refused := fault.Unknown("the call is not signed as source and pipeline demand").
		Hint("send Oskeld-Time: UNIX SECONDS and Oskeld-Signature: hmac-sha256 HEX, the HMAC of \"TIME.BODY\" under the key that oskeld source key gives")
	seconds, err := strconv.ParseInt(at, 10, 64)
	if err != nil {
		return view.Looking{}, refused
	}
	p, err := s.DB.Pipeline(ctx, pipeline)
	if fault.Is(err, fault.KindMissing) {
		return view.Looking{}, refused
	}
	if err != nil {
		return view.Looking{}, err
	}
	src, err := s.DB.Source(ctx, p.SourceName)
	if err != nil {
		return view.Looking{}, err
	}
	if src.CallKey == nil {
		return view.Looking{}, refused
	}
	key, err := s.seal.open(src.CallKey)
	if err != nil {
		return view.Looking{}, err
	}
	given, ok := signature.Check(signed, key, at, body)
	if !ok {
		return view.Looking{}, refused
	}
	if away := time.Since(time.Unix(seconds, 0)).Abs(); away > callWindow {
		return view.Looking{}, fault.Refused("the call's time is %s away from the service's", away.Round(time.Second)).Hint("set the clock of the machine that calls")
	}
	first, err := s.DB.TakeCall(ctx, given, 2*callWindow)
	if err != nil {
		return view.Looking{}, err
	}
	if !first {
		return view.Looking{}, fault.Conflict("the call was taken before").Hint("sign each call anew, with its own time")
	}
	if err := s.DB.LookNow(ctx, src.ID); err != nil {
		return view.Looking{}, err
	}
	s.Hub.Tell(TopicSources)
	return view.Looking{Source: src.Name}, nil
}
