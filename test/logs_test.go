package test

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"

	"github.com/jackc/pgx/v5"
	"oskeld.dev/oskeld/internal/core/assignment"
	"oskeld.dev/oskeld/internal/core/progress"
)

// When a build has ended its logs leave the database, and read, follow and download as before.
func TestLogsBecomeBlobs(t *testing.T) {
	w := newWorld(t)
	w.agent("barrow", "--places", "2")
	w.pipeline("hivebook", "[stage.count]\nscript = \"seq 1 30000 | sed 's/$/ bees at the entrance of the hive/'\"\n[stage.sing]\nafter = []\nscript = \"for i in 1 2 3 4 5; do echo hum $i; sleep 0.15; done; exit 3\"\n")
	b := w.start("hivebook", "")
	if d := w.await(b); d.State != progress.Failed {
		t.Fatal(d.State)
	}
	before, sung := w.lines(b, 0), w.lines(b, 1)
	c, err := pgx.Connect(t.Context(), w.database)
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close(context.Background())
	count := func(table string) (n int) {
		t.Helper()
		if err := c.QueryRow(t.Context(), "select count(*) from "+table).Scan(&n); err != nil {
			t.Fatal(err)
		}
		return n
	}
	w.until("the log's text has left the database", func() bool { return count("log_segment") == 0 })
	if n := count("log_blob"); n != 2 {
		t.Errorf("%d blobs, want one a stage run", n)
	}
	if after := w.lines(b, 0); len(before) != 30000 || strings.Join(before, "\n") != strings.Join(after, "\n") || after[29999] != "30000 bees at the entrance of the hive" {
		t.Errorf("%d lines, then %d", len(before), len(after))
	}
	if after := w.lines(b, 1); strings.Join(sung, "\n") != strings.Join(after, "\n") {
		t.Errorf("%q, then %q", sung, after)
	}
	if d := w.build(b); d.Runs[0].Lines != 30000 {
		t.Errorf("%d lines are told", d.Runs[0].Lines)
	}
	out, _ := w.run("", "follow", "hivebook/1")
	for _, want := range []string{"│ 1 bees", "│ 30000 bees", "│ hum 5", "failed hivebook/1"} {
		if !strings.Contains(out, want) {
			t.Errorf("follow lacks %q", want)
		}
	}
	if n := strings.Count(out, " bees at the entrance"); n != 30000 {
		t.Errorf("follow told %d lines", n)
	}
	if text := w.fetch("/api/v1/builds/hivebook/1/runs/0/text"); text != strings.Join(before, "\n")+"\n" {
		t.Errorf("%d bytes came as text", len(text))
	}
	// The next round has a log of its own, and the first one's stays.
	fence := w.build(b).Runs[1].Fence
	w.ok("again", "hivebook/1")
	w.await(b)
	w.until("the second round's log has left the database", func() bool { return count("log_segment") == 0 })
	if text := w.fetch(fmt.Sprintf("/api/v1/builds/hivebook/1/runs/1/text?fence=%d", fence)); !strings.HasPrefix(text, "hum 1\n") {
		t.Errorf("the first round's log: %q", text)
	}
}

// A service that answers slowly does not hold up the log: what was printed meanwhile comes all at once. An
// agent of 0.1.0 sends one piece at a time.
func TestLogOverSlowWire(t *testing.T) {
	w := newWorld(t)
	printed := filepath.Join(w.dir, "printed")
	var calls atomic.Int64
	address := between(t, w.address, func(to http.ResponseWriter, r *http.Request, on http.Handler) {
		if r.URL.Path != "/agents/log" {
			on.ServeHTTP(to, r)
			return
		}
		if calls.Add(1) == 1 {
			w.until("all is printed", func() bool { _, err := os.Stat(printed); return err == nil })
			on.ServeHTTP(to, r)
			return
		}
		pieces, err := assignment.ReadSegments(r.Body)
		if err != nil {
			t.Error(err)
		}
		for _, p := range pieces {
			old := r.Clone(r.Context())
			old.Body, old.ContentLength = io.NopCloser(bytes.NewReader(p.Body)), int64(len(p.Body))
			old.URL.RawQuery += fmt.Sprintf("&run=%d&seq=%d&first=%d&lines=%d", p.Run, p.Seq, p.First, p.Lines)
			answer := httptest.NewRecorder()
			on.ServeHTTP(answer, old)
			if answer.Code != http.StatusOK {
				t.Errorf("%d %s", answer.Code, answer.Body)
			}
		}
	})
	w.agent("barrow", "--service", address)
	w.pipeline("hivebook", "[stage.sing]\nscript = \"for i in 1 2 3 4 5 6 7 8; do echo hum $i; sleep 0.1; done; touch "+printed+"\"\n")
	b := w.start("hivebook", "")
	if d := w.await(b); d.State != progress.Passed {
		t.Fatal(d.State, d.Cause)
	}
	if got := strings.Join(w.lines(b, 0), ", "); got != "hum 1, hum 2, hum 3, hum 4, hum 5, hum 6, hum 7, hum 8" {
		t.Error(got)
	}
	if n := calls.Load(); n > 4 {
		t.Errorf("eight pieces came in %d calls", n)
	}
}
