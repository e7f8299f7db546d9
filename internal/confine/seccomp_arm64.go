package confine

import "golang.org/x/sys/unix"

const auditArch = unix.AUDIT_ARCH_AARCH64

// computingHere are the calls that only this kind of processor has.
var computingHere = []uint32{unix.SYS_PPOLL}
