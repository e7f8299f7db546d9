package qemu

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"ironbark/internal/fault"
)

// Accel is how a machine's processors are run. Its zero value is emulation, which works everywhere.
type Accel int

// The ways.
const (
	TCG Accel = iota // emulated
	KVM              // by the processor itself
)

// String names the way.
func (a Accel) String() string {
	if a == KVM {
		return "KVM"
	}
	return "emulation (TCG)"
}

func (a Accel) option() string {
	if a == KVM {
		return "kvm"
	}
	return "tcg,thread=multi"
}

// cpu is the processor that a machine sees: all that the host's has, or one of the second level of x86-64. What
// newer ones have besides takes longer to emulate than it saves.
func (a Accel) cpu() string {
	if a == KVM {
		return "host"
	}
	return "Nehalem"
}

// kvmTime is how long it may take until a machine under KVM finds out that it has no disk: on some hosts
// the device is there, and what runs by it hangs on its way.
const kvmTime = 4 * time.Second

// TryKVM tells why KVM cannot be used on this host; nil: it can. A machine without disks is
// started, and has to get to the end of its firmware.
func TryKVM(ctx context.Context) error {
	if _, err := os.Stat("/dev/kvm"); err != nil {
		return errors.New("there is no /dev/kvm")
	}
	ctx, cancel := context.WithTimeout(ctx, kvmTime)
	defer cancel()
	// The firmware (SeaBIOS) tells what it does on this port of the debugging console.
	c := exec.CommandContext(ctx, Program, "-accel", "kvm", "-cpu", "host", "-machine", "q35,usb=off", "-m", "64", "-no-user-config", "-nodefaults", "-display", "none",
		"-chardev", "stdio,id=told,signal=off", "-device", "isa-debugcon,iobase=0x402,chardev=told")
	c.WaitDelay = time.Second
	out, err := c.StdoutPipe()
	if err != nil {
		return err
	}
	if err := c.Start(); err != nil {
		return &MissingError{Program, fault.Say("apt-get install qemu-system-x86")}
	}
	defer func() {
		cancel()
		_ = c.Wait()
	}()
	for lines := bufio.NewScanner(out); lines.Scan(); {
		if strings.Contains(lines.Text(), "No bootable device") {
			return nil
		}
	}
	return fmt.Errorf("/dev/kvm is there, and a machine under it does not get through its firmware within %s", kvmTime)
}

// AccelOf tells how machines run on this host, and why not by KVM where they do not. What was
// found out is kept in a file, until the host is started anew.
func AccelOf(ctx context.Context, kept string) (Accel, string) {
	const yes = "yes"
	text, err := os.ReadFile(kept)
	if err != nil {
		text = []byte(yes)
		err := TryKVM(ctx)
		if err != nil {
			text = []byte(err.Error())
		}
		_, missing := errors.AsType[*MissingError](err)
		if ctx.Err() == nil && !missing && os.MkdirAll(filepath.Dir(kept), 0o755) == nil {
			_ = os.WriteFile(kept, text, 0o644)
		}
	}
	if string(text) == yes {
		return KVM, ""
	}
	return TCG, string(text)
}
