package store

import (
	"fmt"
	"os"

	"golang.org/x/sys/unix"
)

// soundSuffix ends the name of the file that tells how a store looked when it was last closed
// by a program that had found it sound.
const soundSuffix = "-sound"

// look tells what file a store is, how long it is and when anything of it was changed last;
// "" where what was written to it is not all in it (SQLite's write-ahead log holds the rest).
func look(path string) string {
	if log, err := os.Stat(path + "-wal"); err == nil && log.Size() > 0 {
		return ""
	}
	var st unix.Stat_t
	if unix.Stat(path, &st) != nil {
		return ""
	}
	return fmt.Sprintln(st.Ino, st.Size, st.Mtim.Nano(), st.Ctim.Nano())
}

// asLeft reports whether a store is as it was left. On doubt it is not.
func asLeft(path string) bool {
	was, err := os.ReadFile(path + soundSuffix)
	return err == nil && len(was) > 0 && string(was) == look(path)
}

// leave remembers how a store looks. Where that cannot be kept, the whole of it is looked over
// once more by whoever writes to it next.
func leave(path string) {
	if now := look(path); now != "" {
		_ = os.WriteFile(path+soundSuffix, []byte(now), 0o600)
	}
}
