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
	first   [256]bool
	longest int
	held    []byte
}

// New masks the secrets in what is written on to w.
func New(w io.Writer, secrets []string) *Writer {
	m := &Writer{to: w, needles: needles(secrets)}
	for _, n := range m.needles {
		m.first[n[0]] = true
		m.longest = max(m.longest, len(n))
	}
	return m
}

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
	m.held = append(m.held, p...)
	return len(p), m.pass(false)
}

// Flush passes on what is held back; the stream has ended, or paused at a point where a secret
// cannot go on.
func (m *Writer) Flush() error { return m.pass(true) }

func (m *Writer) pass(end bool) error {
	out := make([]byte, 0, len(m.held))
	i := 0
scan:
	for i < len(m.held) {
		rest := m.held[i:]
		if m.first[rest[0]] {
			for _, n := range m.needles {
				if bytes.HasPrefix(rest, n) {
					out = append(out, Shown...)
					i += len(n)
					continue scan
				}
				if !end && len(rest) < len(n) && bytes.HasPrefix(n, rest) {
					break scan
				}
			}
		}
		out = append(out, rest[0])
		i++
	}
	m.held = append(m.held[:0], m.held[i:]...)
	if len(out) == 0 {
		return nil
	}
	_, err := m.to.Write(out)
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
