package tinyguest

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"
	"unsafe"

	"golang.org/x/sys/unix"
)

// The system disk holds what is kept when the machine is off. Its folders stand in place of those of the
// same name, so that there is one tree.
const (
	systemDisk = "/dev/vda"
	diskPath   = "/disk"
	markPath   = "/var/lib/tiny/instance"
)

var keptFolders = []string{"/etc", "/home", "/root", "/srv", "/var"}

// mountDisk mounts the system disk, and reports whether this is the first boot of the instance.
func (m *machine) mountDisk() (fresh bool, err error) {
	if err := os.MkdirAll(diskPath, 0o755); err != nil {
		return false, err
	}
	if err := unix.Mount(systemDisk, diskPath, "ext4", 0, "errors=remount-ro"); err != nil && !errors.Is(err, unix.EBUSY) {
		return false, fmt.Errorf("mounting the system disk: %w", err)
	}
	if err := grow(systemDisk, diskPath); err != nil {
		say("the system disk does not grow: %v", err)
	}
	for _, folder := range keptFolders {
		if err := errors.Join(os.MkdirAll(diskPath+folder, 0o755), os.MkdirAll(folder, 0o755)); err != nil {
			return false, err
		}
		if err := unix.Mount(diskPath+folder, folder, "", unix.MS_BIND, ""); err != nil {
			return false, err
		}
	}
	was, _ := os.ReadFile(markPath)
	return string(was) != m.seed.Instance, nil
}

// resizeFS is EXT4_IOC_RESIZE_FS (ext4's ioctl.h): the file system gets so many blocks, while it is in use.
const resizeFS = 0x40086610

// grow makes a file system as large as its disk is by now.
func grow(device, where string) error {
	text, err := os.ReadFile("/sys/class/block/" + filepath.Base(device) + "/size")
	if err != nil {
		return err
	}
	sectors, err := strconv.ParseInt(strings.TrimSpace(string(text)), 10, 64)
	if err != nil {
		return err
	}
	var fs unix.Statfs_t
	if err := unix.Statfs(where, &fs); err != nil {
		return err
	}
	wanted := uint64(sectors * 512 / fs.Bsize)
	if wanted <= fs.Blocks+fs.Blocks/16 { // what the file system keeps for itself is in no count
		return nil
	}
	d, err := os.Open(where)
	if err != nil {
		return err
	}
	defer d.Close()
	if _, _, e := unix.Syscall(unix.SYS_IOCTL, d.Fd(), resizeFS, uintptr(unsafe.Pointer(&wanted))); e != 0 {
		return e
	}
	return nil
}

// resizes lets the file system grow when the disk does.
func (m *machine) resizes() {
	size := func() []byte {
		text, _ := os.ReadFile("/sys/class/block/" + filepath.Base(systemDisk) + "/size")
		return text
	}
	for was := size(); ; time.Sleep(time.Second) {
		if now := size(); !bytes.Equal(was, now) {
			was = now
			if err := grow(systemDisk, diskPath); err != nil {
				say("the system disk does not grow: %v", err)
			}
		}
	}
}

// users makes the user's home. Keys are put in at the first boot of an instance; from then on
// what is inside counts.
func (m *machine) users(fresh bool) error {
	home := m.home()
	if err := os.MkdirAll(home+"/.ssh", 0o700); err != nil {
		return err
	}
	passwd := fmt.Sprintf("root:x:0:0::/root:/bin/sh\n%s:x:0:0::%s:/bin/sh\n", m.seed.User, home)
	if err := errors.Join(os.WriteFile("/etc/passwd", []byte(passwd), 0o644), os.WriteFile("/etc/hostname", []byte(m.seed.Host+"\n"), 0o644)); err != nil {
		return err
	}
	if !fresh {
		return nil
	}
	return os.WriteFile(m.keysPath(), []byte(strings.Join(m.seed.Keys, "\n")+"\n"), 0o600)
}

func (m *machine) home() string     { return "/home/" + m.seed.User }
func (m *machine) keysPath() string { return m.home() + "/.ssh/authorized_keys" }
