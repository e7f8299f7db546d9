package qemu

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"strconv"
	"strings"
	"syscall"

	"ironbark/internal/fault"
)

// GB is what a GB of a disk is, in bytes.
const GB = 1_000_000_000

// User is who a disk belongs to, and the group that may read what it lies on.
type User struct{ UID, Images int }

// img runs qemu-img, as a user: what a machine can write to is never read by root.
func img(ctx context.Context, user User, args ...string) error {
	c := exec.CommandContext(ctx, "qemu-img", args...)
	c.Env, c.Dir = []string{"PATH=/usr/bin:/bin", "LC_ALL=C"}, "/"
	c.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: uint32(user.UID), Gid: uint32(user.UID), Groups: []uint32{uint32(user.Images)}}}
	out, err := c.CombinedOutput()
	if errors.Is(err, exec.ErrNotFound) {
		return &MissingError{"qemu-img", fault.Say("apt-get install qemu-utils")}
	}
	if err != nil {
		return fmt.Errorf("qemu-img %s: %s", args[0], orElse(strings.TrimSpace(string(bytes.TrimPrefix(out, []byte("qemu-img: ")))), err.Error()))
	}
	return nil
}

// MakeDisk makes a disk of some GB for a user, which lies on a layer or is empty where that has no file.
// It is there whole or not at all, and one that is there stays as it is.
func MakeDisk(ctx context.Context, path string, uid, gb int, base Layer) error {
	if _, err := os.Lstat(path); err == nil {
		return nil
	}
	tmp := path + ".new"
	_ = os.Remove(tmp)
	args := []string{"create", "-q", "-f", "qcow2", "-o", "cluster_size=64k,lazy_refcounts=on"}
	if base.File != "" {
		args = append(args, "-F", base.Format, "-b", base.File)
	}
	if err := img(ctx, User{}, append(args, tmp, strconv.FormatInt(int64(gb)*GB, 10))...); err != nil {
		_ = os.Remove(tmp)
		return err
	}
	return place(tmp, path, uid)
}

// place gives a file to a user and puts it in its place.
func place(tmp, path string, uid int) error {
	if err := errors.Join(os.Chown(tmp, uid, uid), os.Chmod(tmp, 0o600)); err != nil {
		return errors.Join(err, os.Remove(tmp))
	}
	return os.Rename(tmp, path)
}

// CopyDisk writes what a disk of a user's, which no machine has in use, holds into another one of theirs, which is empty
// and as large.
func CopyDisk(ctx context.Context, user User, from, to string) error {
	return img(ctx, user, "convert", "-q", "-n", "-f", "qcow2", "-O", "qcow2", from, to)
}

// GrowDisk makes a disk that no machine has in use larger.
func GrowDisk(ctx context.Context, path string, user User, gb int) error {
	return img(ctx, user, "resize", "-q", "-f", "qcow2", path, strconv.FormatInt(int64(gb)*GB, 10))
}

// Allocated is how much of the host's disk a file takes, in bytes; 0 where it is not there.
func Allocated(path string) int64 {
	var st syscall.Stat_t
	if syscall.Lstat(path, &st) != nil {
		return 0
	}
	return st.Blocks * 512
}
