package journal

import "fmt"

// Head is the last entry of a journal, as it is kept apart from the entries. The zero
// Head is that of an empty journal.
type Head struct {
	Seq  int64
	Hash string
}

// Break is one place at which a chain is broken. Breaks are comparable; one that was
// seen is known again by all its fields.
type Break struct {
	Seq  int64  // the entry that is missing, altered or out of place
	Why  string // in words
	Mark string // what stands there: another alteration of the same entry is another break
}

// String tells the entry and what is wrong with it.
func (b Break) String() string { return fmt.Sprintf("entry %d %s", b.Seq, b.Why) }

// Breaks lists every break of a chain that follows from, against its head. Entries come
// ascending by number. After a break the chain goes on with what stands there, so that
// each is told once. Cost: linear.
func Breaks(from Head, entries []Entry, head Head) (list []Break) {
	last := from
	for _, e := range entries {
		switch {
		case e.Seq != last.Seq+1:
			list = append(list, missing(last, e.Seq, e.Prev))
		case e.Prev != last.Hash:
			list = append(list, replaced(last, e.Prev))
		}
		if sum := e.Sum(); e.Hash != sum {
			list = append(list, Break{e.Seq, "was altered", sum})
		}
		last = Head{e.Seq, e.Hash}
	}
	switch {
	case last.Seq < head.Seq:
		list = append(list, missing(last, head.Seq+1, head.Hash))
	case last.Seq > head.Seq:
		list = append(list, Break{head.Seq + 1, "was added by something else", last.Hash})
	case last.Hash != head.Hash:
		list = append(list, replaced(last, head.Hash))
	}
	return list
}

func replaced(last Head, hash string) Break {
	return Break{last.Seq, "is not the one that was recorded", last.Hash + " " + hash}
}

func missing(last Head, next int64, prev string) Break {
	why := "is missing"
	if next-last.Seq > 2 {
		why = fmt.Sprintf("and those up to %d are missing", next-1)
	}
	return Break{last.Seq + 1, why, last.Hash + " " + prev}
}
