// Package mask takes secrets out of a stream of bytes, also where a secret is split over writes.
//
//	m := mask.New(w, []string{"s3cret-value"})
//	m.Write(output); m.Flush()
//
// Each secret is also recognised line by line, in base64 (at any alignment) and URL-encoded.
package mask

import (
	"bytes"
	"encoding/base64"
	"io"
	"net/url"
	"slices"
	"strings"
)

// Shown stands where a secret stood.
const Shown = "•••"

// Shortest is the length in bytes below which a text is not masked: masking "1" everywhere would
// destroy the log and tell more than it hides.
const Shortest = 4

// Writer masks what goes through it. It holds back at most one needle's length. Not for
// use by several goroutines at once.
type Writer struct {
	to      io.Writer
	needles [][]byte // longest first
	longest int
	window  int // length of the shortest needle, or 255
	// skip says by how much a window may move on whose last two bytes are these, before any needle can begin
	// with it (Wu and Manber, A Fast Algorithm for Multi-Pattern Searching, 1994).
	skip [1 << 16]uint8
	held []byte
	out  []byte
}

// New masks the secrets in what is written on to w.
func New(w io.Writer, secrets []string) *Writer {
	m := &Writer{to: w, needles: needles(secrets)}
	if len(m.needles) == 0 {
		return m
	}
	m.longest = len(m.needles[0])
	m.window = min(len(m.needles[len(m.needles)-1]), 255)
	for i := range m.skip {
		m.skip[i] = uint8(m.window - 1)
	}
	for _, n := range m.needles {
		for i := range m.window - 1 {
			at := pair(n[i], n[i+1])
			m.skip[at] = min(m.skip[at], uint8(m.window-2-i))
		}
	}
	return m
}

func pair(a, b byte) int { return int(a)<<8 | int(b) }

func needles(secrets []string) [][]byte {
	set := map[string]bool{}
	add := func(s string) {
		if len(s) >= Shortest {
			set[s] = true
		}
	}
	for _, secret := range secrets {
		for _, form := range append(strings.Split(secret, "\n"), secret) {
			form = strings.TrimRight(form, "\r")
			if len(form) < Shortest {
				continue
			}
			add(form)
			add(url.QueryEscape(form))
			add(url.PathEscape(form))
			for shift := range 3 {
				add(base64Core(form, shift, base64.RawStdEncoding))
				add(base64Core(form, shift, base64.RawURLEncoding))
			}
		}
	}
	var out [][]byte
	for s := range set {
		out = append(out, []byte(s))
	}
	slices.SortFunc(out, func(a, b []byte) int {
		if len(a) != len(b) {
			return len(b) - len(a)
		}
		return bytes.Compare(a, b)
	})
	return out
}

// base64Core is the part of the base64 text that depends on the secret alone when shift bytes
// stand before it.
func base64Core(secret string, shift int, enc *base64.Encoding) string {
	text := enc.EncodeToString(append(make([]byte, shift), secret...))
	from := (shift*8 + 5) / 6
	to := (shift + len(secret)) * 8 / 6
	if to-from < 6 { // too little left to be sure of
		return ""
	}
	return text[from:to]
}

// Write passes on what is certain and keeps back what may be the start of a secret.
func (m *Writer) Write(p []byte) (int, error) {
	if m.longest == 0 {
		return m.to.Write(p)
	}
	if len(m.held) == 0 {
		return len(p), m.pass(p, false)
	}
	m.held = append(m.held, p...)
	return len(p), m.pass(m.held, false)
}

// Flush passes on what is held back; the stream has ended, or paused at a point where a secret
// cannot go on.
func (m *Writer) Flush() error { return m.pass(m.held, true) }

// pass passes on what is certain of data, and holds the rest back.
func (m *Writer) pass(data []byte, end bool) error {
	out, from, i := m.out[:0], 0, 0
scan:
	for i < len(data) {
		if last := i + m.window - 1; last < len(data) {
			if skip := m.skip[pair(data[last-1], data[last])]; skip > 0 {
				i += int(skip)
				continue
			}
		}
		rest := data[i:]
		for _, n := range m.needles {
			if bytes.HasPrefix(rest, n) {
				out = append(append(out, data[from:i]...), Shown...)
				i += len(n)
				from = i
				continue scan
			}
			if !end && len(rest) < len(n) && bytes.HasPrefix(n, rest) {
				break scan
			}
		}
		i++
	}
	sure := data[from:i]
	if len(out) > 0 { // something was masked
		out = append(out, sure...)
		sure = out
	}
	m.out = out[:0]
	var err error
	if len(sure) > 0 {
		_, err = m.to.Write(sure)
	}
	m.held = append(m.held[:0], data[i:]...)
	return err
}

// Text masks the secrets in a text.
func Text(s string, secrets []string) string {
	var b bytes.Buffer
	m := New(&b, secrets)
	_, _ = io.WriteString(m, s)
	_ = m.Flush()
	return b.String()
}
