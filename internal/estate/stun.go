package estate

import (
	"fmt"
	"net/netip"
	"strconv"
	"strings"

	"go.yaml.in/yaml/v4"
)

// stunPort is where STUN servers listen (RFC 8489, section 8.1).
const stunPort = 3478

// hostName is a name of the domain name system (RFC 1123, section 2.1).
var hostName = pattern(`^([A-Za-z0-9]([A-Za-z0-9-]{0,61}[A-Za-z0-9])?\.)*[A-Za-z0-9]([A-Za-z0-9-]{0,61}[A-Za-z0-9])?$`)

// ParseSTUN reads a STUN server: HOST or HOST:PORT, where a host is a name or an address, an
// IPv6 address with a port in brackets. It is returned as HOST:PORT.
func ParseSTUN(text string) (string, error) {
	if a, err := netip.ParseAddr(text); err == nil {
		return netip.AddrPortFrom(a, stunPort).String(), nil
	}
	if at, err := netip.ParseAddrPort(text); err == nil && at.Port() > 0 {
		return at.String(), nil
	}
	host, port, given := strings.Cut(text, ":")
	n, err := strconv.ParseUint(port, 10, 16)
	if !given {
		n, err = stunPort, nil
	}
	if err != nil || n == 0 || len(host) > 253 || !hostName().MatchString(host) {
		return "", fmt.Errorf("%q is no server: write HOST or HOST:PORT, such as stun.saltmarsh.example:3478", text)
	}
	return fmt.Sprintf("%s:%d", host, n), nil
}

func (r *reader) stun(n *yaml.Node) {
	text, ok := r.text(n, "the STUN server")
	if !ok {
		return
	}
	server, err := ParseSTUN(text)
	if err != nil {
		r.failAt(n, err.Error(), "")
		return
	}
	r.estate.STUN = server
}
