package cli

import (
	"crypto/sha256"
	"encoding/hex"
	"io"
	"os"
	"path"
	"strings"
	"time"

	"github.com/schollz/progressbar/v3"

	"ironbark/internal/cli/view"
)

// worthKeeping is how much of a file is kept where its copy was broken off, in bytes.
const worthKeeping = 1 << 20

// The columns that a bar needs, and how much of a file's name stands before it.
const (
	leastForBar  = 80
	longestLabel = 20
)

// contentOf identifies a file's content.
func contentOf(f *os.File) (string, error) {
	h := sha256.New()
	if _, err := f.Seek(0, io.SeekStart); err != nil {
		return "", err
	}
	if _, err := io.Copy(h, f); err != nil {
		return "", err
	}
	return hex.EncodeToString(h.Sum(nil)), nil
}

// digestOf identifies some words.
func digestOf(words ...string) string {
	sum := sha256.Sum256([]byte(strings.Join(words, "\x00")))
	return hex.EncodeToString(sum[:])
}

// partName is what the part of a file is called that is being copied. It tells of what content, so that a
// copy never goes on from a part of something else.
func partName(base, what string) string {
	return "." + base[:min(len(base), 180)] + "." + what + ".part"
}

// progress shows on a terminal how far the copy or the upload of a file is.
func (a *app) progress(name string, begin, size int64) (bar io.Writer, done func()) {
	if begin > 0 {
		a.print.Note("goes on after the first %d bytes of %s", begin, name)
	}
	if a.print.ErrWidth < leastForBar || size < worthKeeping {
		return io.Discard, func() {}
	}
	if label := []rune(path.Base(name)); len(label) > longestLabel {
		name = string(label[:longestLabel-1]) + "…"
	} else {
		name = string(label)
	}
	b := progressbar.NewOptions64(size,
		progressbar.OptionSetWriter(a.print.Err), progressbar.OptionSetDescription(view.Escape(name)), progressbar.OptionShowBytes(true), progressbar.OptionUseIECUnits(false),
		progressbar.OptionThrottle(100*time.Millisecond), progressbar.OptionSetWidth(min(40, a.print.ErrWidth-len([]rune(name))-50)), progressbar.OptionClearOnFinish(), progressbar.OptionShowCount(),
	)
	_ = b.Add64(begin)
	return b, func() { _ = b.Clear() }
}
