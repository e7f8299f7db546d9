package cli

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"net/netip"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"github.com/dustin/go-humanize"
	"github.com/pkg/sftp"
	"github.com/spf13/cobra"
	"golang.org/x/crypto/ssh"
	"golang.org/x/sys/unix"

	"ironbark/internal/plainfile"
	"ironbark/internal/sentence"
	"ironbark/internal/work"
)

func (a *app) copyCommand() *cobra.Command {
	opt := &connecting{}
	c := &cobra.Command{
		Use: "copy FROM TO", Short: "Copy a file or a folder to a machine, or from one",
		Long: "Copy a file, or a folder with all that is in it, to a machine or from one; one of both is MACHINE:PATH. Addresses need no\n" +
			"brackets: a machine is called by its name. Links and what else is no ordinary file are left out, and told.\n" +
			"A file is put in place once all of it is there. Where a copy was broken off, the same command goes on from there.",
		Example: "  ironbark copy page.html gauge-web-1:/srv/\n  ironbark copy gauge-web-1:/srv/page.html .\n  ironbark copy charts tide-archive:/srv/",
		RunE: a.with(func(ctx context.Context, w *work.Work, args []string) error {
			if len(args) != 2 {
				return usage("copy takes from where and to where")
			}
			if err := opt.caller(w); err != nil {
				return err
			}
			fromMachine, from, fromThere := onMachine(args[0])
			toMachine, to, toThere := onMachine(args[1])
			switch {
			case fromThere == toThere:
				return usage("one of both is on a machine: MACHINE:PATH")
			case toThere:
				if _, err := copied(from); err != nil { // before anything is opened for it
					return err
				}
				return a.overSSH(ctx, w, toMachine, opt, func(c *ssh.Client) error {
					return a.copying(c, func(x *copying) error { return x.put(from, toMachine, to) })
				})
			}
			return a.overSSH(ctx, w, fromMachine, opt, func(c *ssh.Client) error {
				return a.copying(c, func(x *copying) error { return x.get(fromMachine, from, to) })
			})
		}),
	}
	opt.flags(c)
	return c
}

// onMachine takes MACHINE:PATH apart. A path with a slash before the colon is here.
func onMachine(word string) (machine, at string, there bool) {
	machine, at, there = strings.Cut(word, ":")
	if _, err := netip.ParseAddr(word); err == nil || !there || sentence.ValidName(machine) != nil {
		return "", word, false
	}
	return machine, at, true
}

// copied tells what is at a path here: an ordinary file that can be read, or a folder.
func copied(path string) (fs.FileInfo, error) {
	info, err := os.Stat(path)
	if err != nil {
		return nil, wrong("%v", err)
	}
	if info.IsDir() {
		return info, nil
	}
	f, err := plainfile.Open(path)
	if err != nil {
		return nil, wrong("%v", err)
	}
	return info, f.Close()
}

// copying is one copy between here and a machine.
type copying struct {
	there *sftp.Client
	files int
	bytes int64
	left  []string // what was left out
	kept  bool     // a part of what was broken off stays
	a     *app
}

// copying copies, and tells what was copied, also where it broke off.
func (a *app) copying(client *ssh.Client, do func(*copying) error) (err error) {
	there, err := sftp.NewClient(client, sftp.UseConcurrentWrites(true))
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, ignoreGone(there.Close())) }()
	x := &copying{there: there, a: a}
	err = do(x)
	for _, name := range x.left {
		a.print.Note("left out: %s is no ordinary file", name)
	}
	if x.kept {
		a.print.Note("what was copied of it stays: the same command goes on from there")
	}
	switch {
	case x.files == 1 && err == nil:
		a.print.Line("copied %d bytes", x.bytes)
	case x.files > 0 || err == nil:
		a.print.Line("copied %d files, %s", x.files, humanize.Bytes(uint64(x.bytes)))
	}
	return err
}

// put copies to a machine.
func (x *copying) put(from, machine, to string) error {
	if info, err := x.there.Stat(to); to == "" || strings.HasSuffix(to, "/") || err == nil && info.IsDir() {
		whole, err := filepath.Abs(from)
		if err != nil {
			return err
		}
		to = path.Join(to, filepath.Base(whole))
	}
	return filepath.WalkDir(from, func(name string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		rel, err := filepath.Rel(from, name)
		if err != nil {
			return err
		}
		at := path.Join(to, filepath.ToSlash(rel))
		info, err := os.Lstat(name)
		if name == from {
			info, err = os.Stat(name) // what was named may be a link
		}
		switch {
		case err != nil:
			return err
		case info.IsDir():
			if there, err := x.there.Stat(at); err == nil && there.IsDir() {
				return nil
			}
			if err := x.there.Mkdir(at); err != nil {
				return fmt.Errorf("%s:%s: %w", machine, at, err)
			}
			return nil
		case !info.Mode().IsRegular():
			x.left = append(x.left, name)
			return nil
		}
		if err := x.putFile(name, at, info.Mode()); err != nil {
			return fmt.Errorf("%s:%s: %w", machine, at, err)
		}
		return nil
	})
}

func (x *copying) putFile(name, at string, mode fs.FileMode) (err error) {
	local, err := plainfile.Open(name)
	if err != nil {
		return err
	}
	defer local.Close()
	what, err := contentOf(local)
	if err != nil {
		return err
	}
	part := path.Join(path.Dir(at), partName(path.Base(at), what))
	remote, err := x.there.OpenFile(part, os.O_WRONLY|os.O_CREATE)
	if err != nil {
		return err
	}
	n, err := x.transfer(part, at, local, remote)
	if err = errors.Join(err, remote.Close()); err == nil {
		err = x.replaceThere(part, at)
	}
	if err != nil {
		return x.brokenOff(err, n, func() error { return x.there.Remove(part) })
	}
	x.files++
	x.bytes += n
	return x.there.Chmod(at, modeOf(mode))
}

// inFlight is more than what one copy writes without waiting for answers: where it was broken off there may
// be holes in as much, and that is written again.
const inFlight = 4 << 20

// transfer writes what a part lacks of a file here, and returns how much of it is there.
func (x *copying) transfer(part, at string, local *os.File, remote *sftp.File) (int64, error) {
	size, err := local.Seek(0, io.SeekEnd)
	if err != nil {
		return 0, err
	}
	begin := int64(0)
	if has, err := x.there.Stat(part); err == nil && has.Size() <= size {
		begin = max(0, has.Size()-inFlight)
	}
	_, err1 := local.Seek(begin, io.SeekStart)
	_, err2 := remote.Seek(begin, io.SeekStart)
	if err := errors.Join(err1, err2); err != nil {
		return 0, err
	}
	bar, done := x.a.progress(at, begin, size)
	defer done()
	n, err := remote.ReadFrom(&sized{io.TeeReader(local, bar), size - begin})
	return begin + n, err
}

// sized is a reader whose length is known, so that several requests are on their way at once.
type sized struct {
	io.Reader
	size int64
}

// Size is the length.
func (s *sized) Size() int64 { return s.size }

// replaceThere puts a part in a file's place.
func (x *copying) replaceThere(part, at string) error {
	if err := x.there.PosixRename(part, at); err == nil {
		return nil
	}
	_ = x.there.Remove(at) // servers without that extension refuse to put one in another's place
	return x.there.Rename(part, at)
}

// brokenOff keeps what was copied of a large file, and takes away what is not worth it.
func (x *copying) brokenOff(err error, n int64, remove func() error) error {
	if n < worthKeeping {
		return errors.Join(err, ignoreGone(remove()))
	}
	x.kept = true
	return err
}

// ignoreGone leaves out that a connection is over, or that a file is not there.
func ignoreGone(err error) error {
	if errors.Is(err, sftp.ErrSSHFxConnectionLost) || errors.Is(err, fs.ErrNotExist) || errors.Is(err, net.ErrClosed) || errors.Is(err, io.EOF) {
		return nil
	}
	return err
}

// modeOf is the mode of a copy: everybody may read it, and run it where somebody may run the original.
func modeOf(mode fs.FileMode) fs.FileMode {
	if mode&0o111 != 0 {
		return 0o755
	}
	return 0o644
}

// get copies from a machine. What a machine calls its files leads nowhere outside of the folder
// that they are copied to.
func (x *copying) get(machine, from, to string) error {
	info, err := x.there.Stat(from)
	if err != nil {
		return wrong("%s:%s: %v", machine, from, err)
	}
	here, name := filepath.Dir(to), filepath.Base(to)
	if at, err := os.Stat(to); err == nil && at.IsDir() || strings.HasSuffix(to, "/") {
		here, name = to, path.Base(path.Clean(from))
	}
	root, err := os.OpenRoot(here)
	if err != nil {
		return wrong("%v", err)
	}
	defer root.Close()
	return x.getInto(root, from, name, info, machine)
}

func (x *copying) getInto(root *os.Root, from, to string, info fs.FileInfo, machine string) error {
	switch {
	case !filepath.IsLocal(to):
		return fmt.Errorf("%s:%s: %q is no name for a file here", machine, from, to)
	case info.Mode().IsRegular():
		if err := x.getFile(root, from, to, info); err != nil {
			return fmt.Errorf("%s:%s: %w", machine, from, err)
		}
		return nil
	case !info.IsDir():
		x.left = append(x.left, machine+":"+from)
		return nil
	}
	if err := root.Mkdir(to, 0o755); err != nil && !errors.Is(err, fs.ErrExist) {
		return err
	}
	list, err := x.there.ReadDir(from)
	if err != nil {
		return fmt.Errorf("%s:%s: %w", machine, from, err)
	}
	slices.SortFunc(list, func(a, b fs.FileInfo) int { return strings.Compare(a.Name(), b.Name()) })
	for _, one := range list {
		if strings.ContainsAny(one.Name(), `/\`) || one.Name() == ".." {
			return fmt.Errorf("%s:%s: %q is no name for a file here", machine, from, one.Name())
		}
		if err := x.getInto(root, path.Join(from, one.Name()), filepath.Join(to, one.Name()), one, machine); err != nil {
			return err
		}
	}
	return nil
}

// getFile puts a file in place once all of it is here.
func (x *copying) getFile(root *os.Root, from, to string, info fs.FileInfo) (err error) {
	remote, err := x.there.Open(from)
	if err != nil {
		return err
	}
	defer remote.Close()
	what := digestOf(from, strconv.FormatInt(info.Size(), 10), info.ModTime().UTC().String())
	if info.ModTime().Unix() == 0 { // nobody can tell whether it is the same file the next time
		what = rand.Text()
	}
	part := filepath.Join(filepath.Dir(to), partName(filepath.Base(to), what))
	local, err := root.OpenFile(part, os.O_WRONLY|os.O_CREATE, modeOf(info.Mode()))
	if err != nil {
		return err
	}
	n, err := x.fetch(from, remote, local, info.Size())
	if err = errors.Join(err, local.Close()); err == nil {
		err = root.Rename(part, to)
	}
	if err != nil {
		if info.ModTime().Unix() == 0 {
			n = 0
		}
		return x.brokenOff(err, n, func() error { return root.Remove(part) })
	}
	x.files++
	x.bytes += n
	return nil
}

// fetch appends what a part here lacks of a file there, and returns how much of it is here. Nobody else
// writes to the part meanwhile.
func (x *copying) fetch(from string, remote *sftp.File, local *os.File, size int64) (int64, error) {
	if err := unix.Flock(int(local.Fd()), unix.LOCK_EX|unix.LOCK_NB); err != nil {
		return worthKeeping, errors.New("another copy of the same file is under way")
	}
	begin, err := local.Seek(0, io.SeekEnd)
	if err != nil {
		return 0, err
	}
	if begin > size {
		begin = 0
		if err := local.Truncate(0); err != nil {
			return 0, err
		}
	}
	if _, err := local.Seek(begin, io.SeekStart); err != nil {
		return 0, err
	}
	if _, err := remote.Seek(begin, io.SeekStart); err != nil {
		return begin, err
	}
	bar, done := x.a.progress(from, begin, size)
	defer done()
	n, err := remote.WriteTo(io.MultiWriter(local, bar))
	return begin + n, err
}
