package cli

import (
	"bufio"
	"context"
	"fmt"
	"slices"

	"ironbark/internal/journal"
	"ironbark/internal/plainfile"
	"ironbark/internal/work"
)

// anchoredDoc is the document of what another log says of the journal.
type anchoredDoc struct {
	File    string   `json:"file"`
	Agrees  bool     `json:"agrees"`
	Anchors int      `json:"anchors"`
	Last    int64    `json:"last"`
	Entries int64    `json:"entries"`
	Differs []string `json:"differs"`
}

// mostInLine is how long a line of another log may be, in bytes.
const mostInLine = 1 << 20

// anchor compares the journal with what a log of somebody else has of it.
func (a *app) anchor(ctx context.Context, w *work.Work, path string) error {
	f, err := plainfile.Open(path)
	if err != nil {
		return wrong("%v", err)
	}
	defer f.Close()
	id, err := w.Site.EstateID(ctx)
	if err != nil {
		return err
	}
	had := map[int64][]string{} // hashes by number
	others := 0
	lines := bufio.NewScanner(f)
	lines.Buffer(nil, mostInLine)
	for lines.Scan() {
		switch one, found := journal.AnchorIn(lines.Text()); {
		case !found:
		case one.Estate != id:
			others++
		case !slices.Contains(had[one.Head.Seq], one.Head.Hash):
			had[one.Head.Seq] = append(had[one.Head.Seq], one.Head.Hash)
		}
	}
	if err := lines.Err(); err != nil {
		return wrong("%s: %v", path, err)
	}
	doc := anchoredDoc{File: path, Differs: []string{}}
	entries, err := w.Site.Journal(ctx)
	if err != nil {
		return err
	}
	for _, e := range entries {
		doc.Entries = e.Seq
		for _, hash := range had[e.Seq] {
			doc.Anchors++
			if hash == e.Sum() {
				doc.Last = e.Seq
			} else {
				doc.Differs = append(doc.Differs, fmt.Sprintf("entry %d is not the one of which %s was told", e.Seq, path))
			}
		}
		delete(had, e.Seq)
	}
	missing := make([]int64, 0, len(had))
	for seq := range had {
		missing = append(missing, seq)
	}
	slices.Sort(missing)
	for _, seq := range missing {
		doc.Anchors++
		doc.Differs = append(doc.Differs, fmt.Sprintf("entry %d, of which %s was told, is missing", seq, path))
	}
	if doc.Anchors == 0 {
		more := ""
		if others > 0 {
			more = fmt.Sprintf("; of other estates it has %d", others)
		}
		return wrong("%s has no anchor of this estate (%s)%s", path, id, more)
	}
	doc.Agrees = len(doc.Differs) == 0
	if a.json {
		err = a.print.JSON(doc)
	} else {
		for _, text := range doc.Differs {
			a.print.Line("%s", a.print.Bad(text))
		}
		if doc.Agrees {
			a.print.Line("%d entries stand as %s was told, the last is entry %d of %d", doc.Anchors, path, doc.Last, doc.Entries)
		}
	}
	if err == nil && !doc.Agrees {
		return errNotAnchored
	}
	return err
}

// errNotAnchored is the end of a command that has told how the journal differs from another log.
var errNotAnchored = fmt.Errorf("the journal is not the one of which others were told")
