package database

import (
	"testing"
	"time"

	"github.com/google/uuid"
	"oskeld.dev/oskeld/internal/core/admit"
	"oskeld.dev/oskeld/internal/core/artifact"
	"oskeld.dev/oskeld/internal/core/assignment"
	"oskeld.dev/oskeld/internal/core/cache"
)

// The longest unused caches go beyond the quota; their bytes once nothing refers to them and nobody holds them.
func TestCachesAndTheirBytes(t *testing.T) {
	ctx := t.Context()
	h := newHeath(t, "caches")
	b, _ := h.build(ctx)
	digests := map[string]artifact.Digest{}
	keep := func(name string, by string) {
		t.Helper()
		d := artifact.DigestOf([]byte(name))
		digests[name] = d
		h.must(h.HoldBlobs(ctx, []artifact.Digest{d}, []int64{100}, "build x", time.Hour))
		basis := cache.Basis{Dirs: []string{"~/jars"}, By: map[string]artifact.Digest{"lock": artifact.DigestOf([]byte(by))}, System: "linux/amd64"}
		first, err := h.AddCache(ctx, h.project, Cache{ID: uuid.New(), Key: basis.Key(), Basis: basis, Digest: d, Size: 100}, b.ID, 0)
		if h.must(err); !first {
			t.Fatalf("%s was there", name)
		}
	}
	for _, name := range []string{"one", "two", "three"} {
		keep(name, name)
	}
	again := cache.Basis{Dirs: []string{"~/jars"}, By: map[string]artifact.Digest{"lock": artifact.DigestOf([]byte("one"))}, System: "linux/amd64"}
	if first, err := h.AddCache(ctx, h.project, Cache{ID: uuid.New(), Key: again.Key(), Basis: again, Digest: digests["two"], Size: 100}, b.ID, 0); err != nil || first {
		t.Errorf("a key was taken twice: %v", err)
	}
	found, ok, err := h.FindCache(ctx, h.project, again.Key())
	if h.must(err); !ok || found.From != "hivebook/1" {
		t.Fatalf("%+v", found)
	}
	h.must(h.UseCache(ctx, found.ID, b.ID, 0)) // so "two" is the longest unused
	h.must(h.SetCaches(ctx, h.project, 200, 30, admit.List{}))
	h.must(h.EvictCaches(ctx, h.project))
	if list, err := h.Caches(ctx, h.project); err != nil || len(list) != 2 || list[0].Uses != 1 || list[1].Digest != digests["three"] {
		t.Fatalf("%+v %v", list, err)
	}
	gone, err := h.GoneBlobs(ctx)
	if h.must(err); len(gone) != 1 || gone[0] != digests["two"] {
		t.Fatal(gone)
	}
	removed := 0
	remove := func(name string) {
		t.Helper()
		h.must(h.RemoveBlob(ctx, digests[name], func() error { removed++; return nil }))
	}
	if remove("two"); removed != 0 {
		t.Error("a blob that somebody holds was removed")
	}
	h.must(h.exec(ctx, `update blob_hold set until = now() - interval '1 second'`))
	if remove("three"); removed != 0 {
		t.Error("a blob of a cache was removed")
	}
	remove("two")
	remove("two")
	if gone, _ := h.GoneBlobs(ctx); removed != 2 || len(gone) != 0 { // the second finds nothing to forget, and nothing on the disk
		t.Errorf("removed %d, gone %v", removed, gone)
	}
}

// A log that has become a blob takes no segment any more, whoever sends it late.
func TestLogBlobs(t *testing.T) {
	ctx := t.Context()
	h := newHeath(t, "logblobs")
	b, _ := h.build(ctx)
	segments := make([]assignment.Segment, 3)
	for i := range segments {
		segments[i] = assignment.Segment{Seq: int64(i + 1), First: int64(i*10 + 1), Lines: 10, Body: []byte("body")}
	}
	added, err := h.AddSegments(ctx, b.ID, 1, segments)
	if h.must(err); len(added) != 3 {
		t.Fatal(added)
	}
	open, err := h.OpenLogs(ctx, b.ID)
	if h.must(err); len(open) != 1 || open[0] != (LogKey{0, 1}) {
		t.Fatal(open)
	}
	log := LogBlob{Run: 0, Fence: 1, Digest: artifact.DigestOf([]byte("log")), Size: 12, Lines: 30, Places: []LogPlace{{1, 1, 10, 4}, {2, 11, 10, 4}, {3, 21, 10, 4}}}
	for range 2 { // the second time as an errand that was cut off does
		h.must(h.AddLogBlob(ctx, b.ID, log))
	}
	if added, err := h.AddSegments(ctx, b.ID, 1, segments[2:]); err != nil || len(added) > 0 {
		t.Errorf("a late segment was taken: %v", err)
	}
	got, ok, err := h.LogBlobOf(ctx, b.ID, LogKey{0, 1})
	if h.must(err); !ok || len(got.Places) != 3 || got.Lines != 30 {
		t.Errorf("%+v", got)
	}
	if open, _ := h.OpenLogs(ctx, b.ID); len(open) != 0 {
		t.Errorf("segments are left: %v", open)
	}
	removed := false
	h.must(h.RemoveBlob(ctx, log.Digest, func() error { removed = true; return nil }))
	if removed {
		t.Error("the bytes of a log were removed")
	}
}
