package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"

	"github.com/spf13/cobra"

	"ironbark/internal/debimage"
	"ironbark/internal/sentence"
	"ironbark/internal/work"
)

// imagesDir is where images are kept that are made here, beside estate.yaml.
const imagesDir = "images"

// imageBuild are the options by which an image is made.
type imageBuild struct {
	build    bool
	suite    string
	packages []string
}

// addImageCommand puts an image in: a file that is there, or one that is made out of Debian's packages.
func (a *app) addImageCommand(n noun) *cobra.Command {
	in, opt, b := &nounInput{}, &editing{}, &imageBuild{}
	c := &cobra.Command{
		Use: "image NAME", Short: "Add " + n.short,
		Long: "Put a system image in, from which machines start: a raw or a qcow2 file. With --build one is made out of Debian's\n" +
			"packages, as images/NAME.qcow2: a system with an SSH server, cloud-init and QEMU's guest agent. It needs root, and the\n" +
			"packages mmdebstrap, e2fsprogs and qemu-utils; it takes some minutes, and nothing is installed on this host.",
		Example: "  ironbark add image gauge-os --file gauge-os.qcow2\n  ironbark add image gauge-os --build --with rsync",
		RunE: a.with(func(ctx context.Context, w *work.Work, args []string) error {
			if len(args) != 1 {
				return usage("add image takes one name")
			}
			if why := sentence.ValidName(args[0]); why != nil {
				return usage("%s", why)
			}
			switch {
			case !b.build && (b.suite != "" || len(b.packages) > 0):
				return usage("--suite and --with go with --build")
			case b.build && in.file != "":
				return usage("either --file or --build")
			case !b.build && in.file == "":
				return usage("say which file, --file FILE; or --build makes one out of Debian's packages")
			}
			old, err := w.Folder.Read()
			if err != nil {
				return err
			}
			if b.build {
				if in.file, err = a.buildImage(ctx, w, old, args[0], b); err != nil {
					return err
				}
				in.given = func(name string) bool { return name == "file" }
			}
			files, _, err := a.added(w, old, n, in, args[0], opt)
			if err != nil {
				return err
			}
			return a.edit(ctx, w, old, files, "added image "+args[0], opt)
		}),
	}
	n.flags(c, in, true)
	c.Flags().BoolVar(&b.build, "build", false, "make it out of Debian's packages")
	c.Flags().StringVar(&b.suite, "suite", "", "of Debian, such as bookworm (default: this host's)")
	c.Flags().StringSliceVar(&b.packages, "with", nil, "packages besides those of every image")
	in.given = c.Flags().Changed
	a.completeNounFlags(c)
	return opt.flags(c)
}

// buildImage makes an image, and returns its file. One that is there is never written over.
func (a *app) buildImage(ctx context.Context, w *work.Work, old work.Files, name string, b *imageBuild) (string, error) {
	dir := filepath.Join(w.Folder.Dir, imagesDir)
	to := filepath.Join(dir, name+".qcow2")
	if _, err := os.Lstat(to); err == nil {
		return "", wrong("%s is there already: --file %s takes it", to, to)
	} else if !errors.Is(err, os.ErrNotExist) {
		return "", err
	}
	now, err := old.Estate()
	if err != nil {
		return "", err
	}
	if _, there := now.OwnImage(name); there {
		return "", wrong("there is an image %s already", name)
	}
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return "", err
	}
	// Files of a system are root's, and programs in it run under other users: nobody else's folder will do.
	place, err := os.MkdirTemp("/var/tmp", "ironbark-image-")
	if err != nil {
		return "", err
	}
	if err := os.Chmod(place, 0o755); err != nil {
		return "", err
	}
	ctx, stop := untilSignal(ctx)
	defer stop()
	image := debimage.Image{Suite: b.suite, Packages: b.packages, Work: place}
	if err := image.Build(ctx, to, func(step string) { a.print.Note("  %s", step) }); err != nil {
		return "", fmt.Errorf("image %s: %w", name, err)
	}
	return to, nil
}
