package gateway

import (
	"crypto/subtle"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

	"ironbark/internal/bastion"
	"ironbark/internal/flow"
)

// access is a bastion.Access that is read: who may log in, and with what.
type access struct {
	from        flow.Addrs
	people      map[string][][]byte // keys as RFC 4253 has them on the wire
	authorities [][]byte
}

// readAccess reads what the other process handed over.
func readAccess(a bastion.Access) (*access, error) {
	from, err := flow.ParseAddrRuns(a.From)
	if err != nil {
		return nil, err
	}
	r := &access{from: from, people: map[string][][]byte{}}
	for _, p := range a.People {
		r.people[p.Name] = [][]byte{}
		for _, line := range p.Keys {
			key, _, _, _, err := ssh.ParseAuthorizedKey([]byte(line))
			if err != nil {
				return nil, fmt.Errorf("a key of %s: %w", p.Name, err)
			}
			r.people[p.Name] = append(r.people[p.Name], key.Marshal())
		}
	}
	for _, line := range a.Authorities {
		key, _, _, _, err := ssh.ParseAuthorizedKey([]byte(line))
		if err != nil {
			return nil, fmt.Errorf("an authority's key: %w", err)
		}
		r.authorities = append(r.authorities, key.Marshal())
	}
	return r, nil
}

// admits reports whether a client's address may reach the gateway at all.
func (a *access) admits(client netip.Addr) bool {
	return a != nil && client.IsValid() && a.from.Contains(flow.PointOf(client.Unmap().WithZone("")))
}

// login is what somebody proved: the person, and by which key.
type login struct {
	person string
	key    []byte    // the person's own, or that of the authority that signed for them
	signed bool      // it is an authority's
	until  time.Time // the end of the certificate; zero: none
	name   string    // how the key is told: a fingerprint, and a certificate's serial number and ID
}

// holds reports whether a login still is what somebody may log in with.
func (a *access) holds(l login, client netip.Addr, now time.Time) bool {
	keys, known := a.people[l.person]
	if !known || !a.admits(client) || !l.until.IsZero() && !now.Before(l.until) {
		return false
	}
	if l.signed {
		keys = a.authorities
	}
	return slices.ContainsFunc(keys, func(k []byte) bool { return subtle.ConstantTimeCompare(k, l.key) == 1 })
}

var errNoLogin = errors.New("nobody with that name and key may log in here")

// The names under which what a key proved is kept until the client has signed with it.
const (
	keptPerson = "ironbark-person"
	keptKey    = "ironbark-key"
	keptSigned = "ironbark-signed"
	keptUntil  = "ironbark-until"
	keptName   = "ironbark-name"
)

// check judges a key that a client offers. A client may offer many and sign with one: what that one
// proves is kept in the permissions.
func (a *access) check(meta ssh.ConnMetadata, key ssh.PublicKey, client netip.Addr, now time.Time) (*ssh.Permissions, error) {
	l := login{person: meta.User(), key: key.Marshal(), name: ssh.FingerprintSHA256(key)}
	perms := &ssh.Permissions{}
	if cert, ok := key.(*ssh.Certificate); ok {
		if err := checkCertificate(meta, cert, a.authorities, now); err != nil {
			return nil, err
		}
		perms.CriticalOptions = cert.CriticalOptions // the library holds the client to source-address
		l.key, l.signed = cert.SignatureKey.Marshal(), true
		l.name = fmt.Sprintf("certificate %d of %s, signed by %s", cert.Serial, ssh.FingerprintSHA256(cert.Key), ssh.FingerprintSHA256(cert.SignatureKey))
		if cert.ValidBefore < uint64(1)<<62 {
			l.until = time.Unix(int64(cert.ValidBefore), 0)
		}
	}
	if !a.holds(l, client, now) {
		return nil, errNoLogin
	}
	perms.Extensions = map[string]string{keptPerson: l.person, keptKey: string(l.key), keptSigned: strconv.FormatBool(l.signed), keptName: l.name}
	if !l.until.IsZero() {
		perms.Extensions[keptUntil] = strconv.FormatInt(l.until.Unix(), 10)
	}
	return perms, nil
}

// plainSources refuses a certificate with an IPv4-mapped address among those from which it may be used (RFC 4291 section 2.5.5.2): the library
// takes ::ffff:0.0.0.0/96 for all of IPv4, where a person reads an IPv6 prefix.
func plainSources(cert *ssh.Certificate) error {
	sources, limited := cert.CriticalOptions["source-address"]
	if !limited {
		return nil
	}
	for one := range strings.SplitSeq(sources, ",") {
		text, _, _ := strings.Cut(strings.TrimSpace(one), "/")
		if a, err := netip.ParseAddr(text); err != nil || a.Is4In6() || a.Zone() != "" {
			return fmt.Errorf("the certificate's source-address %q is not an address or a prefix", one)
		}
	}
	return nil
}

// checkCertificate judges a user certificate (OpenSSH's PROTOCOL.certkeys). Unlike sshd(8) it takes none
// that names no principal: that would be valid for everybody.
func checkCertificate(meta ssh.ConnMetadata, cert *ssh.Certificate, authorities [][]byte, now time.Time) error {
	if len(cert.ValidPrincipals) == 0 {
		return errors.New("the certificate names no principal")
	}
	if _, may := cert.Extensions["permit-port-forwarding"]; !may {
		return errors.New("the certificate does not permit forwarding")
	}
	if err := plainSources(cert); err != nil {
		return err
	}
	checker := &ssh.CertChecker{
		IsUserAuthority: func(by ssh.PublicKey) bool {
			return slices.ContainsFunc(authorities, func(k []byte) bool { return subtle.ConstantTimeCompare(k, by.Marshal()) == 1 })
		},
		Clock: func() time.Time { return now },
	}
	_, err := checker.Authenticate(meta, cert)
	return err
}

// loginOf reads what a key proved.
func loginOf(p *ssh.Permissions) (l login) {
	if p == nil {
		return l
	}
	l = login{person: p.Extensions[keptPerson], key: []byte(p.Extensions[keptKey]), signed: p.Extensions[keptSigned] == "true", name: p.Extensions[keptName]}
	if s, err := strconv.ParseInt(p.Extensions[keptUntil], 10, 64); err == nil {
		l.until = time.Unix(s, 0)
	}
	return l
}
