package journal

import "time"

// MostBehind is how far a clock may be behind the latest moment that was recorded.
const MostBehind = time.Minute

// Later returns the later of a clock's moment and the latest that was recorded, and how
// far the clock is behind that, where it is more than [MostBehind].
func Later(clock, latest time.Time) (now time.Time, behind time.Duration) {
	if back := latest.Sub(clock); back > 0 {
		if back > MostBehind {
			behind = back
		}
		return latest, behind
	}
	return clock, 0
}
