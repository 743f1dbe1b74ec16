package logtext

import (
	"reflect"
	"strings"
	"testing"

	"oskeld.dev/oskeld/internal/core/fault"
	"oskeld.dev/oskeld/internal/core/view"
)

func TestRoundTrip(t *testing.T) {
	lines := []view.LogLine{
		{Number: 7, Step: 0, MS: 0, Text: "plain"},
		{Number: 8, Step: 3, MS: 123456, Error: true, Text: "tabs\tstay\tas they are"},
		{Number: 9, Step: 3, MS: 123457, Text: ""},
		{Number: 10, Step: 3, MS: 123457, Text: "10%\r20%\r100% – \x1b[31mred\x1b[0m"},
	}
	var raw []byte
	for _, l := range lines {
		raw = Append(raw, l.Step, l.MS, l.Error, []byte(l.Text))
	}
	got, err := Unpack(Pack(raw), 7)
	if err != nil || !reflect.DeepEqual(got, lines) {
		t.Errorf("%+v, %v", got, err)
	}
	if n, err := Count(Pack(raw)); err != nil || n != len(lines) {
		t.Errorf("%d lines are counted, %v", n, err)
	}
	for _, broken := range []string{"x\t1\t\ttext\n", "1\t\t\ttext\n", "1\t2\n", "-1\t2\t\ttext\n", "1\t99999999999999999999\t\ttext\n"} {
		if _, err := Count(Pack([]byte(broken))); err == nil {
			t.Errorf("%q is counted", broken)
		}
	}
	if found, err := Search(Pack(raw), 7, "AS THEY"); err != nil || len(found) != 1 || found[0].Number != 8 {
		t.Errorf("%+v, %v", found, err)
	}
	if found, err := Search(Pack(raw), 7, "123457"); err != nil || len(found) != 0 {
		t.Errorf("a time was found: %+v, %v", found, err)
	}
	if got, err := Unpack(Pack(nil), 1); err != nil || len(got) != 0 {
		t.Errorf("an empty segment: %v, %v", got, err)
	}
}

// A segment comes from an agent and may be anything, also a bomb.
func TestHostileSegments(t *testing.T) {
	for name, body := range map[string][]byte{
		"nothing of ours": []byte("hello"), "too few fields": Pack([]byte("1\t2\tx\n")), "no number": Pack([]byte("a\t2\t\tx\n")),
		"bomb": Pack([]byte(strings.Repeat("0\t0\t\tx\n", MostRaw/4))),
	} {
		if _, err := Unpack(body, 1); !fault.Is(err, fault.KindInvalid) {
			t.Errorf("%s: %v", name, err)
		}
	}
}

func FuzzUnpack(f *testing.F) {
	f.Add(Pack([]byte("0\t1\t\ttext\n")))
	f.Fuzz(func(t *testing.T, body []byte) {
		if lines, err := Unpack(body, 1); err == nil {
			var raw []byte
			for _, l := range lines {
				raw = Append(raw, l.Step, l.MS, l.Error, []byte(l.Text))
			}
			if again, err := Unpack(Pack(raw), 1); err != nil || len(again) != len(lines) {
				t.Errorf("%d lines became %d (%v)", len(lines), len(again), err)
			}
		}
	})
}
