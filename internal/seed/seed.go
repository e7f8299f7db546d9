// Package seed writes and reads what a machine is told when it boots: a disk as
// cloud-init's NoCloud source takes it, so that any system image with cloud-init
// understands it (cloud-init's manual, “NoCloud”).
//
//	Seed ──Disk──▶ ISO 9660 volume “cidata” ─┬─ meta-data        which instance it is
//	                                         ├─ user-data        #cloud-config, as JSON, which is YAML
//	                                         └─ network-config   version 2
//
// The tiny guest reads the same disk with [Read]. What cloud-init has no words for stands in
// user-data under a key of its own, which cloud-init passes over. Scripts of the setup run under
// a small runner, which reports what they came to on a port of the machine: see [Report].
//
// The package is pure.
package seed

import (
	"bytes"
	"crypto/ed25519"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"net/netip"
	"strings"
	"time"

	"github.com/kdomanski/iso9660"
	"golang.org/x/crypto/ssh"
)

// Volume is the name by which cloud-init finds the disk.
const Volume = "cidata"

// Size is how long a disk is, in bytes: always the same, so that a blank one can be
// exchanged for it in a machine that waits.
const Size = 1 << 20

// Seed is what a machine is told.
type Seed struct {
	// Instance is another one for each machine, and for each time that its setup is to run.
	Instance string
	Host     string // its name
	User     string // who logs in
	Keys     []string
	// Hash is the salted hash of the user's password; "" for none.
	Hash string
	// Passwords says whether SSH takes the password, too.
	Passwords bool
	HostKey   ed25519.PrivateKey // of its SSH server
	MAC       string             // of its network card
	Addresses []netip.Prefix
	Gateways  []netip.Addr
	DNS       []netip.Addr
	Setup     []Part
	Listens   []string // services at which a tiny guest answers besides, as flow.ServiceRuns writes them
	Entropy   []byte   // from the host's random source
	// Now is the host's time. A system that was asleep for a while sets its clock by it, and never back.
	Now time.Time
}

// Part is a script of a machine's setup.
type Part struct {
	Name   string `json:"name"`
	Script string `json:"script"`
}

type metaData struct {
	Instance string `json:"instance-id"`
	Host     string `json:"local-hostname"`
}

type userData struct {
	Host       string            `json:"hostname"`
	Locale     bool              `json:"locale"` // false: it is left as it is, for making one takes half a minute
	Users      []user            `json:"users"`
	Passwords  bool              `json:"ssh_pwauth"`
	NoRoot     bool              `json:"disable_root"`
	DropKeys   bool              `json:"ssh_deletekeys"`
	HostKeys   map[string]string `json:"ssh_keys"`
	WriteFiles []file            `json:"write_files"`
	Run        [][]string        `json:"runcmd"`
	Updates    map[string]when   `json:"updates"`
	Own        own               `json:"ironbark"`
}

type user struct {
	Name  string   `json:"name"`
	Keys  []string `json:"ssh_authorized_keys"`
	Hash  string   `json:"hashed_passwd,omitempty"`
	Lock  bool     `json:"lock_passwd"`
	Sudo  string   `json:"sudo"`
	Shell string   `json:"shell"`
}

// when lists the boots at which cloud-init takes something anew: addresses at each, since a machine may be moved.
type when struct {
	When []string `json:"when"`
}

type file struct {
	Path    string `json:"path"`
	Content string `json:"content"`
	Mode    string `json:"permissions"`
}

// own is what the tiny guest reads.
type own struct {
	Setup   []Part    `json:"setup,omitempty"`
	Listens []string  `json:"listens,omitempty"`
	Entropy []byte    `json:"entropy,omitempty"`
	Now     time.Time `json:"now,omitzero"`
}

type networkConfig struct {
	Version   int                 `json:"version"`
	Ethernets map[string]ethernet `json:"ethernets"`
}

type ethernet struct {
	Match     map[string]string `json:"match"`
	Name      string            `json:"set-name"`
	DHCP      bool              `json:"dhcp4"`
	Addresses []netip.Prefix    `json:"addresses"`
	Routes    []route           `json:"routes"`
	DNS       *nameservers      `json:"nameservers,omitempty"`
}

type route struct {
	To  string     `json:"to"`
	Via netip.Addr `json:"via"`
}

type nameservers struct {
	Addresses []netip.Addr `json:"addresses"`
}

// head is the first line by which cloud-init knows what user-data is.
const head = "#cloud-config\n"

// Disk writes the disk, [Size] bytes. The error tells what does not fit, or a key that
// cannot be written.
func (s Seed) Disk() ([]byte, error) {
	files, err := s.files()
	if err != nil {
		return nil, err
	}
	w, err := iso9660.NewWriter()
	if err != nil {
		return nil, err
	}
	defer func() { _ = w.Cleanup() }()
	for _, name := range fileNames {
		if err := w.AddFile(bytes.NewReader(files[name]), name); err != nil {
			return nil, err
		}
	}
	var b bytes.Buffer
	if err := w.WriteTo(&b, Volume); err != nil {
		return nil, err
	}
	if b.Len() > Size {
		return nil, fmt.Errorf("what machine %s is told takes %d bytes, and %d are the most: a shorter setup", s.Host, b.Len(), Size)
	}
	return append(b.Bytes(), make([]byte, Size-b.Len())...), nil
}

var fileNames = []string{"meta-data", "network-config", "user-data"}

func (s Seed) files() (map[string][]byte, error) {
	meta, err1 := json.Marshal(metaData{s.Instance, s.Host})
	network, err2 := json.Marshal(s.network())
	u, err3 := s.userData()
	data, err4 := json.Marshal(u)
	return map[string][]byte{"meta-data": meta, "network-config": network, "user-data": append([]byte(head), data...)}, errors.Join(err1, err2, err3, err4)
}

func (s Seed) network() networkConfig {
	e := ethernet{Match: map[string]string{"macaddress": s.MAC}, Name: "eth0", Addresses: s.Addresses}
	for _, via := range s.Gateways {
		to := "0.0.0.0/0"
		if via.Is6() {
			to = "::/0"
		}
		e.Routes = append(e.Routes, route{to, via})
	}
	if len(s.DNS) > 0 {
		e.DNS = &nameservers{s.DNS}
	}
	return networkConfig{2, map[string]ethernet{"eth0": e}}
}

func (s Seed) userData() (u userData, err error) {
	u = userData{
		Host: s.Host, NoRoot: true, DropKeys: true, Passwords: s.Passwords,
		Users: []user{{s.User, s.Keys, s.Hash, s.Hash == "", "ALL=(ALL) NOPASSWD:ALL", "/bin/bash"}},
		Own:   own{s.Setup, s.Listens, s.Entropy, s.Now},
		WriteFiles: []file{
			{runnerPath, runner, "0755"},
			{"/var/lib/cloud/scripts/per-boot/ironbark", "#!/bin/sh\nexec " + runnerPath + " boot\n", "0755"},
		},
		Run:     [][]string{{runnerPath, "setup"}},
		Updates: map[string]when{"network": {[]string{"boot-new-instance", "boot"}}},
	}
	for i, part := range s.Setup {
		u.WriteFiles = append(u.WriteFiles, file{fmt.Sprintf("%s/%03d-%s", partsPath, i, part.Name), part.Script, "0755"})
	}
	if s.HostKey != nil {
		block, err := ssh.MarshalPrivateKey(s.HostKey, s.Host)
		if err != nil {
			return u, err
		}
		public, err := ssh.NewPublicKey(s.HostKey.Public())
		if err != nil {
			return u, err
		}
		u.HostKeys = map[string]string{"ed25519_private": string(pem.EncodeToMemory(block)), "ed25519_public": strings.TrimSpace(string(ssh.MarshalAuthorizedKey(public)))}
	}
	return u, nil
}

// ErrBlank says that a disk holds nothing yet.
var ErrBlank = errors.New("the seed disk is blank")

// Read reads a disk back. The error is [ErrBlank] where nothing was written to it.
func Read(r io.ReaderAt) (s Seed, err error) {
	defer func() { // the library takes volumes for whole that are not
		if p := recover(); p != nil {
			err = fmt.Errorf("the seed disk is damaged: %v", p)
		}
	}()
	block := make([]byte, 8)
	if _, err := r.ReadAt(block, 16*2048); err != nil {
		return s, err
	}
	if string(block[1:6]) != "CD001" { // ECMA-119, 8.1.2
		return s, ErrBlank
	}
	image, err := iso9660.OpenImage(r)
	if err != nil {
		return s, err
	}
	root, err := image.RootDir()
	if err != nil {
		return s, err
	}
	list, err := root.GetChildren()
	if err != nil {
		return s, err
	}
	files := map[string][]byte{}
	for _, f := range list {
		if f.Size() > Size {
			return s, errors.New("a file of the seed disk is larger than the disk")
		}
		if files[f.Name()], err = io.ReadAll(f.Reader()); err != nil {
			return s, err
		}
	}
	return parse(files)
}

func parse(files map[string][]byte) (s Seed, err error) {
	var meta metaData
	var network networkConfig
	var u userData
	data, ok := bytes.CutPrefix(files["user-data"], []byte(head))
	if !ok {
		return s, errors.New("user-data does not begin with " + strings.TrimSpace(head))
	}
	if err := errors.Join(json.Unmarshal(files["meta-data"], &meta), json.Unmarshal(files["network-config"], &network), json.Unmarshal(data, &u)); err != nil {
		return s, err
	}
	if len(u.Users) != 1 {
		return s, fmt.Errorf("user-data has %d users, and not one", len(u.Users))
	}
	e := network.Ethernets["eth0"]
	s = Seed{
		Instance: meta.Instance, Host: meta.Host, User: u.Users[0].Name, Keys: u.Users[0].Keys, Hash: u.Users[0].Hash, Passwords: u.Passwords,
		MAC: e.Match["macaddress"], Addresses: e.Addresses, Setup: u.Own.Setup, Listens: u.Own.Listens, Entropy: u.Own.Entropy, Now: u.Own.Now,
	}
	for _, r := range e.Routes {
		s.Gateways = append(s.Gateways, r.Via)
	}
	if e.DNS != nil {
		s.DNS = e.DNS.Addresses
	}
	if text := u.HostKeys["ed25519_private"]; text != "" {
		key, err := ssh.ParseRawPrivateKey([]byte(text))
		if err != nil {
			return s, fmt.Errorf("the host's key: %w", err)
		}
		one, ok := key.(*ed25519.PrivateKey)
		if !ok {
			return s, errors.New("the host's key is no Ed25519 key")
		}
		s.HostKey = *one
	}
	return s, nil
}
