package runner

import (
	"bytes"
	"fmt"
	"strings"
	"sync"
	"time"
	"unicode/utf8"

	"oskeld.dev/oskeld/internal/core/assignment"
	"oskeld.dev/oskeld/internal/core/logtext"
	"oskeld.dev/oskeld/internal/core/mask"
)

// Limits on what a stage run may print.
const (
	MostLine = 1 << 20 // bytes of one line; the rest is cut with a note
	MostLog  = 1 << 30 // bytes of a stage run; the rest is cut with a note
)

const (
	segmentBytes = 256 << 10
	segmentDelay = 50 * time.Millisecond
)

// runLog numbers the lines of one stage run and gathers them into segments, which go out when
// they are full or a moment old.
type runLog struct {
	run     int
	began   time.Time
	out     func(assignment.Segment)
	mu      sync.Mutex
	raw     []byte
	lines   int
	next    int64 // number of the next line
	seq     int64
	size    int64
	timer   *time.Timer
	cut     bool
	secrets []string
}

func newRunLog(run int, began time.Time, secrets []string, out func(assignment.Segment)) *runLog {
	return &runLog{run: run, began: began, out: out, next: 1, secrets: secrets}
}

// say writes lines of our own, of the step, as standard error.
func (l *runLog) say(step int, format string, args ...any) { l.write(step, true, format, args...) }

// tell is say for what is no trouble: as standard output.
func (l *runLog) tell(step int, format string, args ...any) { l.write(step, false, format, args...) }

func (l *runLog) write(step int, isError bool, format string, args ...any) {
	at := time.Since(l.began)
	for line := range strings.Lines(mask.Text(fmt.Sprintf(format, args...), l.secrets)) {
		l.line(step, at, isError, []byte(strings.TrimRight(line, "\n")))
	}
}

// line adds a line that came so long after the stage run began.
func (l *runLog) line(step int, at time.Duration, isError bool, text []byte) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.cut {
		return
	}
	l.size += int64(len(text)) + 1
	if l.size > MostLog {
		l.cut = true
		text, isError = fmt.Appendf(nil, "— the log is cut here: a stage run keeps %d MiB —", MostLog>>20), true
	}
	if !utf8.Valid(text) {
		text = bytes.ToValidUTF8(text, []byte("\uFFFD"))
	}
	l.raw = logtext.Append(l.raw, step, at.Milliseconds(), isError, text)
	l.lines++
	if len(l.raw) >= segmentBytes {
		l.send()
	} else if l.timer == nil {
		l.timer = time.AfterFunc(segmentDelay, l.flush)
	}
}

// flush sends what is gathered.
func (l *runLog) flush() {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.send()
}

// full tells that the log is cut: nothing more goes into it.
func (l *runLog) full() bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.cut
}

// at is the number of the line that comes next.
func (l *runLog) at() int64 {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.next + int64(l.lines)
}

func (l *runLog) send() {
	if l.timer != nil {
		l.timer.Stop()
		l.timer = nil
	}
	if l.lines == 0 {
		return
	}
	l.seq++
	l.out(assignment.Segment{Run: l.run, Seq: l.seq, First: l.next, Lines: l.lines, Body: logtext.Pack(l.raw)})
	l.next += int64(l.lines)
	l.raw, l.lines = l.raw[:0], 0
}

// lineWriter splits a stream into lines. A line that is longer than MostLine is cut.
type lineWriter struct {
	line    func(text []byte) // which must not keep it
	held    []byte
	cutting bool
}

func (w *lineWriter) Write(p []byte) (int, error) {
	n := len(p)
	for len(p) > 0 {
		i := bytes.IndexByte(p, '\n')
		part := p
		if i >= 0 {
			part = p[:i]
		}
		if i >= 0 && len(w.held) == 0 && !w.cutting && len(part) <= MostLine { // most lines are whole
			w.line(lastDrawn(part))
			p = p[i+1:]
			continue
		}
		if room := MostLine - len(w.held); !w.cutting {
			w.held = append(w.held, part[:min(room, len(part))]...)
			if at := bytes.LastIndexByte(w.held, '\r'); at > 0 && at < len(w.held)-1 && len(w.held) > MostLine/2 {
				w.held = append(w.held[:0], w.held[at+1:]...) // what a bar drew before is gone
			}
			if len(part) > room {
				w.cutting = true
				w.line(fmt.Appendf(w.held, " … (the line is cut after %d KiB)", MostLine>>10))
				w.held = w.held[:0]
			}
		}
		if i < 0 {
			break
		}
		if !w.cutting {
			w.line(lastDrawn(w.held))
		}
		w.held, w.cutting = w.held[:0], false
		p = p[i+1:]
	}
	return n, nil
}

// end gives a last line that no line feed ended.
func (w *lineWriter) end() {
	if len(w.held) > 0 && !w.cutting {
		w.line(lastDrawn(w.held))
	}
	w.held, w.cutting = nil, false
}

// lastDrawn is what a terminal would show of a line in the end: a bar that draws itself anew after each
// carriage return counts once.
func lastDrawn(line []byte) []byte {
	if bytes.IndexByte(line, '\r') < 0 {
		return line
	}
	line = bytes.TrimRight(line, "\r")
	return line[bytes.LastIndexByte(line, '\r')+1:]
}

// stream is one of a step's two outputs: masked, then split into lines.
type stream struct {
	log  *runLog
	mask *mask.Writer
	to   *lineWriter
	at   time.Duration // when what is written just now came, after the stage run began
}

func (l *runLog) stream(step int, isError bool) *stream {
	s := &stream{log: l}
	s.to = &lineWriter{line: func(text []byte) { l.line(step, s.at, isError, text) }}
	s.mask = mask.New(s.to, l.secrets)
	return s
}

// write takes what came so long after the stage run began.
func (s *stream) write(at time.Duration, p []byte) {
	s.at = at
	_, _ = s.mask.Write(p) // into a log, which never fails
}

func (s *stream) end() {
	s.at = time.Since(s.log.began)
	_ = s.mask.Flush()
	s.to.end()
}
