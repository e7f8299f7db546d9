package cache

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"os"
	"path/filepath"
	"time"

	"ironbark/internal/estate"
)

// Answer remembers the last answer to one question. Several processes may use one at once: the last one that keeps an answer is remembered.
type Answer struct{ path string }

// AnswerIn returns the memory of an answer whose file has a name in a folder. Nothing is read or made before it is needed.
func AnswerIn(dir, name string) Answer { return Answer{filepath.Join(dir, name)} }

// Key tells what an answer came from apart from all else (SHA-256): files, and anything besides. It is "" where it is not known which program this
// is; nothing is kept under that.
func Key(files []estate.File, besides ...[]byte) string {
	h := sha256.New()
	if !digest(h, files) {
		return ""
	}
	for _, part := range besides {
		write(h, part)
	}
	return hex.EncodeToString(h.Sum(nil))
}

// kept is an answer as it stands in its file.
type kept struct {
	Key   string    `json:"key"`
	From  time.Time `json:"from"`  // the answer holds from this moment
	Until time.Time `json:"until"` // and before this one; zero: for good
	What  any       `json:"what"`
}

// Get reads the answer to what a key came from, as it is at a moment. It reports false where that is not known; into may be written to then.
func (a Answer) Get(key string, at time.Time, into any) bool {
	data, err := os.ReadFile(a.path)
	if err != nil || key == "" {
		return false
	}
	k := kept{What: into}
	return json.Unmarshal(data, &k) == nil && k.Key == key && !at.Before(k.From) && (k.Until.IsZero() || at.Before(k.Until))
}

// Keep remembers an answer that holds from a moment, and before another one where that is not zero.
func (a Answer) Keep(key string, from, until time.Time, what any) {
	data, err := json.Marshal(kept{key, from, until, what})
	if err == nil && key != "" {
		replace(a.path, data)
	}
}
