package confine

import "golang.org/x/sys/unix"

const auditArch = unix.AUDIT_ARCH_X86_64

// computingHere are the calls that only this kind of processor has.
var computingHere = []uint32{unix.SYS_ARCH_PRCTL, unix.SYS_EPOLL_WAIT, unix.SYS_POLL}
