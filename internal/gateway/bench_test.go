package gateway_test

import (
	"bufio"
	"bytes"
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"encoding/pem"
	"fmt"
	"io"
	"net"
	"net/netip"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"ironbark/internal/gateway"
)

// jump is a jump host that is measured: a gateway, or OpenSSH's server, in processes of their own.
type jump struct {
	name   string
	addr   string
	person person
	to     string // what it is asked for to get to the target
	pid    int
}

// target sends what it is asked for: a line with a number of bytes.
func target(b testing.TB) net.Listener {
	return accepting(b, func(c net.Conn) {
		for r := bufio.NewReader(c); ; {
			line, err := r.ReadString('\n')
			n, bad := strconv.ParseInt(strings.TrimSpace(line), 10, 64)
			if err != nil || bad != nil {
				return
			}
			if _, err := io.CopyN(c, zeros{}, n); err != nil {
				return
			}
		}
	})
}

type zeros struct{}

func (zeros) Read(p []byte) (int, error) { return len(p), nil }

// remotePlace is a place whose machine is elsewhere.
type remotePlace struct {
	*place
	target string
}

func (r *remotePlace) Dial(ctx context.Context, _ netip.Addr, _ netip.AddrPort) (net.Conn, error) {
	var d net.Dialer
	return d.DialContext(ctx, "tcp", r.target)
}

// TestServeForBenchmarks is the gateway that benchmarks measure, in a process of its own.
func TestServeForBenchmarks(t *testing.T) {
	to, public := os.Getenv("IRONBARK_BENCH_TARGET"), os.Getenv("IRONBARK_BENCH_KEY")
	if to == "" {
		return
	}
	files := strings.Replace(fmt.Sprintf(nouns, public, public, public), "sessions: 3", "sessions: 5000", 1)
	p := newPlace(t, files, "route ssh to gauge-1 via beacon for ops")
	r := serveAt(t, p, &remotePlace{p, to}, func(l *gateway.Limits) { l.PerSource, l.Strangers = 5000, 5000 })
	fmt.Println(r.addr)
	_, _ = io.Copy(io.Discard, os.Stdin)
}

func ourGateway(b testing.TB, to string, mara person) jump {
	c := exec.Command(os.Args[0], "-test.run=TestServeForBenchmarks")
	c.Env = append(os.Environ(), "IRONBARK_BENCH_TARGET="+to, "IRONBARK_BENCH_KEY="+mara.public())
	in, err := c.StdinPipe()
	require.NoError(b, err)
	out, err := c.StdoutPipe()
	require.NoError(b, err)
	require.NoError(b, c.Start())
	b.Cleanup(func() {
		_ = in.Close()
		_ = c.Wait()
	})
	line, err := bufio.NewReader(out).ReadString('\n')
	require.NoError(b, err)
	return jump{"ironbark", strings.TrimSpace(line), mara, "gauge-1:22", c.Process.Pid}
}

func openSSH(b testing.TB, to string, mara person) jump {
	path, err := exec.LookPath("/usr/sbin/sshd")
	if err != nil {
		path, _ = filepath.Abs("../../.packages/usr/sbin/sshd")
	}
	dir := b.TempDir()
	_, private, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(b, err)
	block, err := ssh.MarshalPrivateKey(private, "")
	require.NoError(b, err)
	require.NoError(b, os.WriteFile(filepath.Join(dir, "host"), pem.EncodeToMemory(block), 0o600))
	require.NoError(b, os.WriteFile(filepath.Join(dir, "keys"), []byte(mara.public()+"\n"), 0o600))
	require.NoError(b, os.MkdirAll("/run/sshd", 0o755))
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(b, err)
	addr := l.Addr().String()
	require.NoError(b, l.Close())
	_, port, _ := net.SplitHostPort(addr)
	users, err := os.ReadFile("/etc/passwd") // the server wants a user of its own, which a host without it lacks
	require.NoError(b, err)
	if !bytes.Contains(users, []byte("\nsshd:")) {
		users = append(users, "sshd:x:65533:65534::/run/sshd:/usr/sbin/nologin\n"...)
	}
	require.NoError(b, os.WriteFile(filepath.Join(dir, "passwd"), users, 0o644))
	c := exec.Command("unshare", "--mount", "sh", "-c", `mount --bind "$0" /etc/passwd && exec "$@"`, filepath.Join(dir, "passwd"), path, "-D", "-e", "-f", "/dev/null")
	for _, o := range []string{
		"Port=" + port, "ListenAddress=127.0.0.1", "HostKey=" + filepath.Join(dir, "host"), "AuthorizedKeysFile=" + filepath.Join(dir, "keys"), "StrictModes=no", "PidFile=none", "UsePAM=no",
		"MaxStartups=5000", "PermitRootLogin=yes", "LogLevel=ERROR",
	} {
		c.Args = append(c.Args, "-o", o)
	}
	require.NoError(b, c.Start())
	b.Cleanup(func() {
		_ = c.Process.Kill()
		_ = c.Wait()
	})
	require.Eventually(b, func() bool {
		s, err := net.Dial("tcp", addr)
		if err == nil {
			_ = s.Close()
		}
		return err == nil
	}, 5*time.Second, 10*time.Millisecond)
	me, err := user.Current()
	require.NoError(b, err)
	return jump{"sshd", addr, person{me.Username, mara.signer, mara.private}, to, c.Process.Pid}
}

// begin logs in and has a session forwarded.
func (j jump) begin() (*ssh.Client, net.Conn, error) {
	c, err := ssh.Dial("tcp", j.addr, &ssh.ClientConfig{
		User: j.person.name, Auth: []ssh.AuthMethod{ssh.PublicKeys(j.person.signer)}, HostKeyCallback: ssh.InsecureIgnoreHostKey(), Timeout: 10 * time.Second,
		Config: ssh.Config{KeyExchanges: []string{ssh.KeyExchangeCurve25519}, Ciphers: []string{ssh.CipherAES128GCM}},
	})
	if err != nil {
		return nil, nil, err
	}
	s, err := c.Dial("tcp", j.to)
	if err != nil {
		_ = c.Close()
	}
	return c, s, err
}

// ask asks the target for some bytes and takes them.
func ask(s net.Conn, n int64) error {
	if _, err := fmt.Fprintln(s, n); err != nil {
		return err
	}
	_, err := io.CopyN(io.Discard, s, n)
	return err
}

// firstByte is how long it takes from nothing to the first byte from the machine.
func (j jump) firstByte(b *testing.B) time.Duration {
	began := time.Now()
	c, s, err := j.begin()
	require.NoError(b, err)
	require.NoError(b, ask(s, 1))
	took := time.Since(began)
	_ = c.Close()
	return took
}

// each measures both jump hosts by turns, in one run.
func each(b *testing.B, unit string, measure func(j jump) float64) {
	l := target(b)
	mara := newPerson(b, "mara")
	jumps := []jump{ourGateway(b, l.Addr().String(), mara), openSSH(b, l.Addr().String(), mara)}
	found := map[string][]float64{}
	for b.Loop() {
		for _, j := range jumps {
			found[j.name] = append(found[j.name], measure(j))
		}
	}
	median := func(name string) float64 {
		slices.Sort(found[name])
		return found[name][len(found[name])/2]
	}
	b.ReportMetric(median("ironbark"), "ironbark-"+unit)
	b.ReportMetric(median("sshd"), "sshd-"+unit)
	b.ReportMetric(median("ironbark")/median("sshd"), "ratio")
	b.ReportMetric(0, "ns/op")
}

// BenchmarkBulk is how fast 256 MB come from a machine, to OpenSSH's own client.
func BenchmarkBulk(b *testing.B) {
	const size = 256 << 20
	each(b, "MB/s", func(j jump) float64 {
		dir := b.TempDir()
		block, err := ssh.MarshalPrivateKey(j.person.private, "")
		require.NoError(b, err)
		require.NoError(b, os.WriteFile(filepath.Join(dir, "key"), pem.EncodeToMemory(block), 0o600))
		host, port, _ := net.SplitHostPort(j.addr)
		c := exec.Command("ssh", "-F", "none", "-i", filepath.Join(dir, "key"), "-o", "StrictHostKeyChecking=no", "-o", "UserKnownHostsFile=/dev/null", "-o", "LogLevel=ERROR", "-o", "IdentitiesOnly=yes",
			"-c", "aes128-gcm@openssh.com", "-W", j.to, "-p", port, j.person.name+"@"+host)
		in, err := c.StdinPipe()
		require.NoError(b, err)
		out, err := c.StdoutPipe()
		require.NoError(b, err)
		c.Stderr = os.Stderr
		require.NoError(b, c.Start())
		_, _ = fmt.Fprintln(in, 1)
		_, err = io.CopyN(io.Discard, out, 1)
		require.NoError(b, err)
		began := time.Now()
		_, _ = fmt.Fprintln(in, size)
		_, err = io.CopyN(io.Discard, out, size)
		require.NoError(b, err)
		took := time.Since(began)
		_ = c.Process.Kill()
		_ = c.Wait()
		return size / 1e6 / took.Seconds()
	})
}

// BenchmarkFirstByte is the time from connecting to the first byte from a machine.
func BenchmarkFirstByte(b *testing.B) {
	each(b, "ms", func(j jump) float64 { return float64(j.firstByte(b)) / 1e6 })
}

// BenchmarkSessions is how many sessions a second eight clients begin and end.
func BenchmarkSessions(b *testing.B) {
	const count = 160
	each(b, "sessions/s", func(j jump) float64 {
		began := time.Now()
		var all sync.WaitGroup
		for range 8 {
			all.Go(func() {
				for range count / 8 {
					j.firstByte(b)
				}
			})
		}
		all.Wait()
		return count / time.Since(began).Seconds()
	})
}

// BenchmarkIdle is the memory of 1,000 idle sessions, each over a connection of its own: the proportional
// set size of all processes (proc(5)), less what it was before.
func BenchmarkIdle(b *testing.B) {
	each(b, "MB", func(j jump) float64 {
		before := memory(b, j.pid)
		var clients []*ssh.Client
		for range 1000 {
			c, s, err := j.begin()
			require.NoError(b, err)
			require.NoError(b, ask(s, 1))
			clients = append(clients, c)
		}
		time.Sleep(time.Second)
		took := memory(b, j.pid) - before
		for _, c := range clients {
			_ = c.Close()
		}
		time.Sleep(time.Second)
		return took
	})
}

// memory is the proportional set size of a process and all under it, in MB.
func memory(b *testing.B, pid int) (mb float64) {
	children := map[int][]int{}
	list, err := os.ReadDir("/proc")
	require.NoError(b, err)
	for _, e := range list {
		n, err := strconv.Atoi(e.Name())
		stat, _ := os.ReadFile("/proc/" + e.Name() + "/stat")
		_, rest, ok := strings.Cut(string(stat), ") ")
		if words := strings.Fields(rest); err == nil && ok && len(words) > 1 {
			parent, _ := strconv.Atoi(words[1])
			children[parent] = append(children[parent], n)
		}
	}
	todo := []int{pid}
	for len(todo) > 0 {
		text, _ := os.ReadFile(fmt.Sprintf("/proc/%d/smaps_rollup", todo[0]))
		for line := range strings.Lines(string(text)) {
			if rest, ok := strings.CutPrefix(line, "Pss:"); ok {
				kb, _ := strconv.ParseFloat(strings.Fields(rest)[0], 64)
				mb += kb / 1e3
			}
		}
		todo = append(todo[1:], children[todo[0]]...)
	}
	return mb
}
