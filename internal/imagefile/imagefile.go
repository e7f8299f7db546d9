// Package imagefile reads the headers of system image files: raw ones, and qcow2
// ones of versions 2 and 3 (QEMU's docs/interop/qcow2.rst).
package imagefile

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"os"
)

// Image is what the header of a file tells.
type Image struct {
	Format string // raw or qcow2
	Disk   int64  // the size of the disk that it holds, in bytes
	Size   int64  // of the file, in bytes
}

// GB is the size of the disk in GB, rounded up; at least 1.
func (i Image) GB() int { return int(max((i.Disk+1e9-1)/1e9, 1)) }

var magic = [4]byte{'Q', 'F', 'I', 0xfb}

// header is the head of a qcow2 file, most significant bytes first.
type header struct {
	Magic         [4]byte
	Version       uint32
	BackingOffset uint64
	BackingSize   uint32
	ClusterBits   uint32
	Size          uint64
	Crypt         uint32
	L1Size        uint32
	L1Offset      uint64
	RefOffset     uint64
	RefClusters   uint32
	Snapshots     uint32
	SnapOffset    uint64
	// From version 3 on.
	Incompatible uint64
	Compatible   uint64
	AutoClear    uint64
	RefOrder     uint32
	HeaderLength uint32
}

// sector is what the size of a raw disk is a multiple of, in bytes.
const sector = 512

// Inspect reads the header of an open ordinary file and checks that it can be uploaded:
// that it is whole as far as the header tells, and stands by itself.
func Inspect(f *os.File) (Image, error) {
	info, err := f.Stat()
	if err != nil {
		return Image{}, err
	}
	return Read(f, info.Size())
}

// Read is Inspect for what has the size of a file.
func Read(r io.ReaderAt, size int64) (Image, error) {
	if size == 0 {
		return Image{}, errors.New("the file is empty")
	}
	var h header
	head := make([]byte, binary.Size(h))
	n, err := r.ReadAt(head, 0)
	if err != nil && !errors.Is(err, io.EOF) {
		return Image{}, err
	}
	if n < 4 || [4]byte(head[:4]) != magic {
		if size%sector != 0 {
			return Image{}, fmt.Errorf("it is neither qcow2 nor a raw disk: its %d bytes are no whole sectors of %d bytes", size, sector)
		}
		return Image{Format: "raw", Disk: size, Size: size}, nil
	}
	if _, err := binary.Decode(head, binary.BigEndian, &h); err != nil {
		return Image{}, err
	}
	if err := h.check(n, size); err != nil {
		return Image{}, fmt.Errorf("the qcow2 header: %w", err)
	}
	return Image{Format: "qcow2", Disk: int64(h.Size), Size: size}, nil
}

// DiskOf reads how large, in bytes, the disk is that a qcow2 file holds, whatever else its header tells: one that is
// in use, or lies on another file, is no image, and a disk all the same.
func DiskOf(r io.ReaderAt) (int64, error) {
	var h header
	head := make([]byte, binary.Size(h))
	if _, err := r.ReadAt(head, 0); err != nil && !errors.Is(err, io.EOF) {
		return 0, err
	}
	if [4]byte(head[:4]) != magic {
		return 0, errors.New("it is no qcow2 file")
	}
	_, err := binary.Decode(head, binary.BigEndian, &h)
	return int64(h.Size), err
}

// known are the incompatible features that mean the file was not closed properly
// (dirty, corrupt); others are refused altogether.
const (
	dirty   = 1 << 0
	corrupt = 1 << 1
)

// leastV2 is the length of the header of version 2, in bytes.
const leastV2 = 72

func (h header) check(n int, size int64) error {
	switch {
	case n < leastV2 || h.Version >= 3 && n < binary.Size(h):
		return errors.New("the file ends in the middle of it")
	case h.Version != 2 && h.Version != 3:
		return fmt.Errorf("version %d is not known, only 2 and 3", h.Version)
	case h.ClusterBits < 9 || h.ClusterBits > 21:
		return fmt.Errorf("clusters of 2^%d bytes are not possible", h.ClusterBits)
	case h.Size == 0 || h.Size%sector != 0 || h.Size > 65536e9:
		return fmt.Errorf("a disk of %d bytes is not possible", h.Size)
	case h.BackingOffset != 0:
		return errors.New("it rests on another file, and only one that stands by itself can be uploaded; write it out whole first")
	case h.Crypt != 0:
		return errors.New("it is encrypted")
	case h.Version == 3 && h.Incompatible&corrupt != 0:
		return errors.New("it is marked as corrupt")
	case h.Version == 3 && h.Incompatible&dirty != 0:
		return errors.New("it was not closed properly; check and repair it first")
	case h.Version == 3 && h.Incompatible&^(dirty|corrupt) != 0:
		return fmt.Errorf("it needs features that are not known (%#x)", h.Incompatible)
	}
	cluster := uint64(1) << h.ClusterBits
	// One entry of the first table covers cluster/8 clusters.
	if need := (h.Size + cluster*cluster/8 - 1) / (cluster * cluster / 8); uint64(h.L1Size) < need {
		return fmt.Errorf("its first table has %d entries, and a disk of %d bytes needs %d", h.L1Size, h.Size, need)
	}
	for what, part := range map[string]struct{ begin, length uint64 }{
		"its first table": {h.L1Offset, 8 * uint64(h.L1Size)}, "its table of references": {h.RefOffset, cluster * uint64(h.RefClusters)},
	} {
		if whole := uint64(size); part.begin == 0 || part.length == 0 || part.begin > whole || part.length > whole-part.begin {
			return fmt.Errorf("%s lies beyond the end of the file: the file was cut off", what)
		}
	}
	return nil
}
