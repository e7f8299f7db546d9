package linux

import (
	"os"
	"runtime"

	"golang.org/x/sys/unix"

	"ironbark/internal/qemu"
)

// cpusEach is how many processors of guests there may be for each one of the host's: most of them wait
// most of the time.
const cpusEach = 16

// hostMemory is how much memory is left to the host itself, in MiB.
const hostMemory = 1024

// hostLimits are what this host has for guests: processors, memory in MiB, and disk in GB. Memory and disk
// are never promised twice: what guests may fill is there.
func hostLimits() (cpus, memory, disk int) {
	var info unix.Sysinfo_t
	if unix.Sysinfo(&info) == nil {
		memory = max(int(info.Totalram*uint64(info.Unit)>>20)-hostMemory, 0)
	}
	at := storeRoot
	if _, err := os.Stat(at); err != nil {
		at = "/var/lib"
	}
	var fs unix.Statfs_t
	if unix.Statfs(at, &fs) == nil {
		disk = int(fs.Blocks * uint64(fs.Bsize) / qemu.GB)
	}
	return runtime.NumCPU() * cpusEach, memory, disk
}
