package cli

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"
	"golang.org/x/sys/unix"

	"ironbark/internal/backup"
	"ironbark/internal/cli/view"
	"ironbark/internal/driver/sim"
	"ironbark/internal/ledger/sqlite"
	"ironbark/internal/plainfile"
	"ironbark/internal/sentence"
	"ironbark/internal/store"
	"ironbark/internal/work"
)

// backupDoc is the document of a backup that was made, checked or brought back.
type backupDoc struct {
	File     string          `json:"file"`
	SHA256   string          `json:"sha256"`
	Bytes    int64           `json:"bytes"`
	Manifest backup.Manifest `json:"manifest"`
	Folder   string          `json:"folder,omitempty"` // where it was brought back to
	Closed   []int64         `json:"closed,omitempty"` // openings that came back, and were closed
}

func (a *app) backupCommand() *cobra.Command {
	var keys, place bool
	c := &cobra.Command{
		Use: "backup FILE", Short: "Write the estate's files and its record into one file",
		Long: "Keep the estate in one file: its files, its setup scripts, and the record of what was decided, openings and journal\n" +
			"included, as it stands at one moment. Private keys are in it only with --with-keys, and of the stand-in cloud what it\n" +
			"is only with --with-place. Image files and machines' disks are not. FILE is never written over; restore brings it back.",
		Example: "  ironbark backup saltmarsh-2026-11-26.tar.gz",
		RunE: a.with(func(ctx context.Context, w *work.Work, args []string) error {
			if len(args) != 1 {
				return usage("backup takes the file to make")
			}
			if place && a.sim == nil {
				return usage("--with-place is for the stand-in cloud; what a Linux host has is on that host")
			}
			return a.backup(ctx, w, args[0], keys, place)
		}),
	}
	c.Flags().BoolVar(&keys, "with-keys", false, "private keys too: whoever has the file then gets into the machines")
	c.Flags().BoolVar(&place, "with-place", false, "the stand-in cloud too, with all that is in its machines")
	return c
}

func (a *app) backup(ctx context.Context, w *work.Work, file string, keys, place bool) (err error) {
	if _, err := os.Lstat(file); !errors.Is(err, fs.ErrNotExist) {
		return wrong("%s is there already and is not written over", file)
	}
	st, err := w.Installed(ctx)
	if err != nil {
		return err
	}
	scratch, err := os.MkdirTemp("", "ironbark-backup-")
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, os.RemoveAll(scratch)) }()
	m := backup.Manifest{Estate: st.Estate.Name, Site: w.Folder.SiteName(), Made: a.clock.Now().UTC(), Program: Version, Keys: keys, Place: place}
	sources, err := a.estateFiles(w, scratch)
	if err != nil {
		return err
	}
	if m.Estate == "" { // nothing was ever enacted
		if files, err := w.Folder.Read(); err == nil {
			if e, err := files.Estate(); err == nil {
				m.Estate = e.Name
			}
		}
	}
	if m.Estate == "" {
		return wrong("the estate has no name: nothing was enacted, and its files cannot be read")
	}
	if place { // before the ledger: a place that is behind that is no break of the record
		if sources, err = withCopy(ctx, sources, a.sim, scratch, sim.Name); err != nil {
			return err
		}
	}
	if sources, err = withCopy(ctx, sources, a.ledger, scratch, sqlite.Name); err != nil {
		return err
	}
	ledger, head, err := a.ledger.Head(ctx)
	if err != nil {
		return err
	}
	m.Ledger, m.Head = ledger, backup.Head(head)
	if keys {
		list, err := os.ReadDir(filepath.Join(w.Folder.Dir, work.StateDir, "keys"))
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
		for _, k := range list {
			sources = append(sources, backup.Source{Name: backup.StateDir + "/keys/" + k.Name(), Path: keyPath(w, k.Name())})
		}
	}
	doc := backupDoc{File: file}
	if doc.Manifest, err = writeBackup(file, m, sources); err != nil {
		return err
	}
	if doc.SHA256, doc.Bytes, err = digestOfFile(file); err != nil {
		return err
	}
	if a.json {
		return a.print.JSON(doc)
	}
	a.print.Line("wrote  %s", file)
	a.tellBackup(doc)
	if !keys {
		a.print.Note("without private keys: --with-keys takes them along")
	}
	return nil
}

// estateFiles are the files of an estate as they were read together.
func (a *app) estateFiles(w *work.Work, scratch string) (sources []backup.Source, err error) {
	files, err := w.Folder.Read()
	if err != nil {
		return nil, err
	}
	for i, f := range files {
		path := filepath.Join(scratch, fmt.Sprint(i))
		if err := os.WriteFile(path, f.Data, 0o600); err != nil {
			return nil, err
		}
		sources = append(sources, backup.Source{Name: f.Name, Path: path})
	}
	return sources, nil
}

// withCopy adds the copy of a store, if there is one.
func withCopy(ctx context.Context, sources []backup.Source, of interface {
	Copy(ctx context.Context, to string) error
}, scratch, name string,
) ([]backup.Source, error) {
	to := filepath.Join(scratch, name)
	err := of.Copy(ctx, to)
	if errors.Is(err, store.ErrAbsent) {
		return sources, nil
	}
	return append(sources, backup.Source{Name: backup.StateDir + "/" + name, Path: to}), err
}

// writeBackup writes a backup whole or not at all.
func writeBackup(file string, m backup.Manifest, sources []backup.Source) (backup.Manifest, error) {
	tmp, err := os.CreateTemp(filepath.Dir(file), "."+filepath.Base(file)+".")
	if err != nil {
		return m, &work.UnwritableError{Path: file, Why: err}
	}
	m, err = backup.Write(tmp, m, sources)
	if err = errors.Join(err, tmp.Sync(), tmp.Close()); err == nil {
		err = os.Link(tmp.Name(), file) // unlike a rename it writes over nothing
	}
	if failed := os.Remove(tmp.Name()); err != nil || failed != nil {
		return m, &work.UnwritableError{Path: file, Why: errors.Join(err, failed)}
	}
	return m, nil
}

func digestOfFile(path string) (sum string, n int64, err error) {
	f, err := plainfile.Open(path)
	if err != nil {
		return "", 0, err
	}
	defer f.Close()
	h := sha256.New()
	n, err = io.Copy(h, f)
	return hex.EncodeToString(h.Sum(nil)), n, err
}

// tellBackup tells what is in a backup.
func (a *app) tellBackup(doc backupDoc) {
	m := doc.Manifest
	words := []string{}
	rules, scripts, keys := 0, 0, 0
	for _, f := range m.Files {
		switch {
		case strings.HasSuffix(f.Name, ".rules"):
			rules++
		case strings.HasPrefix(f.Name, "setup/"):
			scripts++
		case strings.HasPrefix(f.Name, backup.StateDir+"/keys/"):
			keys++
		}
	}
	words = append(words, "estate.yaml", view.Count(rules, "file")+" of rules")
	if scripts > 0 {
		words = append(words, view.Count(scripts, "setup script"))
	}
	if m.Ledger != "" {
		entries := fmt.Sprintf("%d entries", m.Head.Seq)
		if m.Head.Seq == 1 {
			entries = "1 entry"
		}
		words = append(words, fmt.Sprintf("the record, %s of the journal", entries))
	} else {
		words = append(words, "no record: nothing was enacted")
	}
	if m.Keys {
		words = append(words, view.Count(keys, "private key file"))
	}
	if m.Place {
		words = append(words, "the stand-in cloud")
	}
	a.print.Wrap("       ", fmt.Sprintf("estate %s on %s, made %s by ironbark %s", m.Estate, m.Site, view.Moment(m.Made, a.clock.Now()), m.Program))
	a.print.Wrap("       ", strings.Join(words, "; "))
	a.print.Line("       %d bytes, SHA-256 %s", doc.Bytes, doc.SHA256)
}

func (a *app) restoreCommand() *cobra.Command {
	var to string
	var check bool
	c := &cobra.Command{
		Use: "restore FILE", Short: "Restore an estate from a backup, on this computer or another one",
		Long: "Bring an estate back from a backup. Every file in it is compared with its hash before anything is written. It goes into\n" +
			"a new folder, called as the estate or as --to says; nothing is written over. Openings that came back are closed, since\n" +
			"they may have been closed after the backup was made. Then what is on the site by now is compared with what the backup\n" +
			"knows, and listed. Nothing else on the site is changed before the next enact.\n\n" +
			"Exit status 2: the file is no backup, or is damaged.",
		Example: "  ironbark restore saltmarsh-2026-11-26.tar.gz\n  ironbark restore saltmarsh-2026-11-26.tar.gz --check",
		RunE: func(c *cobra.Command, args []string) error {
			if len(args) != 1 {
				return usage("restore takes a backup: ironbark restore FILE (site restore starts what a host's reboot has stopped)")
			}
			if a.estateDir != "" {
				return usage("restore makes a new folder: --to DIR says which")
			}
			return a.bringBack(c.Context(), args[0], to, check)
		},
	}
	c.Flags().StringVar(&to, "to", "", "the folder to make (default: called as the estate)")
	c.Flags().BoolVar(&check, "check", false, "only tell what is in it, and whether it is whole")
	return c
}

func (a *app) bringBack(ctx context.Context, file, to string, check bool) (err error) {
	doc := backupDoc{File: file}
	if doc.SHA256, doc.Bytes, err = digestOfFile(file); err != nil {
		return wrong("%v", err)
	}
	if doc.Manifest, err = backup.Check(file); err != nil {
		return err
	}
	if check {
		if a.json {
			return a.print.JSON(doc)
		}
		a.print.Line("whole  %s", file)
		a.tellBackup(doc)
		return nil
	}
	if to == "" {
		to = doc.Manifest.Estate
	}
	if to == "" {
		return usage("the backup does not name its estate: --to DIR says which folder to make")
	}
	if doc.Folder, err = filepath.Abs(to); err != nil {
		return err
	}
	if err := extractNew(file, doc.Folder); err != nil {
		return err
	}
	if !a.json {
		a.print.Line("back   %s", doc.Folder)
		a.tellBackup(doc)
	}
	if err := a.afterRestoring(ctx, work.Folder{Dir: doc.Folder}, &doc); err != nil {
		return err
	}
	a.remember(doc.Folder)
	if a.json {
		return a.print.JSON(doc)
	}
	a.print.Note("next: cd %s; ironbark status", sentence.Shell(to))
	return nil
}

// extractNew writes a backup into a folder that is not there yet: whole or not at all.
func extractNew(file, dir string) (err error) {
	if _, err := os.Lstat(dir); !errors.Is(err, fs.ErrNotExist) {
		return wrong("%s is there already, and nothing is written over: --to DIR takes another folder", dir)
	}
	tmp, err := os.MkdirTemp(filepath.Dir(dir), "."+filepath.Base(dir)+".")
	if err != nil {
		return &work.UnwritableError{Path: dir, Why: err}
	}
	if _, err := backup.Extract(file, tmp); err != nil {
		return errors.Join(err, os.RemoveAll(tmp))
	}
	err = errors.Join(os.Chmod(tmp, 0o755), unix.Renameat2(unix.AT_FDCWD, tmp, unix.AT_FDCWD, dir, unix.RENAME_NOREPLACE)) // whoever made one meanwhile keeps it
	if err != nil {
		return errors.Join(&work.UnwritableError{Path: dir, Why: err}, os.RemoveAll(tmp))
	}
	return nil
}

// afterRestoring ends the openings that came back with a backup, and compares what is on the site with what the backup knows.
func (a *app) afterRestoring(ctx context.Context, folder work.Folder, doc *backupDoc) error {
	w, done, err := a.workIn(folder)
	if err != nil {
		return err
	}
	defer done()
	ended, err := w.EndRestored(ctx, doc.Manifest.Place)
	for _, o := range ended {
		doc.Closed = append(doc.Closed, o.ID)
		if err == nil && !a.json {
			a.print.Wrap("closed ", fmt.Sprintf("opening %d: %s; it may have been closed after the backup was made", o.ID, o.Brief()))
		}
	}
	if err != nil && len(ended) > 0 {
		return fmt.Errorf("openings came back with the backup, and could not be closed: %w", err)
	}
	st, err := w.Installed(ctx)
	if err != nil {
		a.print.NoteWrap("but  ", "what is on the site cannot be compared: "+err.Error())
		return nil
	}
	if a.json {
		return nil
	}
	a.print.Line("")
	a.print.Head("What is on the site, and is not as the backup knows it")
	a.print.Drift(w.Drift(st), view.NewPhrasing(st, a.clock.Now()))
	if broken, err := w.Site.CheckRecord(ctx, false); err == nil && len(broken) > 0 {
		a.print.NoteWrap("the record  ", "goes on elsewhere than in this backup, so nothing is opened or enacted until a person has taken note: ironbark status, ironbark acknowledge record")
	}
	return nil
}
