// Package clock reads the five fields of a clock rule (minute, hour, day of the month, month, day
// of the week, as in a crontab) and gives the instants at which it fires in a time zone.
//
//	rule, err := clock.Parse("30 5 * * 1-5")
//	next, ok := rule.Next(now, zone)
//
// Over daylight saving: a local time that does not exist fires at the next instant that does, one
// that exists twice fires at the first.
package clock

import (
	"fmt"
	"math/bits"
	"strconv"
	"strings"
	"time"
)

// Rule is a checked clock rule. Each field is a set of the values that fit.
type Rule struct {
	minute, hour, day, month, weekday uint64
	anyDay, anyWeekday                bool
}

// Error is a mistake in a rule. Offset counts bytes from 0.
type Error struct {
	Offset, Length int
	Message        string
	Advice         string
}

func (e *Error) Error() string { return e.Message }

type field struct {
	name        string
	least, most int
	words       string // three letters each, from the least value on
}

var fields = []field{
	{"minute", 0, 59, ""}, {"hour", 0, 23, ""}, {"day of the month", 1, 31, ""},
	{"month", 1, 12, "janfebmaraprmayjunjulaugsepoctnovdec"}, {"day of the week", 0, 7, "sunmontuewedthufrisat"},
}

// Parse reads five fields set apart by blanks: "*", numbers, names of three letters, ranges,
// lists, and steps such as "*/15". In the last field 0 and 7 are Sunday. Failures are of type *Error.
func Parse(text string) (Rule, error) {
	var sets [5]uint64
	n, at := 0, 0
	var parts []string
	for at < len(text) {
		if text[at] == ' ' || text[at] == '\t' {
			at++
			continue
		}
		end := at + strings.IndexAny(text[at:]+" ", " \t")
		if n < 5 {
			set, err := fields[n].parse(text[at:end], at)
			if err != nil {
				return Rule{}, err
			}
			sets[n] = set
		}
		parts = append(parts, text[at:end])
		n, at = n+1, end
	}
	if n != 5 {
		return Rule{}, &Error{0, len(text), fmt.Sprintf("a clock rule has five fields, this has %d", n),
			`minute, hour, day of the month, month, day of the week, as in "30 5 * * 1-5"`}
	}
	r := Rule{sets[0], sets[1], sets[2], sets[3], sets[4]&^(1<<7) | sets[4]>>7&1, parts[2] == "*", parts[4] == "*"}
	if _, ok := r.Next(time.Date(2024, 1, 1, 0, 0, 0, 0, time.UTC), time.UTC); !ok {
		return Rule{}, &Error{0, len(text), "this day never comes", "no month that it names has that day"}
	}
	return r, nil
}

func (f field) parse(text string, offset int) (set uint64, err error) {
	fail := func(part, message string, args ...any) error {
		at := offset + max(0, strings.Index(text, part))
		return &Error{at, max(1, len(part)), fmt.Sprintf(message, args...), fmt.Sprintf("%s takes %d to %d", f.name, f.least, f.most)}
	}
	for part := range strings.SplitSeq(text, ",") {
		span, step := part, 1
		if i := strings.IndexByte(part, '/'); i >= 0 {
			span = part[:i]
			if step, err = strconv.Atoi(part[i+1:]); err != nil || step < 1 || step > f.most {
				return 0, fail(part, "%q is not a step", part[i+1:])
			}
		}
		low, high := f.least, f.most
		if span != "*" {
			from, to, isRange := strings.Cut(span, "-")
			var ok1, ok2 bool
			low, ok1 = f.value(from)
			high, ok2 = low, true
			if isRange {
				high, ok2 = f.value(to)
			} else if strings.Contains(part, "/") {
				high = f.most
			}
			if !ok1 || !ok2 {
				return 0, fail(part, "%q is not a %s", part, f.name)
			}
			if low > high {
				return 0, fail(part, "the range %q runs backwards", span)
			}
		}
		for v := low; v <= high; v += step {
			set |= 1 << v
		}
	}
	return set, nil
}

func (f field) value(text string) (int, bool) {
	if i := strings.Index(f.words, strings.ToLower(text)); i >= 0 && len(text) == 3 && i%3 == 0 {
		return f.least + i/3, true
	}
	n, err := strconv.Atoi(text)
	return n, err == nil && n >= f.least && n <= f.most && text[0] != '+'
}

// Next is the first instant after a moment at which the rule fires in the zone; false when it does
// not within eight years.
func (r Rule) Next(after time.Time, zone *time.Location) (time.Time, bool) {
	local := after.In(zone)
	// Days are counted in plain dates, so that no change of the clock can skip or repeat one. The
	// first hour looked at is one before, for times that exist twice.
	day := time.Date(local.Year(), local.Month(), local.Day(), 0, 0, 0, 0, time.UTC)
	for range 8*366 + 1 {
		if r.fits(day) {
			for hours := r.hour; hours != 0; hours &= hours - 1 {
				for minutes := r.minute; minutes != 0; minutes &= minutes - 1 {
					at := instant(day, bits.TrailingZeros64(hours), bits.TrailingZeros64(minutes), zone)
					if at.After(after) {
						return at, true
					}
				}
			}
		}
		day = day.AddDate(0, 0, 1)
	}
	return time.Time{}, false
}

// fits tells whether a date fits; as in a crontab, a day of the month and a day of the week that
// are both named fit when either does.
func (r Rule) fits(day time.Time) bool {
	date, weekday := r.day>>day.Day()&1 == 1, r.weekday>>int(day.Weekday())&1 == 1
	if r.month>>int(day.Month())&1 == 0 {
		return false
	}
	if r.anyDay || r.anyWeekday {
		return date && weekday
	}
	return date || weekday
}

// instant is the moment of a local time.
func instant(day time.Time, hour, minute int, zone *time.Location) time.Time {
	wall := time.Date(day.Year(), day.Month(), day.Day(), hour, minute, 0, 0, time.UTC)
	at := time.Date(day.Year(), day.Month(), day.Day(), hour, minute, 0, 0, zone)
	same := func(t time.Time) bool {
		return t.Day() == wall.Day() && t.Hour() == wall.Hour() && t.Minute() == wall.Minute()
	}
	begins, ends := at.ZoneBounds()
	if !same(at) { // skipped by the clock: the moment of the change
		if at.Hour()*60+at.Minute() > hour*60+minute || at.Day() != wall.Day() && at.After(begins) {
			return begins
		}
		return ends
	}
	if !begins.IsZero() { // is it there a first time, under the offset before?
		_, offset := begins.Add(-time.Second).Zone()
		if first := wall.Add(-time.Duration(offset) * time.Second); first.Before(at) && same(first.In(zone)) {
			return first.In(zone)
		}
	}
	return at
}
