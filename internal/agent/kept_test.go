package agent

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"oskeld.dev/oskeld/internal/core/artifact"
	"oskeld.dev/oskeld/internal/core/fault"
)

// hold counts how often bytes had to come from elsewhere.
type hold struct {
	*kept
	t     *testing.T
	came  atomic.Int64
	bytes map[string]string
}

func newHold(t *testing.T, most int64) *hold {
	return &hold{kept: newKept(filepath.Join(t.TempDir(), "kept"), most), t: t, bytes: map[string]string{}}
}

func (h *hold) name(text string) string {
	name := string(artifact.DigestOf([]byte(text)))
	h.bytes[name] = text
	return name
}

// wants gets a text and checks from where it came.
func (h *hold) wants(name string, fromElsewhere bool) {
	h.t.Helper()
	before := h.came.Load()
	f, err := h.get(h.t.Context(), name, func(w io.Writer) error {
		h.came.Add(1)
		_, err := io.WriteString(w, h.bytes[name])
		return err
	})
	if err != nil {
		h.t.Fatal(err)
	}
	defer f.Close()
	if text, err := io.ReadAll(f); err != nil || string(text) != h.bytes[name] {
		h.t.Errorf("got %q %v, want %q", text, err, h.bytes[name])
	}
	if came := h.came.Load() > before; came != fromElsewhere {
		h.t.Errorf("%q came from elsewhere: %t", h.bytes[name], came)
	}
}

// What is kept does not come again, unless it was changed on the disk.
func TestKept(t *testing.T) {
	h := newHold(t, 1<<20)
	heather := h.name("heather")
	h.wants(heather, true)
	h.wants(heather, false)
	if err := os.WriteFile(h.at(heather), []byte("poison!"), 0o644); err != nil {
		t.Fatal(err)
	}
	h.wants(heather, true)
	made := filepath.Join(t.TempDir(), "made")
	if err := os.WriteFile(made, []byte("clover"), 0o644); err != nil {
		t.Fatal(err)
	}
	clover := h.name("clover")
	h.addFile(clover, made)
	h.wants(clover, false)
	h.addFile(h.name("other bytes"), made) // it was changed since its digest was taken
	h.wants(h.name("other bytes"), true)
	h.wants(bundled+"x", true)
	h.wants(bundled+"x", false)
	h.forget(bundled + "x")
	h.wants(bundled+"x", true)
}

// What fails is not kept, nor what has another digest.
func TestKeptNothing(t *testing.T) {
	h := newHold(t, 1<<20)
	fallen := errors.New("fallen")
	if _, err := h.get(t.Context(), h.name("a"), func(w io.Writer) error { _, _ = io.WriteString(w, "a"); return fallen }); !errors.Is(err, fallen) {
		t.Error(err)
	}
	if _, err := h.get(t.Context(), h.name("a"), func(w io.Writer) error { _, err := io.WriteString(w, "b"); return err }); !fault.Is(err, fault.KindRefused) {
		t.Error(err)
	}
	if left, err := os.ReadDir(h.dir); err != nil || len(left) > 0 {
		t.Errorf("left: %v %v", left, err)
	}
}

// What was used longest ago goes first; an agent that is to keep nothing still gets what it needs.
func TestKeptSweep(t *testing.T) {
	h := newHold(t, 25)
	var names []string
	for i := range 4 {
		name := h.name(fmt.Sprintf("ten bytes%d", i))
		h.wants(name, true)
		at := time.Now().Add(time.Duration(i-10) * time.Minute)
		_ = os.Chtimes(h.at(name), at, at)
		names = append(names, name)
	}
	h.wants(names[3], false)
	h.wants(names[2], false)
	h.wants(names[0], true)
	none := newHold(t, 0)
	for range 2 {
		none.wants(none.name("a"), true)
	}
	old := filepath.Join(h.dir, temporary+"1")
	if err := os.WriteFile(old, nil, 0o644); err != nil {
		t.Fatal(err)
	}
	past := time.Now().Add(-25 * time.Hour)
	if err := os.Chtimes(old, past, past); err != nil {
		t.Fatal(err)
	}
	h.sweep(h.most)
	if _, err := os.Stat(old); err == nil {
		t.Error("what was left half written stays for ever")
	}
}

// A full disk costs what is kept, before it costs a stage.
func TestKeptOnFullDisk(t *testing.T) {
	h := newHold(t, 1<<20)
	old := h.name("kept before")
	h.wants(old, true)
	tries := 0
	full := func(w io.Writer) error {
		if tries++; tries == 1 {
			return &os.PathError{Op: "write", Path: "x", Err: syscall.ENOSPC}
		}
		_, err := io.WriteString(w, "new")
		return err
	}
	f, err := h.get(t.Context(), h.name("new"), full)
	if err != nil {
		t.Fatal(err)
	}
	f.Close()
	h.wants(old, true)
	if _, err := h.get(t.Context(), h.name("never"), func(io.Writer) error { return syscall.ENOSPC }); !errors.Is(err, syscall.ENOSPC) {
		t.Error(err)
	}
}

// Steps find at least as much room as is taken by what is kept.
func TestKeptLeavesRoom(t *testing.T) {
	h := newHold(t, 1<<20)
	var free atomic.Int64
	free.Store(1 << 30)
	h.free = free.Load
	old, newer := h.name("heather"), h.name("ling and heather")
	h.wants(old, true)
	past := time.Now().Add(-time.Minute)
	if err := os.Chtimes(h.at(old), past, past); err != nil {
		t.Fatal(err)
	}
	h.wants(newer, true)
	free.Store(9) // with the 23 that are kept there is room for 32
	h.makeRoom()
	h.wants(newer, false)
	free.Store(16)
	h.makeRoom()
	h.wants(newer, false)
	h.wants(old, true)
}

// Those that want the same at once wait for the first, and go on by themselves when it fails.
func TestKeptAtOnce(t *testing.T) {
	h := newHold(t, 1<<20)
	name := h.name(strings.Repeat("bees ", 1000))
	var all sync.WaitGroup
	errs := make([]error, 16)
	for i := range errs {
		all.Go(func() {
			f, err := h.get(t.Context(), name, func(w io.Writer) error {
				if h.came.Add(1) == 1 {
					return context.Canceled
				}
				_, err := io.WriteString(w, h.bytes[name])
				return err
			})
			if errs[i] = err; err == nil {
				f.Close()
			}
		})
	}
	all.Wait()
	failed := 0
	for _, err := range errs {
		if errors.Is(err, context.Canceled) {
			failed++
		} else if err != nil {
			t.Error(err)
		}
	}
	if came := h.came.Load(); failed != 1 || came != 2 {
		t.Errorf("%d failed, the bytes were asked for %d times", failed, came)
	}
}
