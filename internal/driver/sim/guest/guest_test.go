package guest

import (
	"context"
	"io"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestAScriptChangesWhatTheMachineListensOn(t *testing.T) {
	g := New("gauge-1", []string{"ssh-server"})
	assert.Equal(t, []string{"ping", "ssh"}, g.Listens())
	r := g.Run(t.Context(), "setup.sh", `set -e
apt-get update
apt-get install -y tide-httpd
for i in 1 2 3; do sleep 1; done
echo "served by $(hostname)" > /srv/index.html
mkdir -p /etc/tide && printf '%s\n' a b | tee /etc/tide/conf | grep b
systemctl enable --now tide-httpd
systemctl stop ssh
`)
	r.Delta = Delta{}
	assert.Equal(t, Result{Name: "setup.sh", Output: "Reading package lists... done\nSetting up tide-httpd ... done\nb\n", Took: 5 * time.Second}, r)
	assert.Equal(t, []string{"http", "https", "ping"}, g.Listens())
	text, _ := g.Read("/srv/index.html")
	assert.Equal(t, "served by gauge-1\n", text)
	r = g.Run(t.Context(), "bad.sh", "set -e\necho before\napt-get install -y nosuch\necho after\n")
	assert.Equal(t, 100, r.Exit)
	assert.Equal(t, "before\nE: unable to locate package nosuch\n", r.Output)
	assert.Equal(t, 2, g.Run(t.Context(), "torn.sh", "if true; then").Exit)
	assert.Equal(t, 127, g.Run(t.Context(), "x", "nosuch").Exit)
}

// TestNothingOfTheHostIsReached tries the ways out that shells have.
func TestNothingOfTheHostIsReached(t *testing.T) {
	dir := t.TempDir()
	secret := filepath.Join(dir, "secret")
	require.NoError(t, os.WriteFile(secret, []byte("secret\n"), 0o600))
	for _, script := range []string{
		"cat " + secret, "read x < " + secret + "; echo $x", "source " + secret, "echo " + dir + "/*", "cd " + dir + " && echo got-in",
		"test -f " + secret + " && echo there", "/bin/cat " + secret, "exec /bin/cat " + secret, "$(which cat) " + secret,
		"[ -O " + secret + " ] && echo there", "[ " + secret + " -nt /etc/hosts ] && echo there", "[ -x /bin/sh ] && cat " + secret,
		": > >(cat > " + filepath.Join(dir, "made") + "); wait", "cat <(cat " + secret + ")", "kill -9 $PPID; kill -9 -1", "echo ~root ~keeper", "cd /proc && echo got-in",
		"echo x > " + filepath.Join(dir, "made"), "/bin/sh -c 'cat " + secret + "'", "cat /etc/passwd", "echo ~root/*", "env /bin/ls " + dir,
	} {
		r := New("m", nil).Run(context.Background(), "s", script)
		assert.NotContains(t, r.Output, "secret\n", script)
		assert.NotContains(t, r.Output, "there", script)
		assert.NotContains(t, r.Output, "got-in", script)
	}
	entries, err := os.ReadDir(dir)
	require.NoError(t, err)
	assert.Len(t, entries, 1, "nothing was made")
	r := New("m", nil).Run(context.Background(), "s", "echo $HOME $USER; env")
	assert.NotContains(t, r.Output, os.Getenv("PATH"))
}

// TestAShellThatDiesLeavesTheMachineAsItWas crashes shells in the ways that are known.
func TestAShellThatDiesLeavesTheMachineAsItWas(t *testing.T) {
	g := New("m", nil)
	r := g.Run(t.Context(), "s", "echo a > /srv/a; [ -O /etc/hosts ]; [ -G /etc/hosts ]; for i in 1 2 3 4 5 6 7 8; do echo $i > /tmp/$i & done; wait")
	assert.Zero(t, r.Exit, r.Output)
	assert.Len(t, g.Files, 9, "what runs at once writes at once")
	for _, script := range []string{
		"echo lost > /srv/lost; f() { f; }; f", "echo lost > /srv/lost; x=a; while true; do x=$x$x$x$x; done",
		"echo lost > /srv/lost; while true; do eval 'x=$x$x'; done", "echo lost > /srv/lost; while :; do :; done & : <(:); wait",
	} {
		g, begin := New("m", nil), time.Now()
		r := g.Run(t.Context(), "s", script)
		assert.Less(t, time.Since(begin), maxRun+3*time.Second, script)
		assert.Contains(t, []int{killed, 124}, r.Exit, "%s: %s", script, r.Output)
		assert.Empty(t, g.Files, script)
	}
	host, err := filepath.Glob(filepath.Join(os.TempDir(), "sh-interp-*"))
	require.NoError(t, err)
	assert.Empty(t, host, "nothing is left in the host's temporary folder")
}

// TestWhatTwoShellsWriteAtOnceIsKept applies what two shells changed that began alike.
func TestWhatTwoShellsWriteAtOnceIsKept(t *testing.T) {
	g := New("m", nil)
	_, first, _ := g.Command(t.Context(), "keeper", "echo 1 > /srv/a; mkdir /srv/d; useradd ilse", nil, io.Discard)
	_, second, _ := g.Command(t.Context(), "keeper", "echo 2 > /srv/b; apt-get install curl", nil, io.Discard)
	require.NoError(t, g.Apply(first))
	require.NoError(t, g.Apply(second))
	assert.Equal(t, contents{"/srv/a": "1\n", "/srv/b": "2\n"}, g.Files)
	assert.Equal(t, []string{"curl"}, g.Packages)
	assert.Equal(t, []string{"ilse"}, g.Users)
}

func TestAScriptIsBounded(t *testing.T) {
	g := New("m", nil)
	begin := time.Now()
	r := g.Run(t.Context(), "s", "x=aaaaaaaaaaaaaaaa; while true; do echo $x; done")
	assert.Equal(t, 124, r.Exit)
	assert.Less(t, len(r.Output), maxOutput+200)
	assert.Less(t, time.Since(begin), maxRun+5*time.Second)
	r = g.Run(t.Context(), "s", "i=0; while [ $i -lt 100000 ]; do : > /tmp/a-rather-long-name-for-an-empty-file-$i || exit 7; i=$((i+1)); done")
	assert.NotZero(t, r.Exit, "names count")
	r = g.Run(t.Context(), "s", "x=aaaaaaaaaaaaaaaa; for i in 1 2 3 4 5 6 7 8 9 10 11 12 13 14 15 16 17 18 19; do x=$x$x; done; echo $x > /tmp/a")
	assert.Contains(t, r.Output, "no space left")
}
