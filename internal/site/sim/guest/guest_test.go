package guest

import (
	"context"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestAScriptChangesWhatTheMachineListensOn(t *testing.T) {
	g := New("gauge-1", []string{"openssh-server"})
	assert.Equal(t, []string{"ping", "ssh"}, g.Listens())
	r := g.Run(t.Context(), "setup.sh", `set -e
apt-get update
apt-get install -y nginx
for i in 1 2 3; do sleep 1; done
echo "served by $(hostname)" > /srv/index.html
mkdir -p /etc/tide && printf '%s\n' a b | tee /etc/tide/conf | grep b
systemctl enable --now nginx
systemctl stop ssh
`)
	assert.Equal(t, Result{Name: "setup.sh", Output: "Reading package lists... done\nSetting up nginx ... done\nb\n", Took: 5 * time.Second}, r)
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
		"cat " + secret, "read x < " + secret + "; echo $x", "source " + secret, "echo " + dir + "/*", "cd " + dir + " && echo in",
		"test -f " + secret + " && echo there", "/bin/cat " + secret, "exec /bin/cat " + secret, "$(which cat) " + secret,
		"echo x > " + filepath.Join(dir, "made"), "/bin/sh -c 'cat " + secret + "'", "cat /etc/passwd", "echo ~root/*", "env /bin/ls " + dir,
	} {
		r := New("m", nil).Run(context.Background(), "s", script)
		assert.NotContains(t, r.Output, "secret\n", script)
		assert.NotContains(t, r.Output, "there", script)
		assert.NotContains(t, r.Output, "in\n", script)
	}
	entries, err := os.ReadDir(dir)
	require.NoError(t, err)
	assert.Len(t, entries, 1, "nothing was made")
	r := New("m", nil).Run(context.Background(), "s", "echo $HOME $USER; env")
	assert.NotContains(t, r.Output, os.Getenv("PATH"))
}

func TestAScriptIsBounded(t *testing.T) {
	g := New("m", nil)
	begin := time.Now()
	r := g.Run(t.Context(), "s", "x=aaaaaaaaaaaaaaaa; while true; do echo $x; done")
	assert.Equal(t, 124, r.Exit)
	assert.Less(t, len(r.Output), maxOutput+200)
	assert.Less(t, time.Since(begin), maxRun+5*time.Second)
	r = g.Run(t.Context(), "s", "x=aaaaaaaaaaaaaaaa; for i in 1 2 3 4 5 6 7 8 9 10 11 12 13 14 15 16 17 18 19; do x=$x$x; done; echo $x > /tmp/a")
	assert.Contains(t, r.Output, "no space left")
}
