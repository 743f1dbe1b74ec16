package mask

import (
	"bytes"
	"encoding/base64"
	"math/rand/v2"
	"net/url"
	"strings"
	"testing"
)

// A secret is masked wherever the stream is cut, byte by byte.
func TestMaskAcrossEveryCut(t *testing.T) {
	secret := "s3cret/value+more"
	text := "before " + secret + " between " + base64.StdEncoding.EncodeToString([]byte("xy"+secret)) + " and " + url.QueryEscape(secret) + " end"
	whole := Text(text, []string{secret})
	if strings.Contains(whole, secret) || strings.Contains(whole, url.QueryEscape(secret)) || !strings.HasPrefix(whole, "before "+Shown+" between ") || !strings.HasSuffix(whole, " and "+Shown+" end") {
		t.Fatalf("masked as %q", whole)
	}
	if strings.Contains(whole, "c2VjcmV0") {
		t.Errorf("base64 stays: %q", whole)
	}
	for cut := range len(text) {
		var b bytes.Buffer
		m := New(&b, []string{secret})
		_, _ = m.Write([]byte(text[:cut]))
		_, _ = m.Write([]byte(text[cut:]))
		_ = m.Flush()
		if b.String() != whole {
			t.Fatalf("cut at %d: %q", cut, b.String())
		}
	}
}

func TestLinesOfASecret(t *testing.T) {
	key := "-----BEGIN KEY-----\nMIIabcdef0123\nzzz9876543\n-----END KEY-----\n"
	got := Text("a MIIabcdef0123 b\nzzz9876543\n", []string{key})
	if strings.Contains(got, "MII") || strings.Contains(got, "zzz") {
		t.Errorf("got %q", got)
	}
}

func TestShortAndNone(t *testing.T) {
	if got := Text("abc 1", []string{"1", "abc", ""}); got != "abc 1" {
		t.Errorf("short secrets were masked: %q", got)
	}
	if got := Text("anything", nil); got != "anything" {
		t.Errorf("got %q", got)
	}
}

func TestOverlapping(t *testing.T) {
	if got := Text("aaaab aaaa aaaabbbb", []string{"aaaa", "aaaabbbb"}); got != Shown+"b "+Shown+" "+Shown {
		t.Errorf("got %q", got)
	}
}

func FuzzMask(f *testing.F) {
	f.Add("secret", "xx secret yy", 5)
	f.Fuzz(func(t *testing.T, secret, text string, cut int) {
		if len(secret) < Shortest || strings.Contains(secret, "\n") || strings.Contains(secret, "\r") || strings.Contains(Shown, secret) || strings.Contains(secret, Shown) {
			return
		}
		cut = max(0, min(len(text), cut))
		var b bytes.Buffer
		m := New(&b, []string{secret})
		_, _ = m.Write([]byte(text[:cut]))
		_, _ = m.Write([]byte(text[cut:]))
		_ = m.Flush()
		if strings.Contains(strings.ReplaceAll(b.String(), Shown, "\x00"), secret) && !strings.Contains(secret, "\x00") {
			t.Errorf("%q stays in %q", secret, b.String())
		}
	})
}

// Whatever the needles and the cuts, what comes out is what a look at every place gives.
func TestAgainstEveryPlace(t *testing.T) {
	rng := rand.New(rand.NewPCG(1, 2))
	word := func(n int) string {
		b := make([]byte, n)
		for i := range b {
			b[i] = "ab"[rng.IntN(2)]
		}
		return string(b)
	}
	for range 3000 {
		secrets := []string{word(4 + rng.IntN(4)), word(4 + rng.IntN(9))}
		text := word(rng.IntN(60))
		var got bytes.Buffer
		m := New(&got, secrets)
		for rest := text; rest != ""; {
			n := 1 + rng.IntN(len(rest))
			_, _ = m.Write([]byte(rest[:n]))
			rest = rest[n:]
		}
		_ = m.Flush()
		want := ""
	places:
		for i := 0; i < len(text); {
			for _, n := range m.needles {
				if strings.HasPrefix(text[i:], string(n)) {
					want += Shown
					i += len(n)
					continue places
				}
			}
			want += text[i : i+1]
			i++
		}
		if got.String() != want {
			t.Fatalf("%q in %q: got %q, want %q", secrets, text, got.String(), want)
		}
	}
}
