package exposure

// Buckets finds things again in a growing list where equality is dear to ask: things that are equal have the same key, and few others have it. The zero
// value finds nothing and must not be added to; use a made map. It is not safe for concurrent use.
type Buckets[K comparable] map[K][]int

// Place returns the index of the thing with a key that is the same as the one asked about. Where there is none, found is false and the index is next, which
// the caller then gives to a new thing. Cost: linear in the things with that key.
func (b Buckets[K]) Place(key K, next int, same func(i int) bool) (i int, found bool) {
	for _, i := range b[key] {
		if same(i) {
			return i, true
		}
	}
	b[key] = append(b[key], next)
	return next, false
}
