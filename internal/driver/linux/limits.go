package linux

import (
	"os"
	"path/filepath"
	"runtime"

	"golang.org/x/sys/unix"

	"ironbark/internal/qemu"
)

// cpusEach is how many processors of guests there may be for each one of the host's: most of them wait
// most of the time.
const cpusEach = 16

// hostMemory is how much memory is left to the host itself, in MiB.
const hostMemory = 1024

// hostLimits are what this host has for the guests of a site: processors, memory in MiB, and disk in GB. Of the
// disk it is what is free, and what the site's own files take. Cost: a look at each of those.
func hostLimits(store string) (cpus, memory, disk int) {
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
		bytes := int64(fs.Bavail) * fs.Bsize
		for _, pattern := range []string{"machines/*/*", "volumes/*", "images/*", "snapshots/*"} {
			list, _ := filepath.Glob(filepath.Join(store, pattern))
			for _, path := range list {
				bytes += qemu.Allocated(path)
			}
		}
		disk = int(bytes / qemu.GB)
	}
	return runtime.NumCPU() * cpusEach, memory, disk
}
