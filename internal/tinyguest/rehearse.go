package tinyguest

import (
	"bytes"
	"crypto/ed25519"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"net"
	"net/netip"
	"os"
	"strings"
	"time"

	"github.com/vishvananda/netlink"
	"golang.org/x/crypto/ssh"
	"golang.org/x/sys/unix"

	"ironbark/internal/seed"
)

// rehearse goes once through what a machine does when it wakes up: what that takes from the disk, and the memory that it
// takes for the first time, is in the saved state then. Its keys are thrown away.
func rehearse() {
	populate()
	rehearseKernel()
	_, key, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return
	}
	disk, err := seed.Seed{
		Instance: "rehearsal", Host: "rehearsal", User: "keeper", HostKey: key, Keys: []string{"ssh-ed25519 AAAA"},
		Addresses: []netip.Prefix{netip.MustParsePrefix("127.0.0.2/8")}, Setup: []seed.Part{{Name: "x", Script: "true"}},
	}.Disk()
	if err != nil {
		return
	}
	s, err := seed.Read(bytes.NewReader(disk))
	if err != nil {
		return
	}
	m := &machine{seed: s}
	m.report(seed.Report{Up: true})
	runScript("rehearsal", "true", nil, io.Discard, "/")
	signer, err := ssh.NewSignerFromKey(s.HostKey)
	if err != nil {
		return
	}
	l, err := net.Listen("unix", "/run/rehearsal") // both sides of SSH speak first, so a pipe would not do
	if err != nil {
		return
	}
	defer l.Close()
	go func() {
		far, err := l.Accept()
		if err != nil {
			return
		}
		defer far.Close()
		config := &ssh.ServerConfig{PublicKeyCallback: func(ssh.ConnMetadata, ssh.PublicKey) (*ssh.Permissions, error) { return nil, errors.New("nobody") }}
		config.AddHostKey(signer)
		_, _, _, _ = ssh.NewServerConn(far, config)
	}()
	near, err := net.Dial("unix", "/run/rehearsal")
	if err != nil {
		return
	}
	defer near.Close()
	_ = near.SetDeadline(time.Now().Add(10 * time.Second))
	_, _, _, _ = ssh.NewClientConn(near, "", &ssh.ClientConfig{User: "keeper", HostKeyCallback: ssh.InsecureIgnoreHostKey(), Auth: []ssh.AuthMethod{ssh.PublicKeys(signer)}})
}

// rehearseKernel lets the kernel go through what it does for a machine that wakes up. What it has read of the
// system disk it forgets when nobody has that open any more.
func rehearseKernel() {
	const at = "/run/rehearsed"
	if os.MkdirAll(at, 0o755) == nil && unix.Mount(systemDisk, at, "ext4", unix.MS_RDONLY, "") == nil {
		_ = unix.Unmount(at, 0)
	}
	l, err := netlink.LinkByName("lo")
	if err != nil {
		return
	}
	for _, a := range []string{"127.0.0.1/8", "::1/128"} {
		if one, err := netlink.ParseAddr(a); err == nil {
			_ = netlink.AddrReplace(l, one)
		}
	}
	_ = netlink.LinkSetUp(l)
}

// populate gets all of the program's text into memory (madvise(2), MADV_POPULATE_READ).
func populate() {
	text, err := os.ReadFile("/proc/self/maps")
	if err != nil {
		return
	}
	for line := range strings.Lines(string(text)) {
		var from, to uintptr
		var rights string
		if n, _ := fmt.Sscanf(line, "%x-%x %s", &from, &to, &rights); n == 3 && strings.Contains(line, "/init") && rights[0] == 'r' {
			_, _, _ = unix.Syscall(unix.SYS_MADVISE, from, to-from, unix.MADV_POPULATE_READ)
		}
	}
}
