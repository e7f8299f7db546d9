package tinyguest

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"runtime/debug"
	"strings"
	"time"
	"unsafe"

	"golang.org/x/sys/unix"

	"ironbark/internal/seed"
)

// ModuleOrder is the file that lists the kernel's modules, each after those that it needs.
const ModuleOrder = "/modules/order"

// mountKernel mounts what the kernel shows of itself.
func mountKernel() error {
	var errs []error
	for _, one := range []struct{ what, where, kind string }{{"proc", "/proc", "proc"}, {"sysfs", "/sys", "sysfs"}, {"devtmpfs", "/dev", "devtmpfs"}, {"tmpfs", "/run", "tmpfs"}, {"tmpfs", "/tmp", "tmpfs"}} {
		errs = append(errs, os.MkdirAll(one.where, 0o755), unix.Mount(one.what, one.where, one.kind, 0, ""))
	}
	// The kernel had no console to open before there was one.
	if fd, err := unix.Open("/dev/console", unix.O_RDWR, 0); err == nil {
		for n := range 3 {
			errs = append(errs, unix.Dup2(fd, n))
		}
	}
	for name, value := range map[string]string{"HOME": "/root", "PATH": "/bin", "TERM": "vt100"} {
		errs = append(errs, os.Setenv(name, value))
	}
	return errors.Join(errs...)
}

func loadModules() error {
	list, err := os.ReadFile(ModuleOrder)
	if err != nil {
		return err
	}
	for name := range strings.FieldsSeq(string(list)) {
		f, err := os.Open(filepath.Join(filepath.Dir(ModuleOrder), name))
		if err != nil {
			return err
		}
		err = unix.FinitModule(int(f.Fd()), "", 0)
		_ = f.Close()
		if err != nil && !errors.Is(err, unix.EEXIST) {
			return fmt.Errorf("module %s: %w", name, err)
		}
	}
	return os.RemoveAll(filepath.Dir(ModuleOrder)) // their memory is given back
}

// seedWait is how long a machine waits for its seed disk between two looks.
const seedWait = 10 * time.Millisecond

// awaitSeed waits until the seed disk holds something. Reading goes past the kernel's cache, for a
// saved state wakes up with another disk in its place.
func awaitSeed() (seed.Seed, error) {
	told := false
	for {
		disk, err := readPast("/dev/sda")
		if err == nil {
			s, err := seed.Read(bytes.NewReader(disk))
			if !errors.Is(err, seed.ErrBlank) {
				return s, err
			}
			if !told { // whoever saves this state waits for it
				told = true
				rehearse()
				scrub()
				fmt.Println(Waiting)
			}
		}
		time.Sleep(seedWait)
	}
}

// mostScrubbed is how much memory is filled, in bytes: what was in use is taken first, and the rest of a large machine was
// never touched. Touching it takes a minute a GiB where it is emulated.
const mostScrubbed = 192 << 20

// scrub fills the memory that is free with zeros, which a saved state need not hold: what the kernel and this
// program were unpacked from is still in it.
func scrub() {
	debug.FreeOSMemory()
	var info unix.Sysinfo_t
	if unix.Sysinfo(&info) != nil {
		return
	}
	const kept = 24 << 20
	free := min(int(info.Freeram)*int(info.Unit)-kept, mostScrubbed)
	if free <= 0 {
		return
	}
	memory, err := unix.Mmap(-1, 0, free, unix.PROT_READ|unix.PROT_WRITE, unix.MAP_PRIVATE|unix.MAP_ANONYMOUS)
	if err != nil {
		return
	}
	for i := 0; i < len(memory); i += os.Getpagesize() {
		memory[i] = 0 // the kernel hands out a page of zeros, and takes it back as it is
	}
	_ = unix.Munmap(memory)
}

// Waiting is what a machine writes to its console when it waits for its seed.
const Waiting = "the seed disk is blank: waiting"

// readPast reads the seed disk past the kernel's cache (O_DIRECT, which wants memory that is
// aligned): its sixteenth block first, and all of it where that says something.
func readPast(path string) ([]byte, error) {
	fd, err := unix.Open(path, unix.O_RDONLY|unix.O_DIRECT|unix.O_CLOEXEC, 0)
	if err != nil {
		return nil, err
	}
	defer unix.Close(fd)
	disk := make([]byte, seed.Size)
	memory := aligned(4096)
	if n, err := unix.Pread(fd, memory, 16*2048); err != nil || n != len(memory) {
		return nil, errors.Join(err, io.ErrUnexpectedEOF)
	}
	copy(disk[16*2048:], memory)
	if !bytes.Contains(memory[:8], []byte("CD001")) {
		return disk, nil
	}
	// How many blocks the volume has (ECMA-119, 8.4.8): the rest of the disk is empty.
	blocks := int(binary.LittleEndian.Uint32(memory[80:]))
	memory = aligned(min((blocks*2048+4095)/4096*4096, seed.Size))
	if n, err := unix.Pread(fd, memory, 0); err != nil || n != len(memory) {
		return nil, errors.Join(err, io.ErrUnexpectedEOF)
	}
	return memory, nil
}

func aligned(n int) []byte {
	const page = 4096
	b := make([]byte, n+page)
	skip := int(-uintptr(unsafe.Pointer(&b[0])) & (page - 1))
	return b[skip : skip+n : skip+n]
}

// rndAddEntropy and rndReseed are ioctls of the random device (random(4)).
const (
	rndAddEntropy = 0x40085203
	rndReseed     = 0x5207
)

// stir gives the kernel randomness from the host: a machine that is a copy of a saved state would otherwise
// draw the same numbers as others.
func stir(entropy []byte) {
	if len(entropy) == 0 {
		return
	}
	fd, err := unix.Open("/dev/urandom", unix.O_WRONLY|unix.O_CLOEXEC, 0)
	if err != nil {
		return
	}
	defer unix.Close(fd)
	info := struct {
		bits, size int32
		data       [512]byte
	}{}
	n := copy(info.data[:], entropy)
	info.bits, info.size = int32(n*8), int32(n)
	_, _, _ = unix.Syscall(unix.SYS_IOCTL, uintptr(fd), rndAddEntropy, uintptr(unsafe.Pointer(&info)))
	_, _, _ = unix.Syscall(unix.SYS_IOCTL, uintptr(fd), rndReseed, 0)
}

// openPort opens a port to the host by its name; nil: the machine has none of that name.
func openPort(name string) *os.File {
	for range 200 {
		ports, _ := filepath.Glob("/sys/class/virtio-ports/*")
		for _, p := range ports {
			if text, _ := os.ReadFile(p + "/name"); strings.TrimSpace(string(text)) == name {
				if f, err := os.OpenFile("/dev/"+filepath.Base(p), os.O_RDWR, 0); err == nil {
					return f
				}
			}
		}
		if len(ports) > 1 {
			return nil
		}
		time.Sleep(10 * time.Millisecond)
	}
	return nil
}
