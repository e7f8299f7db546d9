package linux

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"

	"golang.org/x/sys/unix"

	"ironbark/internal/fault"
	"ironbark/internal/plainfile"
	"ironbark/internal/qemu"
	"ironbark/internal/tinyimage"
)

// kernelPackage is Debian's package that leads to its newest kernel for virtual machines.
const kernelPackage = "linux-image-cloud-amd64"

// PrepareTiny makes the system of tiny guests on this host, if this program's is not there: out of a
// kernel package's file, or, where that is "", of the one that was used before, or else of Debian's newest, which apt-get
// downloads. Nothing is installed. Several at once wait for each other.
func PrepareTiny(ctx context.Context, file string) error {
	if os.Getuid() != 0 {
		return errRoot
	}
	if file == "" && ReadyTiny() == nil {
		return nil
	}
	if err := os.MkdirAll(TinyFolder(), 0o755); err != nil {
		return err
	}
	lock, err := os.OpenFile(filepath.Join(tinyRoot, "lock"), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return err
	}
	defer lock.Close()
	if err := unix.Flock(int(lock.Fd()), unix.LOCK_EX); err != nil {
		return err
	}
	kept := filepath.Join(tinyRoot, "kernel.deb")
	if file == "" && ReadyTiny() == nil { // somebody else made it meanwhile
		return nil
	}
	tmp, err := os.MkdirTemp(tinyRoot, "preparing-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(tmp)
	if file == "" {
		file = kept
		if _, err := os.Stat(kept); errors.Is(err, os.ErrNotExist) {
			if file, err = downloadKernel(ctx, tmp); err != nil {
				return err
			}
		}
	}
	unpacked := filepath.Join(tmp, "unpacked")
	if err := run(ctx, tmp, "dpkg-deb", "--extract", file, unpacked); err != nil {
		return err
	}
	if file != kept {
		if err := copyFile(file, kept); err != nil {
			return err
		}
	}
	if err := tinyimage.Make(TinyFolder(), unpacked); err != nil {
		return err
	}
	return os.RemoveAll(filepath.Join(TinyFolder(), "states")) // of what was there before
}

// downloadKernel downloads the package of Debian's newest kernel for virtual machines into a folder.
func downloadKernel(ctx context.Context, dir string) (string, error) {
	out, err := exec.CommandContext(ctx, "apt-cache", "depends", "--important", kernelPackage).Output()
	if err != nil {
		return "", &qemu.MissingError{Program: "package " + kernelPackage + " to download", Try: fault.Say("apt-get update, or give the file of a kernel package: ").Run("site", "prepare", "--kernel", "FILE.deb")}
	}
	name := ""
	for line := range strings.Lines(string(out)) {
		if one, ok := strings.CutPrefix(strings.TrimSpace(line), "Depends: linux-image-"); ok {
			name = "linux-image-" + one
		}
	}
	if name == "" {
		return "", fmt.Errorf("the package %s leads to no kernel", kernelPackage)
	}
	if err := run(ctx, dir, "apt-get", "-q", "-o", "APT::Sandbox::User=root", "download", name); err != nil {
		return "", err
	}
	list, err := filepath.Glob(filepath.Join(dir, name+"_*.deb"))
	if err != nil || len(list) != 1 {
		return "", errors.Join(err, fmt.Errorf("apt-get downloaded no file of %s", name))
	}
	return list[0], nil
}

// run runs a program of the host's, and tells what it says where it fails.
func run(ctx context.Context, dir string, name string, args ...string) error {
	c := exec.CommandContext(ctx, name, args...)
	c.Dir, c.Env = dir, append(os.Environ(), "LC_ALL=C", "DEBIAN_FRONTEND=noninteractive")
	out, err := c.CombinedOutput()
	if errors.Is(err, exec.ErrNotFound) {
		return &qemu.MissingError{Program: name, Try: fault.Say("a Debian host has it")}
	}
	if err != nil {
		lines := strings.Split(strings.TrimSpace(string(out)), "\n")
		return fmt.Errorf("%s: %s", name, strings.TrimPrefix(lines[len(lines)-1], name+": "))
	}
	return nil
}

func copyFile(from, to string) (err error) {
	in, err := plainfile.Open(from)
	if err != nil {
		return err
	}
	defer in.Close()
	out, err := os.OpenFile(to+".new", os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o644)
	if err != nil {
		return err
	}
	_, err = io.Copy(out, in)
	if err := errors.Join(err, out.Close()); err != nil {
		return err
	}
	return os.Rename(to+".new", to)
}

// DescribeTiny tells in words which system tiny guests have on this host, and how they are run.
func DescribeTiny(ctx context.Context) string {
	accel, why := qemu.AccelOf(ctx, filepath.Join(runRoot, "kvm"))
	text := fmt.Sprintf("Tiny guests are ready: Linux %s, run by %s", tinyimage.KernelOf(TinyFolder()), accel)
	if why != "" {
		text += ", since " + why
	}
	return text + "."
}
