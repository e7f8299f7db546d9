package work

import (
	"errors"
	"fmt"
	"io"
	"io/fs"

	"ironbark/internal/change"
	"ironbark/internal/cost"
	"ironbark/internal/estate"
	"ironbark/internal/fault"
	"ironbark/internal/imagefile"
	"ironbark/internal/plainfile"
	"ironbark/internal/sentence"
)

// uploads reads the headers of the images that are not on the site yet, and adds
// their sizes to those that are known. The error is sentence.Errors.
func (w *Work) uploads(e *estate.Estate, has []change.Resource, own cost.Sizes) (map[string]imagefile.Image, error) {
	there := map[string]bool{}
	for _, t := range has {
		there[t.ID()] = true
	}
	list := map[string]imagefile.Image{}
	var errs sentence.Errors
	for _, i := range e.Images {
		if there[string(change.Image)+" "+i.Name] {
			continue
		}
		image, err := inspect(w.Folder.Dir, i.File)
		if err != nil {
			errs = append(errs, &sentence.Error{At: i.At, Problem: fmt.Sprintf("image %s: %s: %v", i.Name, i.File, err), Remedy: fault.Say("it takes a raw or a qcow2 file")})
			continue
		}
		list[i.Name], own[i.Name] = image, image.GB()
	}
	if len(errs) > 0 {
		return nil, errs
	}
	return list, nil
}

func inspect(dir, name string) (imagefile.Image, error) {
	f, err := plainfile.OpenIn(dir, name)
	if err != nil {
		if e, ok := errors.AsType[*fs.PathError](err); ok {
			err = e.Err
		}
		return imagefile.Image{}, err
	}
	defer f.Close()
	return imagefile.Inspect(f)
}

// upload opens an image's file to be uploaded. Who wants to know is told how far that is.
func (w *Work) upload(t change.Resource) (io.ReadCloser, error) {
	f, err := plainfile.OpenIn(w.Folder.Dir, t.Spec.File)
	if err != nil || w.Uploading == nil {
		return f, err
	}
	info, err := f.Stat()
	if err != nil {
		return nil, errors.Join(err, f.Close())
	}
	part, done := w.Uploading(t.Name, info.Size())
	return &followed{io.TeeReader(f, part), func() error {
		done()
		return f.Close()
	}}, nil
}

// followed is a file that tells of what is read of it.
type followed struct {
	io.Reader
	close func() error
}

func (t *followed) Close() error { return t.close() }
