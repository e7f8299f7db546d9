// Package confine closes a process off: what it may still ask of the kernel is a list.
package confine

import (
	"fmt"
	"os"
	"slices"
	"unsafe"

	"golang.org/x/sys/unix"
)

// Calls installs a seccomp filter (seccomp(2)) on all threads of the process, for good: it may
// compute, read and write what it has open and make pipes and threads, and what more lists. What is not listed fails with EPERM. Of clone only threads are allowed, and of
// tgkill only the process's own threads: the Go runtime preempts with it. clone3
// fails with ENOSYS, so that nobody can hide a new process behind its pointer.
func Calls(more ...uint32) error {
	const (
		number = 0 // offsets in struct seccomp_data
		arch   = 4
		arg0   = 16
	)
	load := func(at uint32) unix.SockFilter {
		return unix.SockFilter{Code: unix.BPF_LD | unix.BPF_W | unix.BPF_ABS, K: at}
	}
	answer := func(with uint32) unix.SockFilter { return unix.SockFilter{Code: unix.BPF_RET | unix.BPF_K, K: with} }
	equal := func(k uint32, yes, no uint8) unix.SockFilter {
		return unix.SockFilter{Code: unix.BPF_JMP | unix.BPF_JEQ | unix.BPF_K, K: k, Jt: yes, Jf: no}
	}
	refuse := answer(unix.SECCOMP_RET_ERRNO | uint32(unix.EPERM))
	prog := []unix.SockFilter{
		load(arch), equal(auditArch, 1, 0), answer(unix.SECCOMP_RET_KILL_PROCESS),
		load(number),
		equal(unix.SYS_CLONE3, 0, 1), answer(unix.SECCOMP_RET_ERRNO | uint32(unix.ENOSYS)),
		equal(unix.SYS_TGKILL, 0, 4), load(arg0), equal(uint32(os.Getpid()), 0, 1), answer(unix.SECCOMP_RET_ALLOW), refuse,
		equal(unix.SYS_CLONE, 0, 4), load(arg0),
		{Code: unix.BPF_JMP | unix.BPF_JSET | unix.BPF_K, K: unix.CLONE_THREAD, Jt: 0, Jf: 1},
		answer(unix.SECCOMP_RET_ALLOW), refuse,
	}
	for _, call := range slices.Concat(computing, computingHere, more) {
		prog = append(prog, equal(call, 0, 1), answer(unix.SECCOMP_RET_ALLOW))
	}
	prog = append(prog, refuse)
	if err := unix.Prctl(unix.PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0); err != nil {
		return fmt.Errorf("no_new_privs: %w", err)
	}
	fprog := unix.SockFprog{Len: uint16(len(prog)), Filter: &prog[0]}
	_, _, errno := unix.Syscall(unix.SYS_SECCOMP, unix.SECCOMP_SET_MODE_FILTER, unix.SECCOMP_FILTER_FLAG_TSYNC, uintptr(unsafe.Pointer(&fprog)))
	if errno != 0 {
		return fmt.Errorf("seccomp: %w", errno)
	}
	return nil
}

// computing are the calls of a process that computes, reads and writes what it has
// open, and makes pipes.
var computing = []uint32{
	unix.SYS_READ, unix.SYS_WRITE, unix.SYS_READV, unix.SYS_WRITEV, unix.SYS_CLOSE, unix.SYS_PIPE2, unix.SYS_FCNTL, unix.SYS_FSTAT,
	unix.SYS_MMAP, unix.SYS_MUNMAP, unix.SYS_MPROTECT, unix.SYS_MADVISE, unix.SYS_MINCORE, unix.SYS_BRK, unix.SYS_FUTEX, unix.SYS_NANOSLEEP, unix.SYS_CLOCK_NANOSLEEP,
	unix.SYS_SCHED_YIELD, unix.SYS_SCHED_GETAFFINITY, unix.SYS_SIGALTSTACK, unix.SYS_RT_SIGACTION, unix.SYS_RT_SIGPROCMASK,
	unix.SYS_RT_SIGRETURN, unix.SYS_RESTART_SYSCALL, unix.SYS_GETPID, unix.SYS_GETTID, unix.SYS_CLOCK_GETTIME, unix.SYS_GETTIMEOFDAY, unix.SYS_GETRANDOM,
	unix.SYS_EPOLL_CREATE1, unix.SYS_EPOLL_CTL, unix.SYS_EPOLL_PWAIT, unix.SYS_EVENTFD2, unix.SYS_PRCTL, unix.SYS_SET_ROBUST_LIST, unix.SYS_RSEQ, unix.SYS_TIMER_CREATE,
	unix.SYS_TIMER_SETTIME, unix.SYS_TIMER_DELETE, unix.SYS_SETITIMER, unix.SYS_GETUID, unix.SYS_GETEUID, unix.SYS_GETGID, unix.SYS_GETEGID, unix.SYS_EXIT, unix.SYS_EXIT_GROUP,
}

// Serving are the calls of a process that besides accepts connections on sockets that it has, and is
// handed others. It can make none.
var Serving = []uint32{
	unix.SYS_ACCEPT4, unix.SYS_RECVMSG, unix.SYS_RECVFROM, unix.SYS_SENDMSG, unix.SYS_SENDTO, unix.SYS_SHUTDOWN,
	unix.SYS_SETSOCKOPT, unix.SYS_GETSOCKOPT, unix.SYS_GETSOCKNAME, unix.SYS_GETPEERNAME,
}
