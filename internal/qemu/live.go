package qemu

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"golang.org/x/sys/unix"

	"ironbark/internal/pidfd"
)

// This file does things to machines that run.

// with talks to a machine's monitor.
func with(ctx context.Context, run string, do func(m *Monitor) error) error {
	m, err := DialMonitor(ctx, filepath.Join(run, MonitorSocket))
	if err != nil {
		return err
	}
	return errors.Join(do(m), m.Close())
}

// Stop asks the system inside to power off, and switches the machine off where it does not
// within grace. forced tells that it did not.
func Stop(ctx context.Context, run string, grace time.Duration) (forced bool, err error) {
	fd, err := hold(run)
	if err != nil || fd < 0 {
		return false, err
	}
	defer unix.Close(fd)
	if grace > 0 {
		end := time.Now().Add(grace)
		// A monitor that does not answer is no reason not to stop, and no reason to take longer.
		short, cancel := context.WithDeadline(ctx, end)
		_ = with(short, run, func(m *Monitor) error { return m.Do(short, "system_powerdown", nil, nil) })
		cancel()
		for time.Now().Before(end) && ctx.Err() == nil {
			if pidfd.Ended(fd, min(time.Until(end), 100*time.Millisecond)) {
				return false, nil
			}
		}
	}
	if err := ctx.Err(); err != nil {
		return false, err
	}
	return true, Kill(run)
}

// Attach plugs a volume in. One that is there already stays.
func Attach(ctx context.Context, run string, v Volume) error {
	return with(ctx, run, func(m *Monitor) error {
		node := map[string]any{"driver": "qcow2", "node-name": v.node(), "discard": "unmap", "file": map[string]any{"driver": "file", "filename": v.File}}
		if err := m.Do(ctx, "blockdev-add", node, nil); err != nil && !there(err) {
			return err
		}
		device := map[string]any{"driver": "virtio-blk-pci", "drive": v.node(), "id": v.device(), "serial": v.serial(), "bus": fmt.Sprintf("port%d", v.Slot)}
		if err := m.Do(ctx, "device_add", device, nil); err != nil && !there(err) {
			return errors.Join(err, m.Do(ctx, "blockdev-del", map[string]string{"node-name": v.node()}, nil))
		}
		return nil
	})
}

// there reports whether a command was refused because what it makes is there.
func there(err error) bool {
	e, ok := errors.AsType[*CommandError](err)
	return ok && (strings.Contains(e.Why, "Duplicate") || strings.Contains(e.Why, "duplicate"))
}

// gone reports whether a command was refused because there is nothing for it.
func gone(err error) bool {
	e, ok := errors.AsType[*CommandError](err)
	return ok && (e.Class == "DeviceNotFound" || strings.Contains(e.Why, "Failed to find node") || strings.Contains(e.Why, "Cannot find device"))
}

// unplugTime is how long a system may take to let a volume go.
const unplugTime = 15 * time.Second

// Detach unplugs a volume: the system inside is asked to let it go. The error is a *HeldError where it
// does not.
func Detach(ctx context.Context, run string, v Volume) error {
	ctx, cancel := context.WithTimeout(ctx, unplugTime)
	defer cancel()
	return with(ctx, run, func(m *Monitor) error {
		for {
			err := m.Do(ctx, "device_del", map[string]string{"id": v.device()}, nil)
			if gone(err) {
				break
			}
			if ctx.Err() != nil {
				return &HeldError{v.Name}
			}
			if _, refused := errors.AsType[*CommandError](err); err != nil && !refused { // refused: it is under way
				return err
			}
			time.Sleep(100 * time.Millisecond)
		}
		for { // the device is gone a moment before it lets go of its disk
			err := m.Do(ctx, "blockdev-del", map[string]string{"node-name": v.node()}, nil)
			if _, refused := errors.AsType[*CommandError](err); err == nil || gone(err) {
				return nil
			} else if !refused || ctx.Err() != nil {
				return err
			}
			time.Sleep(20 * time.Millisecond)
		}
	})
}

// HeldError says that the system inside a machine does not let a volume go.
type HeldError struct{ Volume string }

// Error tells which.
func (h *HeldError) Error() string {
	return fmt.Sprintf("the machine does not let volume %s go within %s: unmount it inside, or stop the machine", h.Volume, unplugTime)
}

// Resize tells a machine that its system disk, or a volume, is larger. v is nil for the system disk.
func Resize(ctx context.Context, run string, v *Volume, gb int) error {
	node := "system"
	if v != nil {
		node = v.node()
	}
	return with(ctx, run, func(m *Monitor) error {
		return m.Do(ctx, "block_resize", map[string]any{"node-name": node, "size": int64(gb) * GB}, nil)
	})
}

// How a copy of a disk in use was made consistent.
const (
	Frozen = "frozen by the guest agent" // what programs had written is in it, and its file systems are whole
	Paused = "the machine paused"        // as after a power cut at that moment
)

// CopyLive writes what a disk of a running machine holds at one moment into an empty qcow2 file that is
// as large. The file systems inside are frozen for that moment by the guest agent; where there is none that answers,
// the machine is paused. how tells which. The copy goes on while the machine runs.
func CopyLive(ctx context.Context, run string, v *Volume, to string) (how string, err error) {
	node := "system"
	if v != nil {
		node = v.node()
	}
	agent := filepath.Join(run, AgentSocket)
	err = with(ctx, run, func(m *Monitor) error {
		const target, job = "copy", "copy"
		_ = m.Do(ctx, "blockdev-del", map[string]string{"node-name": target}, nil) // of a copy that was broken off
		add := map[string]any{"driver": "qcow2", "node-name": target, "file": map[string]any{"driver": "file", "filename": to}}
		if err := m.Do(ctx, "blockdev-add", add, nil); err != nil {
			return err
		}
		thaw := func() error { return Agent(context.WithoutCancel(ctx), agent, "guest-fsfreeze-thaw", nil, nil) }
		short, cancel := context.WithTimeout(ctx, 3*time.Second)
		defer cancel()
		if how = Frozen; Agent(short, agent, "guest-fsfreeze-freeze", nil, nil) != nil {
			how = Paused
			_ = Agent(short, agent, "guest-fsfreeze-thaw", nil, nil) // it may be done, and the answer late
			if err := m.Do(ctx, "stop", nil, nil); err != nil {
				return err
			}
			thaw = func() error { return m.Do(context.WithoutCancel(ctx), "cont", nil, nil) }
		}
		err := m.Do(ctx, "blockdev-backup", map[string]any{"job-id": job, "device": node, "target": target, "sync": "full"}, nil)
		if err := errors.Join(err, thaw()); err != nil {
			return err
		}
		failed := ""
		err = m.Await(ctx, func(name string, data json.RawMessage) bool {
			var e struct {
				Device string `json:"device"`
				Error  string `json:"error"`
			}
			if json.Unmarshal(data, &e) != nil || e.Device != job {
				return false
			}
			failed = e.Error
			return name == "BLOCK_JOB_COMPLETED" || name == "BLOCK_JOB_CANCELLED"
		})
		if err == nil && failed != "" {
			err = errors.New("copying the disk: " + failed)
		}
		return errors.Join(err, m.Do(ctx, "blockdev-del", map[string]string{"node-name": target}, nil))
	})
	return how, err
}

// SetPasswordHash hands the salted hash of a user's password to the guest agent.
func SetPasswordHash(ctx context.Context, run, user, hash string) error {
	args := map[string]any{"username": user, "password": base64.StdEncoding.EncodeToString([]byte(hash)), "crypted": true}
	return Agent(ctx, filepath.Join(run, AgentSocket), "guest-set-user-password", args, nil)
}

// hangUp is the command by which systemd ends whoever is logged in at the serial line, and offers a login there again (TTYVHangup= in systemd.exec(5)).
var hangUp = map[string]any{"path": "systemctl", "arg": []string{"restart", "serial-getty@ttyS0.service"}}

// listenTime is how long is waited for a guest agent that may not run: the guest boots, or does not get through its boot.
const listenTime = 2 * time.Second

// hangUpTime is how long a guest may take to end a login.
const hangUpTime = 10 * time.Second

// HangUp ends whoever is logged in at a guest's serial line, by its guest agent, and waits until that is done, at most ten seconds.
func HangUp(ctx context.Context, run string) error {
	ctx, cancel := context.WithTimeout(ctx, hangUpTime)
	defer cancel()
	agent := filepath.Join(run, AgentSocket)
	short, stop := context.WithTimeout(ctx, listenTime)
	defer stop()
	if err := Agent(short, agent, "guest-ping", nil, nil); err != nil {
		return err
	}
	var begun struct {
		PID int64 `json:"pid"`
	}
	if err := Agent(ctx, agent, "guest-exec", hangUp, &begun); err != nil {
		return err
	}
	for {
		var is struct {
			Exited bool `json:"exited"`
			Status int  `json:"exitcode"`
		}
		if err := Agent(ctx, agent, "guest-exec-status", map[string]int64{"pid": begun.PID}, &is); err != nil {
			return err
		}
		switch {
		case is.Exited && is.Status != 0:
			return fmt.Errorf("its login could not be begun again: systemctl exited with %d", is.Status)
		case is.Exited:
			return nil
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(50 * time.Millisecond):
		}
	}
}

// Save writes the state of a machine into a file, and ends the machine.
func Save(ctx context.Context, run string, to *os.File) error {
	err := with(ctx, run, func(m *Monitor) error {
		if err := m.Do(ctx, "stop", nil, nil); err != nil {
			return err
		}
		if err := m.DoWithFile(ctx, "getfd", map[string]string{"fdname": "state"}, to); err != nil {
			return err
		}
		// It is written as fast as it goes: nobody waits for the machine meanwhile.
		if err := m.Do(ctx, "migrate-set-parameters", map[string]any{"max-bandwidth": int64(1) << 40}, nil); err != nil {
			return err
		}
		if err := m.Do(ctx, "migrate", map[string]string{"uri": "fd:state"}, nil); err != nil {
			return err
		}
		for {
			var s struct {
				Status string `json:"status"`
				Why    string `json:"error-desc"`
			}
			if err := m.Do(ctx, "query-migrate", nil, &s); err != nil {
				return err
			}
			switch s.Status {
			case "completed":
				return nil
			case "failed", "cancelled":
				return errors.New("saving the machine's state: " + s.Why)
			}
			if err := ctx.Err(); err != nil {
				return err
			}
			time.Sleep(10 * time.Millisecond)
		}
	})
	return errors.Join(err, Kill(run))
}

// Resumed waits until a machine that goes on from a saved state runs.
func Resumed(ctx context.Context, run string) error {
	return with(ctx, run, func(m *Monitor) error {
		for {
			var s struct {
				Status  string `json:"status"`
				Running bool   `json:"running"`
			}
			if err := m.Do(ctx, "query-status", nil, &s); err != nil {
				return err
			}
			switch {
			case s.Running:
				return nil
			case s.Status != "inmigrate":
				if err := m.Do(ctx, "cont", nil, nil); err != nil {
					return err
				}
			}
			if err := ctx.Err(); err != nil {
				return err
			}
			time.Sleep(5 * time.Millisecond)
		}
	})
}

// answersTime is how long a monitor that answers may take: it is asked in passing.
const answersTime = 500 * time.Millisecond

// Answers reports whether a machine's monitor answers at once. One that does not is a process that hangs, or is stopped.
func Answers(ctx context.Context, run string) bool {
	ctx, cancel := context.WithTimeout(ctx, answersTime)
	defer cancel()
	return with(ctx, run, func(*Monitor) error { return nil }) == nil
}
