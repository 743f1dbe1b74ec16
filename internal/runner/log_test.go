package runner

import (
	"fmt"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"oskeld.dev/oskeld/internal/core/assignment"
	"oskeld.dev/oskeld/internal/core/logtext"
)

func gather(t *testing.T, segments []assignment.Segment) (lines []string) {
	t.Helper()
	for i, s := range segments {
		if s.Seq != int64(i+1) || s.First != int64(len(lines)+1) {
			t.Errorf("segment %d begins at line %d after %d lines", s.Seq, s.First, len(lines))
		}
		list, err := logtext.Unpack(s.Body, s.First)
		if err != nil || len(list) != s.Lines {
			t.Fatal(len(list), err)
		}
		for _, l := range list {
			lines = append(lines, l.Text)
		}
	}
	return lines
}

// Lines go out a moment after they were printed, in full segments when many come.
func TestSegments(t *testing.T) {
	_, _ = logtext.Unpack(logtext.Pack(nil), 1) // made out here, the packers may be used in any bubble
	synctest.Test(t, func(t *testing.T) {
		var mu sync.Mutex // a timer sends, too
		var sent []assignment.Segment
		out := func() []assignment.Segment { mu.Lock(); defer mu.Unlock(); return sent }
		l := newRunLog(3, time.Now(), nil, func(s assignment.Segment) { mu.Lock(); defer mu.Unlock(); sent = append(sent, s) })
		l.line(0, 0, false, []byte("one"))
		if len(out()) != 0 {
			t.Error("a line went out alone at once")
		}
		time.Sleep(2 * segmentDelay)
		synctest.Wait()
		if len(out()) != 1 || out()[0].Run != 3 {
			t.Fatalf("%d segments after a moment", len(out()))
		}
		for i := range 20_000 {
			l.line(0, 0, true, fmt.Append(nil, "line ", i, strings.Repeat(".", 30)))
		}
		l.flush()
		if lines := gather(t, out()); len(lines) != 20_001 || lines[0] != "one" || len(out()) < 3 {
			t.Errorf("%d lines in %d segments", len(lines), len(out()))
		}
	})
}

func TestStreamsAreSplitMaskedAndCut(t *testing.T) {
	var out []assignment.Segment
	l := newRunLog(0, time.Now(), []string{"bees-know"}, func(s assignment.Segment) { out = append(out, s) })
	s := l.stream(0, false)
	for _, part := range []string{"a\nb", "c bees-", "know d\r\n", "bad \xff\n", "tail"} {
		s.write(0, []byte(part))
	}
	s.write(0, []byte("\n"+strings.Repeat("x", MostLine+10)+"\nafter"))
	s.end()
	l.flush()
	lines := gather(t, out)
	want := []string{"a", "bc ••• d", "bad \uFFFD", "tail", "", "after"}
	if len(lines) != len(want) {
		t.Fatalf("%d lines", len(lines))
	}
	for i, w := range want {
		if w != "" && lines[i] != w {
			t.Errorf("line %d: %.60q, want %q", i+1, lines[i], w)
		}
	}
	if cut := lines[4]; len(cut) > MostLine+100 || !strings.Contains(cut[MostLine:], "the line is cut") {
		t.Errorf("a long line came with %d bytes", len(cut))
	}
}

// A bar that draws itself anew after each carriage return is one line, as it stood in the end.
func TestBars(t *testing.T) {
	for _, c := range []struct{ printed, want string }{
		{"one\r\ntwo\r\n", "one|two"},
		{"10 %\r50 %\r100 %\ndone\n", "100 %|done"},
		{"10 %\r50 %\r", "50 %"},
		{"bar\r\r\n", "bar"},
		{"\r\r\rbar", "bar"},
		{"\n\r\n", "|"},
	} {
		for _, size := range []int{1, 3, 1000} {
			var got []string
			w := &lineWriter{line: func(text []byte) { got = append(got, string(text)) }}
			for rest := c.printed; rest != ""; {
				n := min(size, len(rest))
				_, _ = w.Write([]byte(rest[:n]))
				rest = rest[n:]
			}
			w.end()
			if strings.Join(got, "|") != c.want {
				t.Errorf("%q in pieces of %d: %q, want %s", c.printed, size, got, c.want)
			}
		}
	}
	// One that draws for megabytes without a line feed is not cut, and not kept.
	var got []string
	w := &lineWriter{line: func(text []byte) { got = append(got, string(text)) }}
	for i := range 100_000 {
		_, _ = fmt.Fprintf(w, "\rrestoring package %d of 100000 ...", i)
	}
	w.end()
	if len(got) != 1 || got[0] != "restoring package 99999 of 100000 ..." {
		t.Errorf("%d lines: %.80q", len(got), got)
	}
}
