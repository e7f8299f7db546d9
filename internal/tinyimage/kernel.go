package tinyimage

import (
	"bytes"
	"debug/elf"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/pierrec/lz4/v4"
)

// unpackKernel cuts the kernel itself out of the file that boot loaders take (a bzImage: the Linux/x86
// boot protocol), so that the machine need not unpack it, which takes long without KVM.
// One that is packed otherwise than by LZ4 is returned as it is.
func unpackKernel(file []byte) ([]byte, error) {
	const (
		setupSectors = 0x1f1
		signature    = 0x202
		payloadAt    = 0x248
		payloadSize  = 0x24c
		lz4Legacy    = 0x184c2102
	)
	if len(file) < 0x260 || string(file[signature:signature+4]) != "HdrS" {
		return nil, errors.New("it is no Linux kernel")
	}
	u32 := func(at int) int { return int(binary.LittleEndian.Uint32(file[at:])) }
	from := (int(file[setupSectors])+1)*512 + u32(payloadAt)
	to := from + u32(payloadSize) - 4 // its unpacked length follows
	if from < 0 || to < from+4 || to > len(file) {
		return nil, errors.New("the kernel is shorter than its header tells")
	}
	if u32(from) != lz4Legacy {
		return file, nil
	}
	var out bytes.Buffer
	if _, err := io.Copy(&out, io.LimitReader(lz4.NewReader(bytes.NewReader(file[from:to])), 512<<20)); err != nil {
		return nil, fmt.Errorf("unpacking the kernel: %w", err)
	}
	return out.Bytes(), nil
}

// wanted are the modules that a tiny guest loads, where its kernel has them as modules.
var wanted = []string{"virtio_pci", "virtio_console", "virtio_blk", "virtio_net", "virtio_scsi", "sd_mod", "virtio-rng", "button", "evdev", "ext4"}

// module is one of the kernel's modules.
type module struct {
	name string // as other modules name it
	path string
}

// modules finds the wanted modules under a folder, each after those that it needs.
func modules(dir string) (list []module, err error) {
	paths := map[string]string{}
	err = filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
		if name, ok := strings.CutSuffix(filepath.Base(path), ".ko"); err == nil && ok {
			paths[strings.ReplaceAll(name, "-", "_")] = path
		}
		return err
	})
	var add func(name string) error
	add = func(name string) error {
		name = strings.ReplaceAll(name, "-", "_")
		path, ok := paths[name]
		if !ok || slices.ContainsFunc(list, func(m module) bool { return m.name == name }) { // in the kernel itself, or there already
			return nil
		}
		needs, err := dependencies(path)
		for _, need := range needs {
			err = errors.Join(err, add(need))
		}
		list = append(list, module{name, path})
		return err
	}
	// Loading one of these needs the others to be there, which their files do not tell.
	for _, name := range append([]string{"virtio_ring", "virtio"}, wanted...) {
		err = errors.Join(err, add(name))
	}
	if err == nil && len(list) == 0 {
		err = fmt.Errorf("there are no kernel modules in %s", dir)
	}
	return list, err
}

// dependencies reads which others a module needs (its section .modinfo).
func dependencies(path string) ([]string, error) {
	f, err := elf.Open(path)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	defer f.Close()
	section := f.Section(".modinfo")
	if section == nil {
		return nil, fmt.Errorf("%s is no kernel module", path)
	}
	data, err := section.Data()
	if err != nil {
		return nil, err
	}
	for text := range strings.SplitSeq(string(data), "\x00") {
		if names, ok := strings.CutPrefix(text, "depends="); ok && names != "" {
			return strings.Split(names, ","), nil
		}
	}
	return nil, nil
}

// find finds the one file under a folder that a pattern matches.
func find(dir, pattern string) (string, error) {
	list, err := filepath.Glob(filepath.Join(dir, pattern))
	if err == nil && len(list) == 0 {
		err = fmt.Errorf("%s has no %s: it is no kernel package", dir, pattern)
	}
	if err != nil {
		return "", err
	}
	return list[len(list)-1], nil
}

func read(dir, pattern string) ([]byte, error) {
	path, err := find(dir, pattern)
	if err != nil {
		return nil, err
	}
	return os.ReadFile(path)
}
