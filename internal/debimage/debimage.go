// Package debimage makes a system image out of Debian's packages: a disk that any virtual
// machine boots by its firmware, which takes what it is told at its first boot from cloud-init.
//
//	mmdebstrap ──▶ folder ──mke2fs -d──▶ file system ─┐
//	grub-mkimage (in the folder) ──▶ boot loader ─────┴──▶ raw disk ──qemu-img──▶ qcow2
//
// Nothing is mounted, and no loop device is needed. It needs root, since the files of a system are
// root's.
package debimage

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"

	"ironbark/internal/fault"
	"ironbark/internal/qemu"
)

// Image is what is made.
type Image struct {
	Suite    string   // of Debian, such as bookworm; "" for the host's own
	Packages []string // besides those that every image has
	Work     string   // a folder for what is put together, in which files may be root's; it is made, and taken away
}

// packages are those of every image: a kernel for virtual machines, and what a machine needs to be told
// its name, its keys and its addresses.
var packages = []string{
	"linux-image-cloud-amd64", "systemd-sysv", "udev", "dbus", "cloud-init", "cloud-guest-utils", "openssh-server", "qemu-guest-agent",
	"grub-pc-bin", "grub2-common", "sudo", "iproute2", "netbase", "ca-certificates", "systemd-resolved", "e2fsprogs",
}

// files are put into the system.
var files = map[string]string{
	"etc/fstab": "LABEL=" + label + " / ext4 defaults,errors=remount-ro 0 1\n",
	"etc/cloud/cloud.cfg.d/90-seed.cfg": "datasource_list: [NoCloud, None]\n" +
		"system_info: {network: {renderers: [networkd]}, default_user: {name: keeper, lock_passwd: true, shell: /bin/bash}}\n",
	"etc/machine-id": "",
	"etc/hostname":   "localhost\n",
	"boot/grub/grub.cfg": "set timeout=0\nlinux /vmlinuz root=LABEL=" + label + " ro console=tty0 console=ttyS0 net.ifnames=0 no_timer_check quiet\n" +
		"initrd /initrd.img\nboot\n",
}

// dropped are files that no two machines may share.
var dropped = []string{"etc/ssh/ssh_host_*", "var/lib/systemd/random-seed", "var/lib/dbus/machine-id", "var/cache/apt/archives/*.deb", "var/lib/apt/lists/*", "etc/resolv.conf"}

const label = "system"

// first is where the file system begins on the disk, in bytes: what is before has room for the boot loader.
const first = 1 << 20

// Build makes the image and writes it to a file, which is there whole or not at all. tell is called with what is
// done next. It takes some minutes.
func (i Image) Build(ctx context.Context, to string, tell func(step string)) (err error) {
	if os.Getuid() != 0 {
		return errors.New("a system's files are root's: run it as root")
	}
	if err := os.MkdirAll(i.Work, 0o755); err != nil {
		return err
	}
	defer func() { err = errors.Join(err, os.RemoveAll(i.Work)) }()
	root, disk := filepath.Join(i.Work, "root"), filepath.Join(i.Work, "disk")
	tell("put the system together, out of Debian's packages")
	args := []string{"--variant=minbase", "--include=" + strings.Join(append(packages, i.Packages...), ","), "--aptopt=APT::Install-Recommends \"false\"", "--dpkgopt=force-unsafe-io", "--format=directory"}
	suite, err := i.suite()
	if err != nil {
		return err
	}
	if err := run(ctx, "mmdebstrap", append(args, suite, root)...); err != nil {
		return err
	}
	if err := settle(root); err != nil {
		return err
	}
	tell("make the disk")
	if err := i.disk(ctx, root, disk); err != nil {
		return err
	}
	tell("write " + to)
	if err := run(ctx, "qemu-img", "convert", "-q", "-c", "-W", "-m", "8", "-f", "raw", "-O", "qcow2", disk, to+".new"); err != nil {
		return errors.Join(err, remove(to+".new"))
	}
	return os.Rename(to+".new", to)
}

// suite is the one that is asked for, or the host's.
func (i Image) suite() (string, error) {
	if i.Suite != "" {
		return i.Suite, nil
	}
	text, err := os.ReadFile("/etc/os-release")
	if err != nil {
		return "", err
	}
	for line := range strings.Lines(string(text)) {
		if name, ok := strings.CutPrefix(strings.TrimSpace(line), "VERSION_CODENAME="); ok {
			return name, nil
		}
	}
	return "", errors.New("/etc/os-release names no suite of Debian: say which, --suite NAME")
}

// settle makes a system ready that was just put together.
func settle(root string) error {
	for _, pattern := range dropped {
		list, err := filepath.Glob(filepath.Join(root, pattern))
		if err != nil {
			return err
		}
		for _, path := range list {
			if err := os.RemoveAll(path); err != nil {
				return err
			}
		}
	}
	for name, text := range files {
		path := filepath.Join(root, name)
		if err := errors.Join(os.MkdirAll(filepath.Dir(path), 0o755), os.WriteFile(path, []byte(text), 0o644)); err != nil {
			return err
		}
	}
	if err := os.Symlink("../run/systemd/resolve/stub-resolv.conf", filepath.Join(root, "etc/resolv.conf")); err != nil {
		return err
	}
	for _, unit := range []string{"systemd-networkd.service", "systemd-resolved.service", "serial-getty@ttyS0.service"} {
		wants := filepath.Join(root, "etc/systemd/system/multi-user.target.wants")
		if strings.HasPrefix(unit, "serial") {
			wants = filepath.Join(root, "etc/systemd/system/getty.target.wants")
		}
		from := "/lib/systemd/system/" + strings.Replace(unit, "@ttyS0", "@", 1)
		if err := os.MkdirAll(wants, 0o755); err != nil {
			return err
		}
		if err := os.Symlink(from, filepath.Join(wants, unit)); err != nil && !errors.Is(err, fs.ErrExist) {
			return err
		}
	}
	return nil
}

// disk puts a raw disk together: boot loader, table of partitions, and one partition.
func (i Image) disk(ctx context.Context, root, disk string) error {
	core := "/boot/grub/core.img"
	loader := []string{
		root, "grub-mkimage", "-O", "i386-pc", "-o", core, "-p", "(hd0,msdos1)/boot/grub", "biosdisk", "part_msdos", "ext2", "normal", "linux", "configfile", "echo", "test",
	}
	if err := run(ctx, "chroot", loader...); err != nil {
		return err
	}
	boot, err1 := os.ReadFile(filepath.Join(root, "usr/lib/grub/i386-pc/boot.img"))
	image, err2 := os.ReadFile(filepath.Join(root, core))
	used, err3 := sizeOf(root)
	if err := errors.Join(err1, err2, err3); err != nil {
		return err
	}
	if len(boot) != sector || len(image) > first-sector {
		return errors.New("the boot loader does not fit before the file system")
	}
	// A quarter more than there is, and room to begin with; in whole GB, as disks are told.
	size := (used*5/4 + 400<<20 + qemu.GB) / qemu.GB * qemu.GB
	part := disk + ".fs"
	if err := run(ctx, "mke2fs", "-q", "-t", "ext4", "-L", label, "-d", root, "-E", "root_owner=0:0,lazy_itable_init=1", part, fmt.Sprint((size-first)>>10)+"k"); err != nil {
		return err
	}
	f, err := os.OpenFile(disk, os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	defer f.Close()
	_, err1 = f.WriteAt(withTable(boot, (size-first)/sector), 0)
	_, err2 = f.WriteAt(image, sector)
	if err := errors.Join(err1, err2, copySparse(f, part, first), f.Truncate(size)); err != nil {
		return err
	}
	return errors.Join(os.Remove(part), f.Close())
}

const sector = 512

// withTable writes a table with one partition, from which the machine boots, into a boot sector.
func withTable(boot []byte, sectors int64) []byte {
	b := bytes.Clone(boot)
	entry := b[446:462]
	copy(entry, []byte{0x80, 0xfe, 0xff, 0xff, 0x83, 0xfe, 0xff, 0xff}) // active, Linux, addressed by sectors alone
	binary.LittleEndian.PutUint32(entry[8:], first/sector)
	binary.LittleEndian.PutUint32(entry[12:], uint32(sectors))
	copy(b[462:510], make([]byte, 48))
	b[510], b[511] = 0x55, 0xaa
	return b
}

// copySparse copies a file to a place in another one, and leaves out what is empty.
func copySparse(to *os.File, path string, at int64) error {
	from, err := os.Open(path)
	if err != nil {
		return err
	}
	defer from.Close()
	block, empty := make([]byte, 1<<20), make([]byte, 1<<20)
	for {
		n, err := io.ReadFull(from, block)
		if n > 0 && !bytes.Equal(block[:n], empty[:n]) {
			if _, err := to.WriteAt(block[:n], at); err != nil {
				return err
			}
		}
		at += int64(n)
		if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
			return nil
		}
		if err != nil {
			return err
		}
	}
}

// sizeOf is how much the files in a folder take, in bytes, in blocks of 4 KiB.
func sizeOf(root string) (size int64, err error) {
	err = filepath.WalkDir(root, func(_ string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		info, err := d.Info()
		if err == nil {
			size += (info.Size() + 8191) / 4096 * 4096 // and its inode
		}
		return err
	})
	return size, err
}

func remove(path string) error {
	if err := os.Remove(path); !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return nil
}

// run runs a program, and tells the last of what it said where it fails.
func run(ctx context.Context, name string, args ...string) error {
	c := exec.CommandContext(ctx, name, args...)
	c.Env = []string{"PATH=/usr/sbin:/usr/bin:/sbin:/bin", "LC_ALL=C", "HOME=/root", "DEBIAN_FRONTEND=noninteractive"}
	for _, key := range []string{"http_proxy", "https_proxy", "no_proxy", "TMPDIR"} {
		if value, ok := os.LookupEnv(key); ok {
			c.Env = append(c.Env, key+"="+value)
		}
	}
	var said tail
	c.Stdout, c.Stderr = &said, &said
	err := c.Run()
	if errors.Is(err, exec.ErrNotFound) {
		return &qemu.MissingError{Program: name, Try: fault.Say("apt-get install mmdebstrap e2fsprogs qemu-utils")}
	}
	if err != nil {
		return fmt.Errorf("%s: %w: %s", name, err, said.last())
	}
	return nil
}

// tail keeps the last of what is written.
type tail struct{ text []byte }

func (t *tail) Write(p []byte) (int, error) {
	t.text = append(t.text, p...)
	t.text = t.text[max(0, len(t.text)-4096):]
	return len(p), nil
}

// last is the last line, and the last that speaks of an error.
func (t *tail) last() string {
	lines := strings.Split(strings.TrimSpace(string(t.text)), "\n")
	for i := len(lines) - 1; i >= 0; i-- {
		if strings.HasPrefix(lines[i], "E: ") {
			return lines[i]
		}
	}
	return lines[len(lines)-1]
}
