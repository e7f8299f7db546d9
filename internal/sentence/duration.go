package sentence

import (
	"fmt"
	"strconv"
	"strings"
	"time"
)

// MaxDuration is the longest length of time that a sentence may state: ten years of 365 days.
const MaxDuration = 3650 * 24 * time.Hour

// MaxYear is the last year, in UTC, in which a moment may lie: RFC 3339 has four digits.
const MaxYear = 9999

// Duration is a length of time as sentences write it, in whole seconds, more
// than zero and at most [MaxDuration]. The zero Duration means none was given.
type Duration struct{ seconds int64 }

var durationUnits = []struct {
	letter  byte
	seconds int64
}{{'d', 86400}, {'h', 3600}, {'m', 60}, {'s', 1}}

// ParseDuration reads 45m, 2h, 1h30m or 3d: whole numbers with the units d, h, m
// and s, the larger first, each once at most.
func ParseDuration(text string) (Duration, error) {
	malformed := fmt.Errorf("%q is no length of time: write 45m, 2h, 1h30m or 3d", text)
	var total int64
	rest, unit := text, 0
	for rest != "" {
		end := strings.IndexFunc(rest, func(r rune) bool { return r < '0' || r > '9' })
		if end <= 0 || end > 9 {
			return Duration{}, malformed
		}
		n, err := strconv.ParseInt(rest[:end], 10, 64)
		if err != nil {
			return Duration{}, malformed
		}
		for unit < len(durationUnits) && durationUnits[unit].letter != rest[end] {
			unit++
		}
		if unit == len(durationUnits) {
			return Duration{}, malformed
		}
		total += n * durationUnits[unit].seconds
		unit++
		rest = rest[end+1:]
	}
	switch {
	case text == "":
		return Duration{}, malformed
	case total == 0:
		return Duration{}, fmt.Errorf("%q: a length of time is more than zero", text)
	case total > int64(MaxDuration/time.Second):
		return Duration{}, fmt.Errorf("%q: a length of time is at most %d days", text, int64(MaxDuration/time.Hour)/24)
	}
	return Duration{total}, nil
}

// DurationOf returns d as a Duration, cut down to whole seconds.
func DurationOf(d time.Duration) Duration { return Duration{int64(d / time.Second)} }

// Length returns d as a time.Duration.
func (d Duration) Length() time.Duration { return time.Duration(d.seconds) * time.Second }

// IsZero reports whether no length was given.
func (d Duration) IsZero() bool { return d.seconds == 0 }

// String prints d with the largest units first: 90 minutes are 1h30m.
func (d Duration) String() string {
	if d.seconds <= 0 {
		return "0s"
	}
	var b strings.Builder
	rest := d.seconds
	for _, u := range durationUnits {
		if n := rest / u.seconds; n > 0 {
			fmt.Fprintf(&b, "%d%c", n, u.letter)
			rest %= u.seconds
		}
	}
	return b.String()
}

// printTime prints a moment as files hold it (RFC 3339).
func printTime(t time.Time) string { return t.Format(time.RFC3339Nano) }

// parseTime reads RFC 3339, or, where a person types, 18:00 for the next such
// time on the clock of now's location.
func parseTime(text string, typed bool, now time.Time) (time.Time, error) {
	if t, err := time.Parse(time.RFC3339Nano, text); err == nil {
		if t.Year() < 1 || t.IsZero() {
			return time.Time{}, fmt.Errorf("%q is too long ago", text)
		}
		if t.UTC().Year() > MaxYear {
			return time.Time{}, fmt.Errorf("%q lies beyond the year %d", text, MaxYear)
		}
		return t, nil
	}
	clock, err := time.Parse("15:04", text)
	if err != nil || len(text) != len("15:04") {
		return time.Time{}, fmt.Errorf("%q is no time: write it as 2026-11-23T18:00:00Z%s", text, map[bool]string{true: " or 18:00"}[typed])
	}
	if !typed {
		return time.Time{}, fmt.Errorf("%q: a file holds whole times, such as 2026-11-23T%s:00Z, since “the next %s” moves", text, text, text)
	}
	for day := range 3 { // a day on which the clock springs over that hour is passed over
		next := time.Date(now.Year(), now.Month(), now.Day()+day, clock.Hour(), clock.Minute(), 0, 0, now.Location())
		if next.After(now) && next.Hour() == clock.Hour() {
			return next, nil
		}
	}
	return time.Time{}, fmt.Errorf("%q: no such time in the next days", text)
}
