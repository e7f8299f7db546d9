// Package qemu runs virtual machines as processes of QEMU, each as a user of its own
// without privileges, shut off from the host's network and file systems, and finds them
// again: a machine outlives whoever started it.
//
//	Machine ──args──▶ qemu-system-x86_64 ─┬─ RUN/monitor   QMP: power, disks, saved states
//	                                      ├─ RUN/agent     to the guest agent, if one runs inside
//	                                      ├─ RUN/console   the serial line
//	                                      ├─ RUN/log       what was written to the serial line
//	                                      └─ RUN/report    what the guest tells of itself
//
// RUN is a file system of its own in memory, so that no guest can fill the host's disk or
// memory by what it writes there.
package qemu

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
)

// Machine is all that a machine's process hangs on. Its zero value is not valid.
type Machine struct {
	Name      string
	UUID      string // names the process, too
	UID       int    // the user and group that it runs as
	Images    int    // a group besides, which may read what system disks lie on; 0: none
	Run       string // the folder of its sockets
	CPUs      int
	MemoryMiB int
	Accel     Accel
	// Kernel and Initrd are started directly, with Append; where they are empty the
	// system disk's own boot loader is.
	Kernel, Initrd, Append string
	Seed                   string // the seed disk, a raw file
	System                 string // the system disk, a qcow2 file
	Base                   Layer  // what the system disk lies on
	Volumes                []Volume
	MAC                    string
}

// Layer is a file under a system disk. The file format is said and not looked up: a guest that could
// choose it would read the host's files.
type Layer struct {
	File   string
	Format string // raw or qcow2
}

// Volume is a disk besides the system disk, a qcow2 file.
type Volume struct {
	Name string
	File string
	Slot int // 0 for vdb and so on
}

// MostVolumes is how many volumes a machine can have.
const MostVolumes = 15

// The names of what is in the folder Run.
const (
	MonitorSocket = "monitor"
	AgentSocket   = "agent"
	ConsoleSocket = "console"
	LogFile       = "log"
	ReportFile    = "report"
	errorsFile    = "errors"
	processFile   = "process"
)

// Program is QEMU's.
const Program = "qemu-system-x86_64"

// tapFile is the number of the descriptor of the machine's network link; incomingFile that of a saved state.
const (
	tapFile      = 3
	incomingFile = 4
)

// args are the words that the program is called with.
func (m Machine) args(incoming bool) []string {
	in := func(name string) string { return filepath.Join(m.Run, name) }
	args := []string{
		Program, "-name", "guest=" + m.Name + ",debug-threads=off", "-uuid", m.UUID, "-no-user-config", "-nodefaults", "-display", "none",
		"-machine", "q35,usb=off,vmport=off,hpet=off,dump-guest-core=off", "-accel", m.Accel.option(), "-cpu", m.Accel.cpu(), "-smp", strconv.Itoa(m.CPUs), "-m", strconv.Itoa(m.MemoryMiB),
		"-sandbox", "on,obsolete=deny,elevateprivileges=deny,spawn=deny,resourcecontrol=deny", "-rtc", "base=utc",
		"-chardev", "socket,id=monitor,server=on,wait=off,path=" + in(MonitorSocket), "-mon", "chardev=monitor,mode=control",
		"-chardev", "socket,id=console,server=on,wait=off,path=" + in(ConsoleSocket) + ",logfile=" + in(LogFile), "-serial", "chardev:console",
		"-device", "virtio-serial-pci,id=ports,addr=2",
		"-chardev", "file,id=report,path=" + in(ReportFile), "-device", "virtserialport,bus=ports.0,nr=1,chardev=report,name=ironbark.report",
		"-chardev", "socket,id=agent,server=on,wait=off,path=" + in(AgentSocket), "-device", "virtserialport,bus=ports.0,nr=2,chardev=agent,name=org.qemu.guest_agent.0",
		"-object", "rng-random,id=random,filename=/dev/urandom", "-device", "virtio-rng-pci,rng=random,addr=3",
		"-netdev", "tap,id=net,fd=" + strconv.Itoa(tapFile), "-device", "virtio-net-pci,netdev=net,mac=" + m.MAC + ",romfile=,addr=4",
		"-device", "virtio-scsi-pci,id=scsi,addr=5",
		"-blockdev", "driver=raw,node-name=seed,read-only=on,file.driver=file,file.locking=off,file.filename=" + comma(m.Seed), "-device", "scsi-hd,bus=scsi.0,drive=seed,bootindex=9",
		"-blockdev", fmt.Sprintf("driver=%s,node-name=base,read-only=on,file.driver=file,file.locking=off,file.filename=%s", m.Base.Format, comma(m.Base.File)),
		"-blockdev", "driver=qcow2,node-name=system,discard=unmap,backing=base,file.driver=file,file.filename=" + comma(m.System),
		"-device", "virtio-blk-pci,drive=system,id=system,serial=system,bootindex=1,addr=6",
	}
	// A port for each volume: what is plugged in later takes the place that it has after a restart, too.
	for slot := range MostVolumes {
		port := fmt.Sprintf("pcie-root-port,id=port%d,chassis=%d,addr=%d.%d", slot, slot+1, 8+slot/8, slot%8)
		if slot%8 == 0 {
			port += ",multifunction=on"
		}
		args = append(args, "-device", port)
	}
	for _, v := range slices.SortedFunc(slices.Values(m.Volumes), func(a, b Volume) int { return a.Slot - b.Slot }) {
		args = append(args, "-blockdev", "driver=qcow2,discard=unmap,node-name="+v.node()+",file.driver=file,file.filename="+comma(v.File), "-device",
			fmt.Sprintf("virtio-blk-pci,drive=%s,id=%s,serial=%s,bus=port%d", v.node(), v.device(), v.serial(), v.Slot))
	}
	if m.Kernel != "" {
		args = append(args, "-kernel", m.Kernel, "-initrd", m.Initrd, "-append", m.Append)
	}
	if incoming {
		args = append(args, "-incoming", "fd:"+strconv.Itoa(incomingFile))
	}
	return args
}

// Shape tells what a saved state of a machine hangs on: all of its words that do not name it or its files.
func (m Machine) Shape() string {
	return strings.Join(Machine{
		Accel: m.Accel, CPUs: m.CPUs, MemoryMiB: m.MemoryMiB, MAC: m.MAC, Append: m.Append, Kernel: m.Kernel, Initrd: m.Initrd, Base: Layer{Format: m.Base.Format},
	}.args(false), " ")
}

// comma writes a file's name as QEMU's options take it.
func comma(name string) string {
	out := []byte{}
	for i := range len(name) {
		if name[i] == ',' {
			out = append(out, ',')
		}
		out = append(out, name[i])
	}
	return string(out)
}

func (v Volume) node() string   { return fmt.Sprintf("volume%d", v.Slot) }
func (v Volume) device() string { return fmt.Sprintf("disk%d", v.Slot) }

// serial is what the guest reads of the volume's name, in 20 characters at most (virtio 1.2, 5.2.6). Where the name is longer, its
// beginning is followed by the volume's slot, which no other volume of the machine has; no name has the dot between them.
func (v Volume) serial() string {
	if len(v.Name) <= 20 {
		return v.Name
	}
	return fmt.Sprintf("%s.%d", v.Name[:16], v.Slot)
}

// Files lists the regular files that the process must be able to read or write.
func (m Machine) Files() []string {
	list := []string{m.Seed, m.System, m.Base.File}
	for _, v := range m.Volumes {
		list = append(list, v.File)
	}
	for _, f := range []string{m.Kernel, m.Initrd} {
		if f != "" {
			list = append(list, f)
		}
	}
	return list
}

func ordinary(path string) error {
	info, err := os.Lstat(path)
	if err == nil && !info.Mode().IsRegular() {
		err = fmt.Errorf("%s is no ordinary file", path)
	}
	return err
}
