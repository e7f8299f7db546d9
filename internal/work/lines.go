package work

import (
	"cmp"
	"context"
	"fmt"
	"time"

	"ironbark/internal/estate"
)

// lines bounds how many lines of the journal, and of what a command prints as it runs, record what each machine does by itself: a machine
// that fails and recovers again and again, or powers itself off. The zero lines is ready for use. It is not safe for concurrent use.
type lines struct {
	hours map[string]*machineHour // by machine
}

// machineHour is an hour in which a machine's lines are counted.
type machineHour struct {
	began   time.Time
	written int
	left    int // lines of this hour that were not written
}

// note prints a line about what a machine did, and records it as an entry of a kind. Beyond the machine's limit it does neither; the last
// line of an hour says so, and the first line after the hour says how many were left out. machine is empty for what no machine does: that
// has no limit.
func (l *lines) note(ctx context.Context, w *Work, e *estate.Estate, machine, kind, text string, tell func(string)) error {
	for _, line := range l.admitted(e, machine, text, w.Clock.Now()) {
		tell(line)
		if _, err := w.Site.Note(ctx, w.Person, kind, line); err != nil {
			return err
		}
	}
	return nil
}

// full reports whether a machine has caused as many lines as it may in the hour that now is in.
func (l *lines) full(e *estate.Estate, machine string, now time.Time) bool {
	m, there := e.Machine(machine)
	hour := l.hours[machine]
	return there && hour != nil && hour.holds(now) && hour.written >= limitOf(e, m)
}

// limitOf is how many lines a machine may cause in an hour.
func limitOf(e *estate.Estate, m estate.Machine) int {
	return cmp.Or(e.Limits.Traffic(m).Log, estate.DefaultLog)
}

// holds reports whether a time is in the hour. The clock may have gone back: then it is not.
func (h *machineHour) holds(now time.Time) bool {
	return !now.Before(h.began) && now.Sub(h.began) < time.Hour
}

// admitted returns the lines that are written where a machine causes one more.
func (l *lines) admitted(e *estate.Estate, machine, text string, now time.Time) (list []string) {
	m, there := e.Machine(machine)
	if !there {
		return []string{text}
	}
	limit := limitOf(e, m)
	hour := l.hours[machine]
	if hour == nil || !hour.holds(now) {
		if hour != nil && hour.left > 0 {
			list = append(list, fmt.Sprintf("machine %s: %d lines after %s were not recorded", machine, hour.left, hour.began.UTC().Format(time.RFC3339)))
		}
		if l.hours == nil {
			l.hours = map[string]*machineHour{}
		}
		hour = &machineHour{began: now}
		l.hours[machine] = hour
	}
	if hour.written >= limit {
		hour.left++
		return list
	}
	hour.written++
	list = append(list, text)
	if hour.written == limit {
		list = append(list, fmt.Sprintf("machine %s: more lines are not recorded before %s (limit: %d an hour)", machine, hour.began.Add(time.Hour).UTC().Format(time.RFC3339), limit))
	}
	return list
}
