package runner

import (
	"bytes"
	"testing"
	"time"

	"oskeld.dev/oskeld/internal/core/assignment"
)

// BenchmarkLog is what a line costs from a step's pipe into a packed segment.
func BenchmarkLog(b *testing.B) {
	text := bytes.Repeat([]byte("the heath is wide, the bees are many, and every line is told\n"), 64<<10/61)
	b.SetBytes(int64(len(text)))
	l := newRunLog(0, time.Now(), []string{"bees-know-the-way-home", "oks_ABCDEFGHIJKLMNOPQRSTUVWXYZ"}, func(assignment.Segment) {})
	s := l.stream(0, false)
	for b.Loop() {
		s.write(0, text)
		l.size = 0
	}
}
