package turn

import (
	"fmt"
	"strings"
	"testing"
	"time"
)

// Offers are written as project, rank and second: "a01" is project a, rank 0, ready in second 1.
func TestOrder(t *testing.T) {
	for _, c := range []struct{ name, offers, busy, want string }{
		{"none", "", "", ""},
		{"the longest waiting first", "a03 a01 a02", "", "a01 a02 a03"},
		{"a person before the clock", "a21 a11 a09", "", "a09 a11 a21"},
		{"projects take turns", "a01 a02 a03 b04 b05", "", "a01 b04 a02 b05 a03"},
		{"who has places waits", "a01 a02 b03 b04", "aa", "b03 b04 a01 a02"},
		{"a project alone gets all", "a01 a02 a03", "aaaa", "a01 a02 a03"},
		{"urgency tells between equals", "a21 b02", "ab", "b02 a21"},
		{"a quiet project's clock before a busy one's person", "a01 b22", "a", "b22 a01"},
	} {
		var offers []Offer
		for _, text := range strings.Fields(c.offers) {
			offers = append(offers, Offer{text[:1], Rank(text[1] - '0'), time.Unix(int64(text[2]-'0'), 0)})
		}
		busy := map[string]int{}
		for _, p := range c.busy {
			busy[string(p)]++
		}
		var got []string
		for _, i := range Order(offers, busy) {
			o := offers[i]
			got = append(got, fmt.Sprintf("%s%d%d", o.Project, o.Rank, o.Ready.Unix()))
		}
		if strings.Join(got, " ") != c.want {
			t.Errorf("%s: %v, want %s", c.name, got, c.want)
		}
	}
}

func BenchmarkOrder(b *testing.B) {
	var offers []Offer
	for i := range 1000 {
		offers = append(offers, Offer{fmt.Sprint(i % 40), Rank(i % 3), time.Unix(int64(i), 0)})
	}
	for b.Loop() {
		Order(offers, nil)
	}
}
