package cli

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"ironbark/internal/proof"
	"ironbark/internal/sentence"
	"ironbark/internal/work"
)

// writeProofs writes each guarantee of what a review leads to as a question to a solver,
// a file each, into a folder that has nothing in it yet.
func (a *app) writeProofs(r *work.Review, dir string) error {
	switch list, err := os.ReadDir(dir); {
	case err == nil && len(list) > 0:
		return usage("%s has something in it: proofs go into a folder of their own", dir)
	case err != nil && !errors.Is(err, fs.ErrNotExist):
		return usage("--proof: %v", err)
	}
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return usage("--proof: %v", err)
	}
	broken := map[string]bool{}
	for _, b := range r.Broken {
		broken[b.Guarantee.Sentence] = true
	}
	_, after := r.States()
	n := 0
	for _, st := range after.Estate.SentencesOf(sentence.VerbNever, sentence.VerbAlways) {
		n++
		var text bytes.Buffer
		err := proof.Write(&text, proof.Guarantee{Estate: after.Estate, Plan: after.Plan, Stated: st, At: a.clock.Now(), Broken: broken[st.Sentence.String()]})
		if err != nil {
			return err
		}
		if err := work.WriteFile(filepath.Join(dir, fmt.Sprintf("%03d-%s.smt2", n, slug(st.Sentence.String()))), text.Bytes(), 0o644); err != nil {
			return err
		}
	}
	a.print.Note("wrote %d guarantees to %s in SMT-LIB: a solver says unsat of one that holds", n, dir)
	return nil
}

// mostSlug is how long the words in a file's name are at most.
const mostSlug = 60

// slug makes words into a part of a file's name.
func slug(text string) string {
	words := strings.FieldsFunc(text, func(r rune) bool { return (r < 'a' || r > 'z') && (r < '0' || r > '9') })
	name := strings.Join(words, "-")
	return strings.TrimRight(name[:min(len(name), mostSlug)], "-")
}
