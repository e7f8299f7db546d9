package linux

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"database/sql"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"golang.org/x/sys/unix"

	"ironbark/internal/change"
	"ironbark/internal/driver"
	"ironbark/internal/fault"
	"ironbark/internal/qemu"
	"ironbark/internal/tinyimage"
)

// A guest is a machine with a kernel of its own: a process of QEMU (package qemu), as a user of its own.
// Its link to the router is a tap device in the router's namespace, so that it is filtered like any other
// machine's. What it keeps when it is off is in files outside of the estate's folder, which only root may be able
// to enter:
//
//	/var/lib/ironbark/SITE/machines/NAME/   system disk, seed disk
//	/var/lib/ironbark/SITE/volumes/NAME     a volume, a qcow2 file
//	/var/lib/ironbark/SITE/images/NAME      an image, as it was uploaded
//	/var/lib/ironbark/SITE/snapshots/NAME   what a disk held, a qcow2 file
//	/var/lib/ironbark/tiny/VERSION/         the system of tiny guests, and saved states of it
//	/run/ironbark/SITE/NAME/                sockets and logs of one that runs

const (
	storeRoot = "/var/lib/ironbark"
	runRoot   = "/run/ironbark"
)

// lightImage and tinyImage are the images that a Linux site has of its own.
const (
	lightImage = "light"
	tinyImage  = "tiny"
)

// tinyRoot is where the systems of tiny guests are: those of different versions of this program, too.
var tinyRoot = filepath.Join(storeRoot, "tiny")

// TinyFolder is where this program's is. Disks of machines lie on a file in it, so it stays when another version
// makes its own.
func TinyFolder() string { return filepath.Join(tinyRoot, "of-"+tinyimage.ID()) }

// imagesGroup is the group that may read what system disks lie on. It has no name on the host.
const imagesGroup = 1_100_000_000

// nobody is the user that the disks of no machine belong to.
const nobody = imagesGroup

// guest is what the site keeps of a guest beside its resource.
type guest struct {
	UID      int                  `json:"uid"`
	UUID     string               `json:"uuid"`
	Instance string               `json:"instance"` // another one where its setup is to run again
	Host     []byte               `json:"host"`     // the seed of its SSH server's key
	Tiny     bool                 `json:"tiny,omitempty"`
	Base     qemu.Layer           `json:"base"`
	Booted   time.Time            `json:"booted,omitzero"`
	Forced   bool                 `json:"forced,omitempty"`
	Results  []driver.SetupResult `json:"results,omitempty"` // as it last told them
	How      string               `json:"how,omitempty"`     // of a snapshot: how it was made consistent
}

const guestsSchema = `
CREATE TABLE guests (name TEXT PRIMARY KEY, body TEXT NOT NULL) STRICT, WITHOUT ROWID;
CREATE TABLE outs (front TEXT, service TEXT, machine TEXT, since TEXT NOT NULL, why TEXT NOT NULL, PRIMARY KEY (front, service, machine)) STRICT, WITHOUT ROWID;
`

// snapshotOf and volumeOf are the names under which it is kept among the guests what system a snapshot or a volume holds.
func snapshotOf(name string) string { return "snapshot/" + name }
func volumeOf(name string) string   { return "volume/" + name }

func readGuest(ctx context.Context, tx *sql.Tx, name string) (g *guest, err error) {
	var body string
	err = tx.QueryRowContext(ctx, `SELECT body FROM guests WHERE name = ?`, name).Scan(&body)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	if err == nil {
		g = &guest{}
		err = json.Unmarshal([]byte(body), g)
	}
	return g, err
}

func putGuest(ctx context.Context, tx *sql.Tx, name string, g *guest) error {
	body, err := json.Marshal(g)
	if err == nil {
		_, err = tx.ExecContext(ctx, `INSERT OR REPLACE INTO guests VALUES (?, ?)`, name, string(body))
	}
	return err
}

// guestOf reads what is kept of a guest; nil: there is none of that name.
func (s *Site) guestOf(ctx context.Context, name string) (g *guest, err error) {
	err = s.read(ctx, func(tx *sql.Tx) error {
		g, err = readGuest(ctx, tx, name)
		return err
	})
	return g, err
}

// keepGuest writes it.
func (s *Site) keepGuest(ctx context.Context, name string, g *guest) error {
	return s.change(ctx, func(tx *sql.Tx, _ *meta) error { return putGuest(ctx, tx, name, g) })
}

// isGuest reports whether a resource is a machine with a kernel of its own.
func isGuest(t change.Resource) bool {
	return t.Kind == change.Machine && t.Spec.Image != lightImage
}

// newGuest is a guest that starts from an image of the site, of the estate's own, from a snapshot, or from a volume.
func (s *Site) newGuest(ctx context.Context, tx *sql.Tx, t change.Resource, list []change.Resource) (*guest, error) {
	uid, err := nextUser()
	if err != nil {
		return nil, err
	}
	g := &guest{UID: uid, UUID: randomUUID(), Host: make([]byte, ed25519.SeedSize)}
	g.Instance = "i-" + g.UUID
	if _, err := rand.Read(g.Host); err != nil {
		return nil, err
	}
	if t.Spec.Boot == "" {
		g.Tiny, g.Base, err = s.layerOf(ctx, tx, t.Spec.Image, list)
		return g, err
	}
	of, err := readGuest(ctx, tx, volumeOf(t.Spec.Boot))
	if err == nil && of == nil {
		err = fmt.Errorf("volume %s holds no system", t.Spec.Boot)
	}
	if err != nil {
		return nil, err
	}
	g.Tiny, g.Base = of.Tiny, of.Base
	return g, nil
}

// layerOf is what a disk lies on that begins as an image, or as a snapshot of a machine or of a volume with a system.
func (s *Site) layerOf(ctx context.Context, tx *sql.Tx, image string, list []change.Resource) (tiny bool, base qemu.Layer, err error) {
	if image == tinyImage {
		return true, qemu.Layer{File: filepath.Join(TinyFolder(), tinyimage.Disk), Format: "raw"}, nil
	}
	if t, ok := change.Find(list, change.Image, image); ok {
		return false, qemu.Layer{File: s.imagePath(image), Format: t.Spec.Format}, nil
	}
	if _, ok := change.Find(list, change.Snapshot, image); ok {
		of, err := readGuest(ctx, tx, snapshotOf(image))
		if err != nil || of == nil {
			return false, qemu.Layer{}, errors.Join(err, fmt.Errorf("snapshot %s holds no system", image))
		}
		return of.Tiny, qemu.Layer{File: s.snapshotPath(image), Format: "qcow2"}, nil
	}
	return false, qemu.Layer{}, fmt.Errorf("the site has no image %s", image)
}

func randomUUID() string {
	b := make([]byte, 16)
	_, _ = rand.Read(b)
	b[6], b[8] = b[6]&0x0f|0x40, b[8]&0x3f|0x80 // RFC 9562, version 4
	h := hex.EncodeToString(b)
	return h[:8] + "-" + h[8:12] + "-" + h[12:16] + "-" + h[16:20] + "-" + h[20:]
}

// nextUser is a user and group that no guest of this host ever had.
func nextUser() (uid int, err error) {
	if err := os.MkdirAll(storeRoot, 0o711); err != nil {
		return 0, err
	}
	f, err := os.OpenFile(filepath.Join(storeRoot, "last-user"), os.O_RDWR|os.O_CREATE, 0o600)
	if err != nil {
		return 0, err
	}
	defer f.Close()
	if err := unix.Flock(int(f.Fd()), unix.LOCK_EX); err != nil {
		return 0, err
	}
	text := make([]byte, 16)
	n, _ := f.ReadAt(text, 0)
	uid, err = strconv.Atoi(strings.TrimSpace(string(text[:n])))
	if err != nil {
		uid = imagesGroup
	}
	uid++
	_, err = f.WriteAt(fmt.Appendf(nil, "%-15d\n", uid), 0)
	return uid, errors.Join(err, f.Sync())
}

func (s *Site) store() string                 { return filepath.Join(storeRoot, s.prefix) }
func (s *Site) machineDir(name string) string { return filepath.Join(s.store(), "machines", name) }

func (s *Site) volumePath(name string) string   { return filepath.Join(s.store(), "volumes", name) }
func (s *Site) imagePath(name string) string    { return filepath.Join(s.store(), "images", name) }
func (s *Site) snapshotPath(name string) string { return filepath.Join(s.store(), "snapshots", name) }
func (s *Site) runDir(name string) string       { return filepath.Join(runRoot, s.prefix, name) }

// folders makes the folders of the site's files. Whoever is not root gets through them only by
// knowing what to ask for, and to images only with their group.
func (s *Site) folders() error {
	for _, dir := range []string{storeRoot, s.store(), filepath.Join(s.store(), "machines"), filepath.Join(s.store(), "volumes"), runRoot, filepath.Join(runRoot, s.prefix)} {
		if err := os.MkdirAll(dir, 0o711); err != nil {
			return err
		}
	}
	for _, dir := range []string{filepath.Join(s.store(), "images"), filepath.Join(s.store(), "snapshots")} {
		if err := errors.Join(os.MkdirAll(dir, 0o750), os.Chown(dir, 0, imagesGroup)); err != nil {
			return err
		}
	}
	return nil
}

// systemPath is a guest's system disk: its own, or the volume that it boots from.
func (s *Site) systemPath(t change.Resource) string {
	if t.Spec.Boot != "" {
		return s.volumePath(t.Spec.Boot)
	}
	return filepath.Join(s.machineDir(t.Name), "system")
}

// hasDisk reports whether a guest's system disk is there, and its own folder: that is what it is to be there.
func (s *Site) hasDisk(t change.Resource) bool {
	_, err1 := os.Lstat(s.machineDir(t.Name))
	_, err2 := os.Lstat(s.systemPath(t))
	return err1 == nil && err2 == nil
}

// guestRuns reports whether a guest's process runs.
func (s *Site) guestRuns(name string) bool { return qemu.Find(s.runDir(name)) > 0 }

// runs reports whether a machine runs: light or not.
func (s *Site) runs(name string) bool { return s.guestRuns(name) || s.listening(name) }

// lockTime is how long one command waits for another that is at work on a guest. Tests wait for less.
var lockTime = time.Minute

// BusyError says that another command is at work on a machine or a line.
type BusyError struct {
	Name, Doing string // what the other one does, and since when
	Process     int
}

// Error says which, and what is done.
func (b *BusyError) Error() string {
	return fmt.Sprintf("%s is busy: process %d is %s", b.Name, b.Process, b.Doing)
}

// Advice says what to do.
func (b *BusyError) Advice() fault.Advice {
	return fault.Say(fmt.Sprintf("wait for it, or end it: kill %d", b.Process))
}

// lockGuest waits for the right to start, stop and alter a guest, which the kernel gives back when its
// process ends. doing is what others read of it meanwhile. The error is a *BusyError where another one keeps it for too long.
func (s *Site) lockGuest(ctx context.Context, name, doing string) (release func(), err error) {
	if err := s.folders(); err != nil {
		return nil, err
	}
	f, err := os.OpenFile(s.runDir(name)+".lock", os.O_RDWR|os.O_CREATE, 0o600)
	if err != nil {
		return nil, err
	}
	for end := time.Now().Add(lockTime); ; {
		err := unix.Flock(int(f.Fd()), unix.LOCK_EX|unix.LOCK_NB)
		if err == nil {
			_ = f.Truncate(0) // it is for people alone; a disk that is full keeps nobody out
			_, _ = f.WriteAt(fmt.Appendf(nil, "%d %s since %s", os.Getpid(), doing, time.Now().UTC().Format(time.TimeOnly+"Z")), 0)
			return func() { _ = f.Close() }, nil
		}
		if !errors.Is(err, unix.EWOULDBLOCK) {
			return nil, errors.Join(err, f.Close())
		}
		if time.Now().After(end) {
			busy := &BusyError{Name: name, Doing: "at work on it"}
			text, _ := os.ReadFile(f.Name())
			if pid, what, ok := strings.Cut(string(text), " "); ok {
				busy.Process, _ = strconv.Atoi(pid)
				busy.Doing = what
			}
			return nil, errors.Join(busy, f.Close())
		}
		select {
		case <-ctx.Done():
			return nil, errors.Join(ctx.Err(), f.Close())
		case <-time.After(20 * time.Millisecond):
		}
	}
}
