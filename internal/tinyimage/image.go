// Package tinyimage makes the system of tiny guests out of a kernel as Debian packs it and
// the program that package tinyguest is, which is a part of this program:
//
//	FOLDER/kernel   the kernel, unpacked
//	FOLDER/initrd   the program and the modules that it loads (a cpio archive, newc)
//	FOLDER/disk     an empty ext4 file system, from which system disks grow
package tinyimage

import (
	"bytes"
	"compress/gzip"
	"embed"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"

	"github.com/cavaliergopher/cpio"
)

//go:embed built
var built embed.FS

// The names of what an image is made of.
const (
	Kernel = "kernel"
	Initrd = "initrd"
	Disk   = "disk"
	Stamp  = "made-from"
)

// ErrNoGuest says that this program was built without the tiny guest.
var ErrNoGuest = errors.New("this ironbark was built without the tiny guest: build it with make")

// guest returns the program, packed as it is in this one.
func guest() ([]byte, error) {
	packed, err := built.ReadFile("built/init.gz")
	if err != nil || len(packed) < 18 {
		return nil, ErrNoGuest
	}
	return packed, nil
}

// ID names the program that is a part of this one: images of different ones are apart. It is "" where there is
// none.
func ID() string {
	packed, err := guest()
	if err != nil {
		return ""
	}
	return name(packed)
}

// name tells programs apart, in constant time: by the check sum and the length that its packed form ends with
// (RFC 1952, 2.3.1).
func name(packed []byte) string {
	return fmt.Sprintf("%x-%d", packed[len(packed)-8:], len(packed))
}

// diskSize is how large the file system of a new system disk is, in bytes: as large as the smallest
// disk. It grows when it is mounted.
const diskSize = 1_000_000_000

// Ready reports whether the image in a folder is there and was made by this program.
func Ready(dir string) bool {
	packed, err := guest()
	if err != nil {
		return false
	}
	made, err := os.ReadFile(filepath.Join(dir, Stamp))
	return err == nil && strings.HasPrefix(string(made), name(packed)+"\n")
}

// KernelOf names the kernel of the image in a folder; "" where none is there.
func KernelOf(dir string) string {
	made, _ := os.ReadFile(filepath.Join(dir, Stamp))
	_, kernel, _ := strings.Cut(strings.TrimSpace(string(made)), "\n")
	return kernel
}

// Make makes the image in a folder, from an unpacked kernel package. Kernel and first files take the place of those that
// are there; the disk stays, for the disks of machines lie on it. Where it fails the folder is not taken for ready. It runs
// mke2fs of e2fsprogs.
func Make(dir, unpacked string) error {
	own, err := guest()
	if err != nil {
		return err
	}
	r, err := gzip.NewReader(bytes.NewReader(own))
	if err != nil {
		return err
	}
	program, err := io.ReadAll(r)
	if err != nil {
		return err
	}
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	if err := os.Remove(filepath.Join(dir, Stamp)); err != nil && !errors.Is(err, os.ErrNotExist) {
		return err
	}
	packed, err := read(unpacked, "boot/vmlinuz-*")
	if err != nil {
		return err
	}
	kernel, err := unpackKernel(packed)
	if err != nil {
		return err
	}
	where, err := find(unpacked, "lib/modules/*")
	if err != nil {
		return err
	}
	list, err := modules(where)
	if err != nil {
		return err
	}
	initrd, err := archive(program, list)
	if err != nil {
		return err
	}
	if err := makeDisk(filepath.Join(dir, Disk)); err != nil {
		return err
	}
	for name, data := range map[string][]byte{Kernel: kernel, Initrd: initrd} {
		path := filepath.Join(dir, name)
		if err := os.WriteFile(path+".new", data, 0o644); err != nil {
			return err
		}
		if err := os.Rename(path+".new", path); err != nil { // whoever reads the one before goes on with it
			return err
		}
	}
	return os.WriteFile(filepath.Join(dir, Stamp), []byte(name(own)+"\n"+filepath.Base(where)+"\n"), 0o644)
}

// makeDisk makes the file system that is on new disks, if it is not there.
func makeDisk(path string) error {
	if _, err := os.Stat(path); err == nil {
		return nil
	}
	tmp := path + ".new"
	_ = os.Remove(tmp)
	c := exec.Command("mke2fs", "-q", "-t", "ext4", "-L", "system", "-b", "4096", "-O", "resize_inode", "-E", "resize=268435456,lazy_itable_init=1,root_owner=0:0", tmp, fmt.Sprint(diskSize>>10)+"k")
	c.Env = []string{"PATH=/usr/sbin:/usr/bin:/sbin:/bin", "LC_ALL=C"}
	if out, err := c.CombinedOutput(); err != nil {
		return fmt.Errorf("making the system disk (mke2fs, of the package e2fsprogs): %w: %s", err, bytes.TrimSpace(out))
	}
	return os.Rename(tmp, path)
}

// archive packs the program, and the modules with the order in which they are loaded.
func archive(program []byte, list []module) ([]byte, error) {
	var out bytes.Buffer
	w := cpio.NewWriter(&out)
	put := func(name string, mode cpio.FileMode, data []byte) error {
		if err := w.WriteHeader(&cpio.Header{Name: name, Mode: mode, Size: int64(len(data)), Links: 1}); err != nil {
			return err
		}
		_, err := w.Write(data)
		return err
	}
	for _, folder := range []string{"dev", "proc", "sys", "run", "tmp", "modules"} {
		if err := put(folder, cpio.TypeDir|0o755, nil); err != nil {
			return nil, err
		}
	}
	var order strings.Builder
	for _, m := range list {
		data, err := os.ReadFile(m.path)
		if err != nil {
			return nil, err
		}
		order.WriteString(m.name + ".ko\n")
		if err := put("modules/"+m.name+".ko", cpio.TypeReg|0o644, data); err != nil {
			return nil, err
		}
	}
	err := errors.Join(put("modules/order", cpio.TypeReg|0o644, []byte(order.String())), put("init", cpio.TypeReg|0o755, program), w.Close())
	return out.Bytes(), err
}
