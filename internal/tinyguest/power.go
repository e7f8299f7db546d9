package tinyguest

import (
	"encoding/binary"
	"io"
	"os"
	"path/filepath"
	"time"

	"golang.org/x/sys/unix"
)

// keyPower is the code of a power button (linux/input-event-codes.h).
const keyPower = 116

// powerButton powers the machine off when its button is pressed. Which of the input devices is the
// button is not told, so all are read.
func powerButton(m *machine) {
	known := map[string]bool{}
	for {
		list, _ := filepath.Glob("/dev/input/event*")
		for _, path := range list {
			if !known[path] {
				known[path] = true
				go func() {
					if f, err := os.Open(path); err == nil {
						buttonsOf(f)
					}
				}()
			}
		}
		time.Sleep(200 * time.Millisecond)
	}
}

func buttonsOf(f io.Reader) {
	for {
		var event struct { // struct input_event
			Seconds, Microseconds int64
			Type, Code            uint16
			Value                 int32
		}
		if binary.Read(f, binary.LittleEndian, &event) != nil {
			return
		}
		if event.Type == 1 && event.Code == keyPower && event.Value == 1 {
			shutDown(unix.LINUX_REBOOT_CMD_POWER_OFF)
		}
	}
}

// shutDown writes everything to the disk and ends the machine, or starts it anew.
func shutDown(how int) {
	say("the machine goes down")
	unix.Sync()
	for _, folder := range keptFolders {
		_ = unix.Unmount(folder, unix.MNT_DETACH)
	}
	if unix.Mount("", diskPath, "", unix.MS_REMOUNT|unix.MS_RDONLY, "") != nil {
		unix.Sync()
	}
	_ = unix.Reboot(how)
}
