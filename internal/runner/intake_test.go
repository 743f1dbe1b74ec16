package runner

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"oskeld.dev/oskeld/internal/core/assignment"
	"oskeld.dev/oskeld/internal/core/logtext"
	"oskeld.dev/oskeld/internal/core/view"
)

// printer is a step's two outputs into a log, of which each segment waits until it is let go.
type printer struct {
	out, errs intakeWriter
	intake    *intake
	log       *runLog
	letGo     chan struct{}
	sent      []assignment.Segment
}

func newPrinter(dir string) *printer {
	p := &printer{letGo: make(chan struct{})}
	p.log = newRunLog(0, time.Now(), nil, func(s assignment.Segment) { <-p.letGo; p.sent = append(p.sent, s) })
	p.intake = newIntake(dir, p.log)
	p.out = intakeWriter{p.intake, p.log.stream(0, false)}
	p.errs = intakeWriter{p.intake, p.log.stream(0, true)}
	return p
}

const manyLines = 40_000 // of 100 bytes: four times what is held in memory

func (p *printer) print(t *testing.T, w intakeWriter, from, n int) {
	t.Helper()
	for i := range n {
		if _, err := fmt.Fprintf(w, "%8d%s\n", from+i, strings.Repeat(".", 91)); err != nil {
			t.Error(err)
		}
	}
}

func (p *printer) lines(t *testing.T) []view.LogLine {
	t.Helper()
	p.log.flush()
	var lines []view.LogLine
	for _, s := range p.sent {
		part, err := logtext.Unpack(s.Body, s.First)
		if err != nil {
			t.Fatal(err)
		}
		lines = append(lines, part...)
	}
	return lines
}

// A step never waits for its log, whose lines have the order and the time in which they were printed. What
// lies on the disk meanwhile has no name there.
func TestPrintingWaitsForNoLog(t *testing.T) {
	_, _ = logtext.Unpack(logtext.Pack(nil), 1) // made out here, the packers may be used in any bubble
	dir := t.TempDir()
	synctest.Test(t, func(t *testing.T) {
		p := newPrinter(dir)
		p.print(t, p.out, 0, manyLines)
		p.print(t, p.errs, manyLines, 10)
		p.print(t, p.out, manyLines+10, 10)
		synctest.Wait()
		if len(p.sent) != 0 || p.intake.size < manyLines*100/4 {
			t.Fatalf("%d segments are sent, %d bytes lie on the disk", len(p.sent), p.intake.size)
		}
		if left, _ := os.ReadDir(dir); len(left) > 0 {
			t.Errorf("there is a file: %v", left)
		}
		printed := time.Since(p.log.began)
		time.Sleep(time.Hour)
		close(p.letGo)
		time.Sleep(time.Minute)
		p.print(t, p.out, manyLines+20, 1) // into memory again: the file is empty
		if p.intake.size != 0 {
			t.Errorf("the file still has %d bytes", p.intake.size)
		}
		p.intake.close(nil)
		lines := p.lines(t)
		for i, l := range lines {
			if !strings.HasPrefix(l.Text, fmt.Sprintf("%8d.", i)) || l.Error != (i >= manyLines && i < manyLines+10) {
				t.Fatalf("line %d is %+v", i+1, l)
			}
			if late := l.MS > printed.Milliseconds(); late != (i == manyLines+20) {
				t.Fatalf("line %d came after %d ms", i+1, l.MS)
			}
		}
		if len(lines) != manyLines+21 {
			t.Errorf("%d lines", len(lines))
		}
	})
}

// A disk that takes nothing makes the step wait, and loses nothing.
func TestPrintingOnFullDisk(t *testing.T) {
	p := newPrinter(filepath.Join(t.TempDir(), "not there"))
	close(p.letGo)
	p.print(t, p.out, 0, manyLines)
	p.intake.close(nil)
	if lines := p.lines(t); len(lines) != manyLines || !strings.HasPrefix(lines[manyLines-1].Text, fmt.Sprintf("%8d.", manyLines-1)) {
		t.Errorf("%d lines", len(lines))
	}
}

// What cannot be read back is told in its place.
func TestPrintedIsNotReadBack(t *testing.T) {
	p := newPrinter(t.TempDir())
	p.print(t, p.out, 0, manyLines)
	p.intake.mu.Lock()
	if err := p.intake.file.Truncate(0); err != nil {
		t.Fatal(err)
	}
	p.intake.mu.Unlock()
	close(p.letGo)
	p.intake.close(nil)
	lines := p.lines(t)
	if !slices.ContainsFunc(lines, func(l view.LogLine) bool { return strings.Contains(l.Text, "could not be read back: EOF") }) {
		t.Errorf("%d lines tell of nothing", len(lines))
	}
}

// Of a lost assignment nobody wants the rest, nor of a log that is cut.
func TestPrintingForNobody(t *testing.T) {
	p := newPrinter(t.TempDir())
	p.print(t, p.out, 0, manyLines)
	lost := make(chan struct{})
	close(lost)
	go func() { <-p.intake.ends; close(p.letGo) }()
	p.intake.close(lost)
	if lines := p.lines(t); len(lines) > manyLines/2 {
		t.Errorf("%d lines were handled", len(lines))
	}

	p = newPrinter(t.TempDir())
	close(p.letGo)
	p.log.size = MostLog - 10_000
	p.print(t, p.out, 0, manyLines)
	p.intake.close(nil)
	if lines := p.lines(t); len(lines) != 101 || !strings.Contains(lines[100].Text, "the log is cut here") {
		t.Errorf("%d lines", len(lines))
	}
}

// A step that waits for room goes on once its log is cut.
func TestPrintingGoesOnAfterTheCut(t *testing.T) {
	_, _ = logtext.Unpack(logtext.Pack(nil), 1)
	synctest.Test(t, func(t *testing.T) {
		p := newPrinter("/there is no such directory")
		p.log.size = MostLog - 250_000 // just beyond the first segment, at which the log waits
		printed := make(chan struct{})
		go func() { defer close(printed); p.print(t, p.out, 0, manyLines) }()
		synctest.Wait()
		select {
		case <-printed:
			t.Fatal("nothing waits")
		default:
		}
		close(p.letGo)
		<-printed
		p.intake.close(nil)
		if lines := p.lines(t); len(lines) != 2501 {
			t.Errorf("%d lines", len(lines))
		}
	})
}
