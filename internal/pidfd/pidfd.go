// Package pidfd ends processes by the kernel's descriptors of them (pidfd_open(2), Linux 5.3), which mean the same process also once its
// number is another's.
package pidfd

import (
	"errors"
	"time"

	"golang.org/x/sys/unix"
)

// Ended waits until a process has ended with all of its threads, and reports whether it has: until then one of them may still hold its
// files and sockets. /proc cannot be asked instead, as its list of threads breaks off where one ends while it is read.
func Ended(fd int, within time.Duration) bool {
	for end := time.Now().Add(within); ; {
		left := max(time.Until(end), 0)
		n, err := unix.Poll([]unix.PollFd{{Fd: int32(fd), Events: unix.POLLIN}}, int(left.Milliseconds()))
		if n > 0 || left == 0 && !errors.Is(err, unix.EINTR) {
			return n > 0
		}
	}
}

// Kill ends a process at once, waits until it is gone as [Ended] does, and reports whether it is. One that was gone before is no error.
func Kill(fd int, within time.Duration) (ended bool, err error) {
	if err := unix.PidfdSendSignal(fd, unix.SIGKILL, nil, 0); err != nil && !errors.Is(err, unix.ESRCH) {
		return false, err
	}
	return Ended(fd, within), nil
}
