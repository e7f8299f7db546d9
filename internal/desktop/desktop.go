// Package desktop answers as a remote desktop begins to, for machines that have none.
package desktop

import (
	"io"
	"net"
)

// Greet answers the first words of a remote desktop's client, and then waits for it to leave: a
// connection request in a TPKT (RFC 1006, ITU-T X.224), answered with a confirmation that asks for TLS
// (MS-RDPBCGR, sections 2.2.1.1 and 2.2.1.2).
func Greet(c net.Conn) {
	head := make([]byte, 4)
	if _, err := io.ReadFull(c, head); err != nil || head[0] != 3 {
		return
	}
	rest := int64(head[2])<<8 | int64(head[3])
	if rest < 11 || rest > 4096 {
		return
	}
	request := make([]byte, rest-4)
	if _, err := io.ReadFull(c, request); err != nil || request[1]&0xf0 != 0xe0 {
		return
	}
	confirm := []byte{3, 0, 0, 19, 14, 0xd0, request[4], request[5], 0x12, 0x34, 0, 2, 0, 8, 0, 1, 0, 0, 0}
	if _, err := c.Write(confirm); err != nil {
		return
	}
	_, _ = io.Copy(io.Discard, c)
}
