package notify

import (
	"bufio"
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"fmt"
	"io"
	"math/big"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ironbark/internal/syslog"
)

func note(text string) Note {
	return Note{Message: syslog.Message{Facility: syslog.Audit, Severity: syslog.Notice, At: time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC), App: "ironbark", Text: text}, Document: []byte(`{"text":"` + text + `"}`)}
}

func within(t *testing.T) context.Context {
	ctx, cancel := context.WithTimeout(t.Context(), 5*time.Second)
	t.Cleanup(cancel)
	return ctx
}

// framed reads messages as a server does that knows octet counting.
func framed(r *bufio.Reader) (string, error) {
	length, err := r.ReadString(' ')
	if err != nil {
		return "", err
	}
	n := 0
	if _, err := fmt.Sscan(length, &n); err != nil {
		return "", err
	}
	text := make([]byte, n)
	_, err = io.ReadFull(r, text)
	return string(text), err
}

// serve takes connections, and hands over the messages that arrive.
func serve(t *testing.T, l net.Listener, read func(*bufio.Reader) (string, error)) <-chan string {
	got := make(chan string, 10)
	t.Cleanup(func() { _ = l.Close() })
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				r := bufio.NewReader(c)
				for text, err := read(r); err == nil; text, err = read(r) {
					got <- text
				}
				_ = c.Close()
			}()
		}
	}()
	return got
}

func TestEachTransportDelivers(t *testing.T) {
	dir := t.TempDir()
	authority, certificate := certificates(t)
	untilZero := func(r *bufio.Reader) (string, error) {
		text, err := r.ReadString(0)
		return strings.TrimSuffix(text, "\x00"), err
	}
	listen := func(network, address string) net.Listener {
		l, err := net.Listen(network, address)
		require.NoError(t, err)
		return l
	}
	tcp, secure, socket := listen("tcp", "127.0.0.1:0"), listen("tcp", "127.0.0.1:0"), listen("unix", filepath.Join(dir, "stream"))
	inDatagrams := func(network, address string) (string, <-chan string) {
		c, err := net.ListenPacket(network, address)
		require.NoError(t, err)
		t.Cleanup(func() { _ = c.Close() })
		got := make(chan string, 10)
		go func() {
			b := make([]byte, 1<<16)
			for n, _, err := c.ReadFrom(b); err == nil; n, _, err = c.ReadFrom(b) {
				got <- string(b[:n])
			}
		}()
		return c.LocalAddr().String(), got
	}
	udp, fromUDP := inDatagrams("udp", "127.0.0.1:0")
	gram, fromGram := inDatagrams("unixgram", filepath.Join(dir, "gram"))
	for _, c := range []struct {
		transport, address string
		got                <-chan string
	}{
		{"udp", udp, fromUDP},
		{"socket", gram, fromGram},
		{"socket", filepath.Join(dir, "stream"), serve(t, socket, untilZero)},
		{"tcp", tcp.Addr().String(), serve(t, tcp, framed)},
		{"tls", secure.Addr().String(), serve(t, tls.NewListener(secure, &tls.Config{Certificates: []tls.Certificate{certificate}}), framed)},
	} {
		s, err := Dial(within(t), c.transport, c.address, authority)
		require.NoError(t, err, c.transport)
		for _, text := range []string{"one", "two"} {
			require.NoError(t, s.Send(within(t), note(text)), c.transport)
			select {
			case got := <-c.got:
				assert.Equal(t, "<109>1 2026-11-23T09:00:00.000000Z - ironbark - - - \ufeff"+text, got, c.transport)
			case <-time.After(5 * time.Second):
				require.Fail(t, "nothing arrived", c.transport)
			}
		}
		require.NoError(t, s.Close())
	}
	_, err := Dial(within(t), "tls", secure.Addr().String(), nil)
	require.ErrorContains(t, err, "certificate", "an authority that the system does not trust vouches for nobody")
	_, err = Dial(within(t), "tls", secure.Addr().String(), []byte("none"))
	require.ErrorContains(t, err, "no certificate")
	_, err = Dial(within(t), "tcp", "127.0.0.1:1", nil)
	require.ErrorContains(t, err, "refused")
}

// TestWhatWasNotTakenIsToldAsSuch closes a connection after the first message: the second one is not told as delivered.
func TestWhatWasNotTakenIsToldAsSuch(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	closed := make(chan struct{})
	go func() {
		c, err := l.Accept()
		if err == nil {
			_, _ = framed(bufio.NewReader(c))
			_ = c.Close()
		}
		close(closed)
	}()
	s, err := Dial(within(t), "tcp", l.Addr().String(), nil)
	require.NoError(t, err)
	defer s.Close()
	require.NoError(t, s.Send(within(t), note("one")))
	<-closed
	require.Error(t, s.Send(within(t), note("two")))
}

func TestACommandGetsTheDocument(t *testing.T) {
	path := filepath.Join(t.TempDir(), "got")
	require.NoError(t, Command([]string{"/bin/sh", "-c", `cat >>"$0"; pwd >>"$0"`, path}).Send(within(t), note("one")))
	data, err := os.ReadFile(path)
	require.NoError(t, err)
	assert.Equal(t, "{\"text\":\"one\"}/\n", string(data))
	require.EqualError(t, Command([]string{"/bin/sh", "-c", "echo no room >&2; exit 3"}).Send(within(t), note("one")), "exit status 3: no room")
	require.ErrorContains(t, Command([]string{"/nowhere"}).Send(within(t), note("one")), "no such file")
	ctx, cancel := context.WithTimeout(t.Context(), 200*time.Millisecond)
	defer cancel()
	begin := time.Now()
	require.ErrorContains(t, Command([]string{"/bin/sh", "-c", "sleep 60 & sleep 60"}).Send(ctx, note("one")), "was killed")
	assert.Less(t, time.Since(begin), 5*time.Second, "with what it started")
}

// certificates makes an authority, in PEM, and a certificate of it for 127.0.0.1.
func certificates(t *testing.T) (authority []byte, certificate tls.Certificate) {
	make := func(c, by *x509.Certificate, key, byKey *ecdsa.PrivateKey) []byte {
		der, err := x509.CreateCertificate(rand.Reader, c, by, key.Public(), byKey)
		require.NoError(t, err)
		return der
	}
	caKey, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	until := time.Now().Add(time.Hour)
	ca := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "saltmarsh"}, NotAfter: until, IsCA: true, BasicConstraintsValid: true, KeyUsage: x509.KeyUsageCertSign}
	leaf := &x509.Certificate{SerialNumber: big.NewInt(2), NotAfter: until, IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)}}
	authority = pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: make(ca, ca, caKey, caKey)})
	return authority, tls.Certificate{Certificate: [][]byte{make(leaf, ca, key, caKey)}, PrivateKey: key}
}
