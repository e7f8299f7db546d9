package guest

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"slices"
	"strings"
	"syscall"
	"time"
	"unicode/utf8"

	"mvdan.cc/sh/v3/interp"
)

// at makes an absolute path of one that a shell's handler was given.
func at(ctx context.Context, name string) string {
	if !path.IsAbs(name) {
		name = path.Join(interp.HandlerCtx(ctx).Dir, name)
	}
	return path.Clean(name)
}

var systemDirs = []string{"/", "/etc", "/root", "/home", "/home/" + User, "/tmp", "/var", "/var/log", "/srv", "/opt", "/usr", "/usr/bin", "/bin", "/dev", "/run", "/mnt"}

// system are the files that every machine has.
func (g *Guest) system() map[string]string {
	return map[string]string{
		"/etc/hostname":    g.Name + "\n",
		"/etc/hosts":       "127.0.0.1 localhost\n127.0.1.1 " + g.Name + "\n",
		"/etc/resolv.conf": g.resolvConf(),
		"/etc/os-release":  "NAME=\"Saltmarsh Linux\"\nID=saltmarsh\nVERSION_ID=1\n",
	}
}

// Read returns a file's contents.
func (g *Guest) Read(name string) (string, bool) {
	if text, ok := g.Files[name]; ok {
		return text, true
	}
	text, ok := g.system()[name]
	return text, ok
}

func (g *Guest) isDir(name string) bool {
	if slices.Contains(systemDirs, name) || slices.Contains(g.Dirs, name) {
		return true
	}
	for f := range g.Files {
		if strings.HasPrefix(f, strings.TrimSuffix(name, "/")+"/") {
			return true
		}
	}
	return false
}

// Write puts a file in place. The error tells that its folder is not there, or that the disk is full.
func (g *Guest) Write(name, text string) error {
	total := g.held() + len(name) + len(text) + entrySize
	if old, ok := g.Files[name]; ok {
		total -= len(name) + len(old) + entrySize
	}
	switch {
	case !utf8.ValidString(name):
		return &fs.PathError{Op: "open", Path: name, Err: fs.ErrInvalid}
	case g.isDir(name):
		return &fs.PathError{Op: "open", Path: name, Err: errors.New("is a directory")}
	case !g.isDir(path.Dir(name)):
		return &fs.PathError{Op: "open", Path: name, Err: fs.ErrNotExist}
	case total > MaxFiles:
		return &fs.PathError{Op: "write", Path: name, Err: ErrFull}
	}
	if g.Files == nil {
		g.Files = map[string]string{}
	}
	g.Files[name] = text
	return nil
}

// ErrFull says that a machine holds as much as it can.
var ErrFull = fmt.Errorf("no space left on device (the stand-in keeps %d MB a machine, names counted)", MaxFiles>>20)

// Mkdir makes a folder and those above it. The error says that the disk is full.
func (g *Guest) Mkdir(name string) error {
	total := g.held()
	for ; !g.isDir(name); name = path.Dir(name) {
		if total += len(name) + entrySize; total > MaxFiles {
			return &fs.PathError{Op: "mkdir", Path: name, Err: ErrFull}
		}
		g.Dirs = append(g.Dirs, name)
	}
	return nil
}

// Remove takes a file or a folder with all in it away, and reports whether it was there.
func (g *Guest) Remove(name string) bool {
	there := g.isDir(name)
	for f := range g.Files {
		if f == name || strings.HasPrefix(f, name+"/") {
			delete(g.Files, f)
			there = true
		}
	}
	g.Dirs = slices.DeleteFunc(g.Dirs, func(d string) bool { return d == name || strings.HasPrefix(d, name+"/") })
	return there
}

// Rename gives a file another name, in place of what has it.
func (g *Guest) Rename(name, to string) error {
	text, there := g.Files[name]
	if !there {
		return &fs.PathError{Op: "rename", Path: name, Err: fs.ErrNotExist}
	}
	if g.isDir(to) || !g.isDir(path.Dir(to)) {
		return &fs.PathError{Op: "rename", Path: to, Err: fs.ErrInvalid}
	}
	delete(g.Files, name)
	g.Files[to] = text
	return nil
}

// List returns the names in a folder, in order; folders end in a slash.
func (g *Guest) List(dir string) (names []string) {
	prefix := strings.TrimSuffix(dir, "/") + "/"
	add := func(name string, isDir bool) {
		rest, ok := strings.CutPrefix(name, prefix)
		if !ok || rest == "" {
			return
		}
		first, _, deeper := strings.Cut(rest, "/")
		if deeper || isDir {
			first += "/"
		}
		names = append(names, first)
	}
	for f := range g.Files {
		add(f, false)
	}
	for f := range g.system() {
		add(f, false)
	}
	for _, d := range append(slices.Clone(systemDirs), g.Dirs...) {
		add(d, true)
	}
	slices.Sort(names)
	return slices.Compact(names)
}

// Stat tells what stands under a name.
func (g *Guest) Stat(name string) (fs.FileInfo, error) {
	if g.isDir(name) {
		return info{name: path.Base(name), dir: true}, nil
	}
	if name == "/dev/null" {
		return info{name: "null"}, nil
	}
	text, ok := g.Read(name)
	if !ok {
		return nil, &fs.PathError{Op: "stat", Path: name, Err: fs.ErrNotExist}
	}
	return info{name: path.Base(name), size: int64(len(text))}, nil
}

type info struct {
	name string
	size int64
	dir  bool
}

func (i info) Name() string       { return i.name }
func (i info) Size() int64        { return i.size }
func (i info) ModTime() time.Time { return time.Unix(0, 0) } // nobody keeps it
func (i info) IsDir() bool        { return i.dir }
func (i info) Sys() any           { return &syscall.Stat_t{} } // everything is root's
func (i info) Mode() fs.FileMode {
	if i.dir {
		return fs.ModeDir | 0o755
	}
	return 0o644
}

// The handlers of the shell.

func (g *Guest) stat(ctx context.Context, name string, _ bool) (fs.FileInfo, error) {
	g.mu.Lock()
	defer g.mu.Unlock()
	return g.Stat(at(ctx, name))
}

func (g *Guest) access(ctx context.Context, name string, _ interp.AccessMode) error {
	g.mu.Lock()
	defer g.mu.Unlock()
	_, err := g.Stat(at(ctx, name))
	return err
}

func (g *Guest) readDir(ctx context.Context, name string) (list []fs.DirEntry, err error) {
	g.mu.Lock()
	defer g.mu.Unlock()
	dir := at(ctx, name)
	if !g.isDir(dir) {
		return nil, &fs.PathError{Op: "open", Path: name, Err: fs.ErrNotExist}
	}
	for _, n := range g.List(dir) {
		i, err := g.Stat(path.Join(dir, n))
		if err != nil {
			return nil, err
		}
		list = append(list, fs.FileInfoToDirEntry(i))
	}
	return list, nil
}

func (g *Guest) open(ctx context.Context, name string, flag int, _ fs.FileMode) (io.ReadWriteCloser, error) {
	g.mu.Lock()
	defer g.mu.Unlock()
	name = at(ctx, name)
	if name == "/dev/null" {
		return &file{}, nil
	}
	text, there := g.Read(name)
	if g.isDir(name) || !there && flag&os.O_CREATE == 0 {
		return nil, &fs.PathError{Op: "open", Path: name, Err: fs.ErrNotExist}
	}
	if flag&(os.O_WRONLY|os.O_RDWR) == 0 {
		return &file{b: bytes.NewBufferString(text)}, nil
	}
	if flag&os.O_APPEND == 0 {
		text = ""
	}
	if err := g.Write(name, text); err != nil {
		return nil, err
	}
	return &file{g: g, name: name, b: bytes.NewBufferString(text), err: interp.HandlerCtx(ctx).Stderr}, nil
}

// file is an open file; without a guest it is only read, or written to nowhere.
type file struct {
	b    *bytes.Buffer
	g    *Guest
	name string
	err  io.Writer // the shell's own programs say nothing of writes that fail
}

func (f *file) Read(p []byte) (int, error) {
	if f.b == nil {
		return 0, io.EOF
	}
	return f.b.Read(p)
}

func (f *file) Write(p []byte) (int, error) {
	if f.name == "" {
		return len(p), nil
	}
	f.g.mu.Lock()
	defer f.g.mu.Unlock()
	n, _ := f.b.Write(p)
	err := f.g.Write(f.name, f.b.String())
	if err != nil {
		fmt.Fprintln(f.err, err)
	}
	return n, err
}

func (f *file) Close() error { return nil }
