package database

import (
	"context"
	"errors"
	"reflect"
	"slices"
	"testing"
	"time"

	"github.com/google/uuid"
	lru "github.com/hashicorp/golang-lru/v2"
	"oskeld.dev/oskeld/internal/core/artifact"
	"oskeld.dev/oskeld/internal/core/assignment"
	"oskeld.dev/oskeld/internal/core/facts"
	"oskeld.dev/oskeld/internal/core/fault"
	"oskeld.dev/oskeld/internal/core/language"
	"oskeld.dev/oskeld/internal/core/plan"
	"oskeld.dev/oskeld/internal/core/progress"
	"oskeld.dev/oskeld/internal/core/promotion"
)

// heath is a migrated database with a project, a store and a pipeline.
type heath struct {
	*DB
	t        *testing.T
	project  uuid.UUID
	store    uuid.UUID
	pipeline uuid.UUID
}

func newHeath(t *testing.T, name string) heath {
	t.Helper()
	ctx := t.Context()
	h := heath{fresh(t, name), t, uuid.New(), uuid.New(), uuid.New()}
	source := uuid.New()
	for _, err := range []error{
		h.Migrate(ctx), h.AddProject(ctx, Project{ID: h.project, Name: "heath"}),
		h.AddSource(ctx, Source{ID: source, Project: h.project, Name: "hivebook", URL: "/x", Trusted: []string{"main"}}),
		h.AddPipeline(ctx, Pipeline{ID: h.pipeline, Project: h.project, Name: "hivebook", Source: source, File: "oskeld.toml"}),
		h.AddStore(ctx, Store{ID: h.store, Project: h.project, Name: "intake", Format: "files", Rewrite: "never"}),
	} {
		if err != nil {
			t.Fatal(err)
		}
	}
	return h
}

func (h heath) must(err error) {
	h.t.Helper()
	if err != nil {
		h.t.Fatal(err)
	}
}

// build writes a build of two chains: one → two, and three after two.
func (h heath) build(ctx context.Context) (Build, progress.Build) {
	h.t.Helper()
	p, err := plan.Make(&language.Pipeline{Stages: []language.Stage{
		{Name: "one", Purpose: language.Other, Facts: facts.Demand{"os": "linux"}}, {Name: "two", Purpose: language.Other, Follows: "one"},
		{Name: "three", Purpose: language.Other, After: []artifact.Name{"two"}}}}, nil)
	h.must(err)
	n, err := h.NextNumber(ctx, h.pipeline)
	h.must(err)
	state, _ := progress.New(p)
	b := Build{ID: uuid.New(), Pipeline: h.pipeline, Project: h.project, Number: n, Ref: "main", Commit: "8c1f2e0", Branch: "main", Version: "1.0.0", StartedBy: "ida", Plan: p}
	h.must(h.AddBuild(ctx, b, state))
	b, err = h.BuildByID(ctx, b.ID)
	h.must(err)
	return b, state
}

// locked is the state of a build as the next event finds it.
func (h heath) locked(ctx context.Context, id uuid.UUID) (p progress.Build) {
	h.t.Helper()
	h.must(h.Change(ctx, func(tx *DB) error {
		_, found, ok, err := tx.LockBuild(ctx, id, false)
		if p = found; err == nil && !ok {
			err = errors.New("the build is not there")
		}
		return err
	}))
	return p
}

// What another service did to a build, or what came to nothing here, is not taken for its state.
func TestStateOfTwoServices(t *testing.T) {
	ctx := t.Context()
	h := newHeath(t, "states")
	b, first := h.build(ctx)
	states, err := lru.New[uuid.UUID, saved](mostKept)
	h.must(err)
	other := heath{&DB{pool: h.pool, q: h.pool, kept: kept{h.kept.plans, states}}, t, h.project, h.store, h.pipeline}
	taken, _ := first.Apply(progress.Taken{Chain: 0, Agent: "barrow", Fence: 1})
	stopped, _ := taken.Apply(progress.Stop{Cause: "stopped by ida"})
	fallen := errors.New("fallen")
	if err := h.Change(ctx, func(tx *DB) error { return errors.Join(tx.SaveProgress(ctx, b.ID, first, taken), fallen) }); !errors.Is(err, fallen) {
		t.Fatal(err)
	}
	for i, want := range []progress.Build{first, taken, stopped} {
		by := []heath{h, other, h}[i]
		if i > 0 {
			before := []progress.Build{first, taken}[i-1]
			h.must(by.Change(ctx, func(tx *DB) error { return tx.SaveProgress(ctx, b.ID, before, want) }))
		}
		for name, x := range map[string]heath{"here": h, "there": other} {
			if got := x.locked(ctx, b.ID); got.State != want.State || got.Stopping != want.Stopping || got.Chains[0].State != want.Chains[0].State {
				t.Errorf("after change %d the build is %+v %s, want %+v", i, got, name, want)
			}
		}
	}
}

// A build's state goes into the database and comes back as it was, event by event.
func TestProgressRoundTrip(t *testing.T) {
	ctx := t.Context()
	h := newHeath(t, "progress")
	b, state := h.build(ctx)
	agent, err := h.AddAgent(ctx, Agent{ID: uuid.New(), Name: "barrow", Places: 1}, []byte("a"))
	h.must(err)
	fence := int64(0)
	step := func(e progress.Event) {
		t.Helper()
		next, effects := state.Apply(e)
		if !effects.Applied {
			t.Fatalf("%T was not applied", e)
		}
		h.must(h.Change(ctx, func(tx *DB) error { return tx.SaveProgress(ctx, b.ID, state, next) }))
		if taken, ok := e.(progress.Taken); ok {
			h.must(h.HoldChain(ctx, ChainKey{b.ID, taken.Chain}, agent, []byte("token"), time.Minute))
		}
		b, err = h.BuildByID(ctx, b.ID)
		h.must(err)
		back, err := h.progress(ctx, b)
		h.must(err)
		if kept := h.locked(ctx, b.ID); !reflect.DeepEqual(kept.Runs, back.Runs) || kept.State != back.State || kept.Cause != back.Cause {
			t.Fatalf("after %T what is kept in memory is %+v, and %+v is in the database", e, kept, back)
		}
		for i, r := range back.Runs {
			if want := next.Runs[i]; r.State != want.State || r.Cause != want.Cause || r.Satisfied != want.Satisfied || r.Follows != want.Follows {
				t.Fatalf("after %T run %d came back as %+v, want %+v", e, i, r, want)
			}
		}
		for i, c := range back.Chains {
			if want := next.Chains[i]; c.State != want.State || c.Fence != want.Fence || c.Lost != want.Lost {
				t.Fatalf("after %T chain %d came back as %+v, want %+v", e, i, c, want)
			}
		}
		state = back
	}
	take := func(chain int) {
		t.Helper()
		fence, err = h.NextFence(ctx)
		h.must(err)
		step(progress.Taken{Chain: chain, Agent: "barrow", Fence: fence})
	}
	waiting := func() int {
		demands, err := h.WaitingDemands(ctx)
		h.must(err)
		ids := []int64{0}
		for _, d := range demands {
			ids = append(ids, d.ID)
		}
		list, err := h.WaitingChains(ctx, ids, nil, 10)
		h.must(err)
		return len(list)
	}
	if n := waiting(); n != 1 {
		t.Errorf("%d chains wait, want the first", n)
	}
	take(0)
	if n := waiting(); n != 0 {
		t.Errorf("%d chains wait while the first is held", n)
	}
	first := fence
	step(progress.Started{Run: 0, Fence: fence})
	step(progress.Ended{Run: 0, Fence: fence, State: progress.Passed})
	step(progress.AgentLost{Chain: 0, Fence: fence})
	take(0)
	if fence <= first {
		t.Errorf("the fence went from %d to %d", first, fence)
	}
	step(progress.Started{Run: 1, Fence: fence})
	step(progress.Ended{Run: 1, Fence: fence, State: progress.Passed})
	if n := waiting(); n != 1 {
		t.Errorf("%d chains wait, want the second", n)
	}
	take(1)
	step(progress.Started{Run: 2, Fence: fence})
	step(progress.Ended{Run: 2, Fence: fence, State: progress.Failed, Cause: "exit 2"})
	if b.State != progress.Failed || b.EndedAt == nil || b.StartedAt == nil || b.Cause != "three: exit 2" {
		t.Errorf("the build: %s %q", b.State, b.Cause)
	}
}

// Reports count once each, in order; an old fence is told from a chain that has ended.
func TestReportsAndLeases(t *testing.T) {
	ctx := t.Context()
	h := newHeath(t, "reports")
	b, state := h.build(ctx)
	agent, err := h.AddAgent(ctx, Agent{ID: uuid.New(), Name: "barrow", Places: 1}, []byte("a"))
	h.must(err)
	next, _ := state.Apply(progress.Taken{Chain: 0, Agent: "barrow", Fence: 5})
	h.must(h.Change(ctx, func(tx *DB) error { return tx.SaveProgress(ctx, b.ID, state, next) }))
	key := ChainKey{b.ID, 0}
	h.must(h.HoldChain(ctx, key, agent, []byte("token"), time.Minute))
	for _, c := range []struct {
		fence, to int64
		want      bool
	}{{5, 1, true}, {5, 1, false}, {5, 3, false}, {4, 2, false}, {5, 2, true}} {
		if ok, err := h.Reported(ctx, key, c.fence, c.to); err != nil || ok != c.want {
			t.Errorf("report %d under fence %d: %v %v", c.to, c.fence, ok, err)
		}
	}
	if n, err := h.ReportCounter(ctx, key, 5, agent); n != 2 || err != nil {
		t.Error(n, err)
	}
	if _, err := h.ReportCounter(ctx, key, 4, agent); !fault.Is(err, fault.KindConflict) {
		t.Error(err)
	}
	if _, err := h.ReportCounter(ctx, key, 5, uuid.New()); !fault.Is(err, fault.KindConflict) {
		t.Errorf("another agent reports: %v", err)
	}
	if holder, err := h.ChainByToken(ctx, []byte("token")); err != nil || holder.Pipeline != "hivebook" || holder.Fence != 5 {
		t.Error(holder, err)
	}
	held, err := h.RenewLeases(ctx, agent, []int64{4, 5}, time.Minute)
	if err != nil || len(held) != 1 || held[0].Fence != 5 || held[0].Stopping {
		t.Error(held, err)
	}
	if expired, err := h.ExpiredChains(ctx); err != nil || len(expired) != 0 {
		t.Error(expired, err)
	}
	h.must(h.exec(ctx, "update chain set lease_until = now() - interval '1 second'"))
	if expired, err := h.ExpiredChains(ctx); err != nil || len(expired) != 1 {
		t.Error(expired, err)
	}
	h.must(h.ExtendLeases(ctx, time.Minute))
	if expired, _ := h.ExpiredChains(ctx); len(expired) != 0 {
		t.Error("a lease that was extended still counts as run out")
	}
	lost, _ := next.Apply(progress.AgentLost{Chain: 0, Fence: 5})
	h.must(h.Change(ctx, func(tx *DB) error { return tx.SaveProgress(ctx, b.ID, next, lost) }))
	if _, err := h.ChainByToken(ctx, []byte("token")); !fault.Is(err, fault.KindUnknown) {
		t.Errorf("the token outlives the assignment: %v", err)
	}
}

// The same segment twice is there once; followers that read by place miss none.
func TestSegments(t *testing.T) {
	ctx := t.Context()
	h := newHeath(t, "segments")
	b, _ := h.build(ctx)
	for _, seqs := range [][]int64{{1}, {1, 2}, {2}, {1}, {2, 3, 3}, {3, 1}} {
		var segments []assignment.Segment
		for _, seq := range seqs {
			segments = append(segments, assignment.Segment{Seq: seq, First: (seq-1)*10 + 1, Lines: 10, Body: []byte{byte(seq)}})
		}
		_, err := h.AddSegments(ctx, b.ID, 1, segments)
		h.must(err)
	}
	list, err := h.SegmentsAfter(ctx, b.ID, 0, 10)
	if err != nil || len(list) != 3 {
		t.Fatal(len(list), err)
	}
	for i, s := range list {
		if s.At != int64(i+1) || s.Seq != int64(i+1) {
			t.Errorf("segment %d at %d", s.Seq, s.At)
		}
	}
	if rest, _ := h.SegmentsAfter(ctx, b.ID, 2, 10); len(rest) != 1 || rest[0].Seq != 3 {
		t.Error(rest)
	}
	for _, c := range []struct{ first, last, want int64 }{{1, 30, 3}, {11, 20, 1}, {10, 11, 2}, {31, 99, 0}} {
		if got, err := h.SegmentsOf(ctx, b.ID, 0, 1, c.first, c.last, 10); err != nil || int64(len(got)) != c.want {
			t.Errorf("lines %d to %d: %d segments (%v)", c.first, c.last, len(got), err)
		}
	}
	runs, err := h.Runs(ctx, b.ID)
	if err != nil || len(runs) != 3 || runs[2].Name != "three" {
		t.Error(runs, err)
	}
}

// A version is held by one admission; contents are kept once; digests are found where they lie,
// for those who may look there.
func TestAdmissions(t *testing.T) {
	ctx := t.Context()
	h := newHeath(t, "admissions")
	content, err := artifact.NewContent([]artifact.File{{Path: "a.txt", Size: 1, Digest: artifact.DigestOf([]byte("a"))}, {Path: "b.txt", Size: 2, Digest: artifact.DigestOf([]byte("bb"))}})
	h.must(err)
	for _, f := range content.Files {
		h.must(h.HoldBlobs(ctx, []artifact.Digest{f.Digest}, []int64{f.Size}, "person ida", time.Hour))
	}
	digest := string(content.Digest())
	h.must(h.AddContent(ctx, content))
	h.must(h.AddContent(ctx, content)) // the same again
	one := Admission{ID: uuid.New(), Store: h.store, Name: "hivebook", Version: "1.0.0", Revision: 1, State: "sealed", Holds: true, Content: &digest, By: "ida"}
	h.must(h.AddAdmission(ctx, one))
	two := one
	two.ID = uuid.New()
	if err := h.AddAdmission(ctx, two); !fault.Is(err, fault.KindConflict) {
		t.Errorf("a held version was admitted again: %v", err)
	}
	if a, ok, err := h.Holding(ctx, h.store, "hivebook", "1.0.0"); err != nil || !ok || a.ID != one.ID || a.Files != 2 || a.Size != 3 {
		t.Error(a, ok, err)
	}
	if before, err := h.SetMark(ctx, h.store, "hivebook", "beta", one.ID, "ida"); before != "" || err != nil {
		t.Error(before, err)
	}
	if a, err := h.AdmissionAt(ctx, "intake", "hivebook", "beta"); err != nil || !slices.Equal(a.Marks, []string{"beta"}) {
		t.Error(a, err)
	}
	d := content.Files[0].Digest
	if lies, err := h.WhereLies(ctx, d, []uuid.UUID{h.project}); err != nil || len(lies) != 1 || lies[0].Path != "a.txt" {
		t.Error(lies, err)
	}
	if lies, _ := h.WhereLies(ctx, d, []uuid.UUID{uuid.New()}); len(lies) != 0 {
		t.Error("found in a project that one may not read")
	}
	ask := []string{string(d), string(artifact.DigestOf([]byte("new")))}
	for _, c := range []struct {
		holder  string
		project uuid.UUID
		want    int
	}{{"person ida", uuid.New(), 1}, {"person per", uuid.New(), 0}, {"person per", h.project, 1}} {
		if got, err := h.Readable(ctx, ask, c.holder, []uuid.UUID{c.project}); err != nil || len(got) != c.want {
			t.Errorf("%s: %v %v", c.holder, got, err)
		}
	}
	if sizes, err := h.NewSizes(ctx, []int64{1, 2, 99}, "person per", []uuid.UUID{h.project}); err != nil || !slices.Equal(sizes, []int64{99}) {
		t.Error(sizes, err)
	}
	h.must(h.AddPromotion(ctx, Promotion{ID: uuid.New(), By: "nell", Cause: "not met", Verdicts: []promotion.Verdict{{Say: "x"}}}, one.ID, h.store, nil))
	if list, err := h.PromotionsFrom(ctx, one.ID); err != nil || len(list) != 1 || list[0].Accepted || list[0].From != "intake/hivebook@1.0.0" || len(list[0].Verdicts) != 1 {
		t.Error(list, err)
	}
	for text, kinds := range map[string][]string{"hive": {"pipeline"}, "hivebook": {"pipeline", "artifact"}, "1.0": {"artifact"}, "int": {"store"}, "%": nil, "zz": nil} {
		found, err := h.Find(ctx, text, []uuid.UUID{h.project}, 5)
		var got []string
		for _, f := range found {
			got = append(got, f.Kind)
		}
		if err != nil || !slices.Equal(got, kinds) {
			t.Errorf("find %q: %v %v", text, got, err)
		}
	}
}

// An errand owed twice is owed once; one that was taken comes again unless it is done.
func TestErrands(t *testing.T) {
	ctx := t.Context()
	h := newHeath(t, "errands")
	about := uuid.New()
	h.must(h.AddErrand(ctx, "provenance", about))
	h.must(h.AddErrand(ctx, "provenance", about))
	list, err := h.TakeErrands(ctx, 10)
	if err != nil || len(list) != 1 || list[0].Tries != 1 {
		t.Fatal(list, err)
	}
	if again, _ := h.TakeErrands(ctx, 10); len(again) != 0 {
		t.Error("an errand was taken twice at once")
	}
	h.must(h.PutOffErrand(ctx, list[0].ID, -time.Second, "broke"))
	if again, _ := h.TakeErrands(ctx, 10); len(again) != 1 || again[0].Tries != 2 {
		t.Error(again)
	}
	h.must(h.EndErrand(ctx, list[0].ID))
	if owes, err := h.OwesStatement(ctx, about); owes || err != nil {
		t.Error(owes, err)
	}
}
