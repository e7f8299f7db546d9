// Package journal is the append-only record of what was done to a site. Entries
// are chained: each holds the hash of the one before it, and the site keeps the
// hash of the last one apart, so an entry that is altered, missing or cut off at
// the end is found.
package journal

import (
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"time"
)

// Entry is one record.
type Entry struct {
	Seq    int64     // from 1, without gaps
	At     time.Time // UTC
	Person string
	Action string // one word: enact, make, alter, remove, tables, open, extend, close
	Text   string // what was done, for people
	Data   string // what was done, as JSON; may be empty
	Prev   string // Hash of the entry before; "" for the first
	Hash   string
}

// Sum returns the hash that an entry must have: SHA-256 over its fields, each
// after its length as 8 bytes, most significant first, so that no two entries
// have the same input.
func (e Entry) Sum() string {
	h := sha256.New()
	for _, field := range []string{fmt.Sprint(e.Seq), e.At.UTC().Format(time.RFC3339Nano), e.Person, e.Action, e.Text, e.Data, e.Prev} {
		var length [8]byte
		binary.BigEndian.PutUint64(length[:], uint64(len(field)))
		h.Write(length[:])
		h.Write([]byte(field))
	}
	return hex.EncodeToString(h.Sum(nil))
}

// Next returns e as the entry after last; last is the zero Entry for the first.
func Next(last, e Entry) Entry {
	e.Seq, e.Prev = last.Seq+1, last.Hash
	e.At = e.At.UTC()
	e.Hash = e.Sum()
	return e
}

// Head returns the head of a journal whose last entry this is.
func (e Entry) Head() Head { return Head{e.Seq, e.Hash} }
