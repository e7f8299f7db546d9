// Package known remembers which files of an estate this very program has read without an error, so that what it does not need of
// them need not be read again. It keeps one digest in one file: of the files' names and contents, and of what program it is. The digest is a fast
// one (xxHash, 64 bits): files that were made to collide would be read all the same, sentence by sentence, and the worst that they come to is that the program ends.
package known

import (
	"encoding/binary"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/cespare/xxhash/v2"
	"golang.org/x/sys/unix"

	"ironbark/internal/estate"
)

// Files remembers the last files that were kept. Several processes may use one at once: the last one that keeps something is
// remembered.
type Files struct{ path string }

// In returns the memory whose file is in a folder. Nothing is read or made before it is needed.
func In(dir string) Files { return Files{filepath.Join(dir, "read")} }

// Knows reports whether these are the files that were kept last, in any order, by this very program. On doubt they are not. Cost: linear in the files, some 0.1 ms a MB.
func (f Files) Knows(files []estate.File) bool {
	was, err := os.ReadFile(f.path)
	if err != nil || len(was) == 0 {
		return false
	}
	now, ok := digest(files)
	return ok && string(was) == now
}

// Keep remembers files that were read without an error. Where that cannot be kept, they are read whole again the next time.
func (f Files) Keep(files []estate.File) {
	now, ok := digest(files)
	if !ok {
		return
	}
	tmp, err := os.CreateTemp(filepath.Dir(f.path), ".read.*")
	if err != nil {
		return
	}
	_, err = tmp.WriteString(now)
	if closed := tmp.Close(); err == nil {
		err = closed
	}
	if err == nil {
		err = os.Rename(tmp.Name(), f.path)
	}
	if err != nil {
		_ = os.Remove(tmp.Name())
	}
}

// digest tells files and program from all others; ok is false where it is not known which program this is.
func digest(files []estate.File) (sum string, ok bool) {
	var st unix.Stat_t
	if unix.Stat("/proc/self/exe", &st) != nil {
		return "", false
	}
	h := xxhash.New()
	fmt.Fprintln(h, st.Dev, st.Ino, st.Size, st.Mtim.Nano(), st.Ctim.Nano())
	for _, f := range slices.SortedFunc(slices.Values(files), func(a, b estate.File) int { return strings.Compare(a.Name, b.Name) }) {
		for _, part := range [][]byte{[]byte(f.Name), f.Data} {
			_, _ = h.Write(binary.BigEndian.AppendUint64(nil, uint64(len(part)))) // it never fails
			_, _ = h.Write(part)
		}
	}
	return fmt.Sprintf("%016x", h.Sum64()), true
}
