// Package wire speaks WireGuard, in a process without privileges: keys, the device of a private line, and the configuration
// that a peer of it takes.
package wire

import (
	"crypto/ecdh"
	"crypto/rand"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"
)

// Key is a key of X25519 (RFC 7748), private or public.
type Key [32]byte

// NewKey makes a private key.
func NewKey() (Key, error) {
	k, err := ecdh.X25519().GenerateKey(rand.Reader)
	if err != nil {
		return Key{}, err
	}
	return Key(k.Bytes()), nil
}

// Public is the public half of a private key.
func (k Key) Public() Key {
	private, err := ecdh.X25519().NewPrivateKey(k[:])
	if err != nil {
		panic("wire: any 32 bytes are a private key: " + err.Error())
	}
	return Key(private.PublicKey().Bytes())
}

// String writes a key as WireGuard's programs do, in base64.
func (k Key) String() string { return base64.StdEncoding.EncodeToString(k[:]) }

// ParseKey reads what [Key.String] writes.
func ParseKey(text string) (k Key, err error) {
	data, err := base64.StdEncoding.DecodeString(strings.TrimSpace(text))
	if err != nil || len(data) != len(k) {
		return k, errors.New("a WireGuard key is 44 letters of base64, the last of them =")
	}
	return Key(data), nil
}

// Peer is who may use a line, and from which addresses.
type Peer struct {
	Public Key
	Addrs  []netip.Addr
}

// Device is one end of a line.
type Device struct {
	Private  Key
	Port     int // UDP; 0: any
	Peers    []Peer
	Endpoint netip.AddrPort // of the only peer; invalid: it calls
	Allowed  []netip.Prefix // what is sent to the only peer, in place of its addresses
}

// uapi writes the device as WireGuard's userspace programs are told it (its cross-platform interface).
func (d Device) uapi() string {
	b := &strings.Builder{}
	fmt.Fprintf(b, "private_key=%s\nlisten_port=%d\nreplace_peers=true\n", hex.EncodeToString(d.Private[:]), d.Port)
	for _, p := range d.Peers {
		fmt.Fprintf(b, "public_key=%s\nreplace_allowed_ips=true\n", hex.EncodeToString(p.Public[:]))
		if d.Endpoint.IsValid() {
			fmt.Fprintf(b, "endpoint=%s\npersistent_keepalive_interval=25\n", d.Endpoint)
		}
		allowed := d.Allowed
		if len(allowed) == 0 {
			for _, a := range p.Addrs {
				allowed = append(allowed, netip.PrefixFrom(a, a.BitLen()))
			}
		}
		for _, a := range allowed {
			fmt.Fprintf(b, "allowed_ip=%s\n", a)
		}
	}
	return b.String()
}

// Config is what a peer's own program is told, in the file that WireGuard's programs read (wg(8), wg-quick(8)).
type Config struct {
	About    string // a line above it
	Private  string // the peer's; "": it has its own
	Addrs    []netip.Addr
	DNS      []netip.Addr
	Public   Key    // the line's
	Endpoint string // HOST:PORT
	Allowed  []netip.Prefix
}

// String writes the file.
func (c Config) String() string {
	b := &strings.Builder{}
	fmt.Fprintf(b, "# %s\n[Interface]\n", c.About)
	if c.Private != "" {
		fmt.Fprintf(b, "PrivateKey = %s\n", c.Private)
	} else {
		b.WriteString("# PrivateKey = the one that the peer has\n")
	}
	list := func(name string, words []string) {
		if len(words) > 0 {
			fmt.Fprintf(b, "%s = %s\n", name, strings.Join(words, ", "))
		}
	}
	var addrs, dns, allowed []string
	for _, a := range c.Addrs {
		addrs = append(addrs, netip.PrefixFrom(a, a.BitLen()).String())
	}
	for _, a := range c.DNS {
		dns = append(dns, a.String())
	}
	for _, p := range c.Allowed {
		allowed = append(allowed, p.String())
	}
	slices.Sort(allowed)
	list("Address", addrs)
	list("DNS", dns)
	fmt.Fprintf(b, "\n[Peer]\nPublicKey = %s\nEndpoint = %s\n", c.Public, c.Endpoint)
	list("AllowedIPs", allowed)
	b.WriteString("PersistentKeepalive = 25\n")
	return b.String()
}
