package cli

import (
	"os"
	"path/filepath"

	"ironbark/internal/cli/view"
	"ironbark/internal/exposure"
	"ironbark/internal/findings"
	"ironbark/internal/work"
)

// writeSARIF writes findings to a file for services that show them beside the lines of a change.
func writeSARIF(name string, w *work.Work, list []findings.Finding, broken []exposure.Broken) error {
	data, err := view.SARIF(list, broken, belowSources(w.Folder.Dir), Version)
	if err != nil {
		return err
	}
	return work.WriteFile(name, data, 0o644)
}

// belowSources tells where a folder lies below the root of the sources that it is part of, which is the nearest one with version control in it; "" where there is none,
// or it is the root itself.
func belowSources(dir string) string {
	start, err := filepath.Abs(dir)
	if err != nil {
		return ""
	}
	for at := start; ; at = filepath.Dir(at) {
		if _, err := os.Lstat(filepath.Join(at, ".git")); err == nil {
			if below, err := filepath.Rel(at, start); err == nil && below != "." {
				return filepath.ToSlash(below) + "/"
			}
			return ""
		}
		if at == filepath.Dir(at) {
			return ""
		}
	}
}
