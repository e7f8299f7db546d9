package tinyguest

import (
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/vishvananda/netlink"
	"golang.org/x/sys/unix"
	"mvdan.cc/sh/v3/interp"
)

// df tells how full the file systems on disks are, in MiB.
func df(h interp.HandlerContext, _ []string) error {
	text, err := os.ReadFile("/proc/mounts")
	if err != nil {
		return err
	}
	fmt.Fprintln(h.Stdout, "disk           MiB    free  at")
	seen := map[string]bool{}
	for line := range strings.Lines(string(text)) {
		words := strings.Fields(line)
		var fs unix.Statfs_t
		if len(words) < 2 || !strings.HasPrefix(words[0], "/dev/") || seen[words[0]] || unix.Statfs(words[1], &fs) != nil {
			continue
		}
		seen[words[0]] = true
		mib := func(blocks uint64) uint64 { return blocks * uint64(fs.Bsize) >> 20 }
		fmt.Fprintf(h.Stdout, "%-10s %7d %7d  %s\n", words[0], mib(fs.Blocks), mib(fs.Bavail), words[1])
	}
	return nil
}

// lsblk lists the disks, with their sizes in MiB.
func lsblk(h interp.HandlerContext, _ []string) error {
	list, err := filepath.Glob("/sys/block/vd*")
	slices.Sort(list)
	for _, path := range list {
		text, _ := os.ReadFile(path + "/size")
		sectors, _ := strconv.ParseInt(strings.TrimSpace(string(text)), 10, 64)
		serial, _ := os.ReadFile(path + "/serial")
		fmt.Fprintf(h.Stdout, "%s %d MiB %s\n", filepath.Base(path), sectors>>11, strings.TrimSpace(string(serial)))
	}
	return err
}

// addresses lists the machine's addresses, whatever is asked of ip.
func addresses(h interp.HandlerContext, _ []string) error {
	l, err := netlink.LinkByName("eth0")
	if err != nil {
		return err
	}
	list, err := netlink.AddrList(l, netlink.FAMILY_ALL)
	for _, a := range list {
		fmt.Fprintln(h.Stdout, a.IPNet)
	}
	return err
}

// mount mounts a disk's ext4 file system: mount /dev/vdb /srv/charts.
func mount(h interp.HandlerContext, args []string) error {
	if len(args) == 0 {
		text, err := os.ReadFile("/proc/mounts")
		fmt.Fprint(h.Stdout, string(text))
		return err
	}
	if len(args) != 2 {
		return errors.New("it takes a disk and a folder")
	}
	if err := os.MkdirAll(args[1], 0o755); err != nil {
		return err
	}
	return unix.Mount(args[0], args[1], "ext4", 0, "")
}

func unmount(_ interp.HandlerContext, args []string) error {
	if len(args) != 1 {
		return errors.New("it takes a folder")
	}
	return unix.Unmount(args[0], 0)
}

// fetchTime is how long a page may take.
const fetchTime = 5 * time.Second

// fetch prints what a web server answers: fetch http://10.60.1.5/.
func fetch(h interp.HandlerContext, args []string) error {
	if len(args) != 1 {
		return errors.New("it takes an address: fetch http://10.60.1.5/")
	}
	answer, err := (&http.Client{Timeout: fetchTime}).Get(args[0])
	if err != nil {
		return err
	}
	defer answer.Body.Close()
	if answer.StatusCode != http.StatusOK {
		return errors.New(answer.Status)
	}
	_, err = io.Copy(h.Stdout, answer.Body)
	return err
}
