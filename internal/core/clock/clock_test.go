package clock

import (
	"errors"
	"strings"
	"testing"
	"time"
	_ "time/tzdata"
)

func TestNext(t *testing.T) {
	for _, c := range []struct{ rule, zone, after, want string }{
		{"30 5 * * 1-5", "Europe/Oslo", "2026-11-27T04:31:00Z", "2026-11-30T05:30:00+01:00"},
		{"30 5 * * 1-5", "Europe/Oslo", "2026-11-25T03:00:00Z", "2026-11-25T05:30:00+01:00"},
		{"*/15 * * * *", "UTC", "2026-11-25T03:00:00Z", "2026-11-25T03:15:00Z"},
		{"0 0 29 feb *", "UTC", "2026-11-25T03:00:00Z", "2028-02-29T00:00:00Z"},
		{"0 12 13 * fri", "UTC", "2026-11-25T03:00:00Z", "2026-11-27T12:00:00Z"},
		{"0 9 * * 7", "UTC", "2026-11-25T03:00:00Z", "2026-11-29T09:00:00Z"},
		{"5,35 8-10/2 1 jan-mar *", "UTC", "2026-11-25T03:00:00Z", "2027-01-01T08:05:00Z"},
		// 02:30 does not exist on 29 March: the clock goes from 02:00 to 03:00.
		{"30 2 * * *", "Europe/Oslo", "2026-03-28T12:00:00Z", "2026-03-29T03:00:00+02:00"},
		{"30 2 * * *", "Europe/Oslo", "2026-03-29T01:00:00Z", "2026-03-30T02:30:00+02:00"},
		{"30 2 * * *", "America/New_York", "2026-03-08T05:00:00Z", "2026-03-08T03:00:00-04:00"},
		// 02:30 exists twice on 25 October: at the first only.
		{"30 2 * * *", "Europe/Oslo", "2026-10-24T12:00:00Z", "2026-10-25T02:30:00+02:00"},
		{"30 2 * * *", "Europe/Oslo", "2026-10-25T00:30:00Z", "2026-10-26T02:30:00+01:00"},
	} {
		zone, err := time.LoadLocation(c.zone)
		if err != nil {
			t.Fatal(err)
		}
		after, _ := time.Parse(time.RFC3339, c.after)
		r, err := Parse(c.rule)
		if err != nil {
			t.Fatal(c.rule, err)
		}
		if got, _ := r.Next(after, zone); got.Format(time.RFC3339) != c.want {
			t.Errorf("%s in %s after %s: %s, want %s", c.rule, c.zone, c.after, got.Format(time.RFC3339), c.want)
		}
	}
}

func TestParseRefuses(t *testing.T) {
	for text, want := range map[string]Error{
		"30 5 * *":       {0, 8, "a clock rule has five fields, this has 4", "minute"},
		"":               {0, 0, "a clock rule has five fields, this has 0", "minute"},
		"30 25 * * *":    {3, 2, `"25" is not a hour`, "0 to 23"},
		"30 5 * * 5-1":   {9, 3, `the range "5-1" runs backwards`, "0 to 7"},
		"0 0 1,x * *":    {6, 1, `"x" is not a day of the month`, "1 to 31"},
		"*/0 * * * *":    {0, 3, `"0" is not a step`, "0 to 59"},
		"0 0 31 feb *":   {0, 12, "this day never comes", "no month"},
		"@daily":         {0, 6, `"@daily" is not a minute`, "0 to 59"},
		"0 0 * * monday": {8, 6, `"monday" is not a day of the week`, "0 to 7"},
	} {
		_, err := Parse(text)
		got, ok := errors.AsType[*Error](err)
		if !ok || got.Offset != want.Offset || got.Length != want.Length || got.Message != want.Message || !strings.Contains(got.Advice, want.Advice) {
			t.Errorf("%q: %+v", text, got)
		}
	}
}

// Instants grow, and each has the local time that was asked for, but where the clock skips it.
func FuzzNext(f *testing.F) {
	f.Add("30 2 * * *", int64(1774656000))
	oslo, _ := time.LoadLocation("Europe/Oslo")
	f.Fuzz(func(t *testing.T, text string, unix int64) {
		r, err := Parse(text)
		if err != nil {
			return
		}
		at := time.Unix(unix%(1<<32), 0)
		for range 5 {
			next, ok := r.Next(at, oslo)
			if !ok {
				return
			}
			if !next.After(at) {
				t.Fatalf("%q: %s is not after %s", text, next, at)
			}
			at = next
		}
	})
}
