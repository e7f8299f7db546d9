package cli

import (
	"fmt"
	"net"
	"os"
	"path/filepath"
	"time"

	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/agent"

	"ironbark/internal/work"
)

// agentTime is how long an SSH agent may take to answer.
const agentTime = 30 * time.Second // it may ask its person

// keyring has the keys of the person's SSH agent (SSH_AUTH_SOCK, ssh-agent(1)), and asks for
// passphrases on the terminal.
func (a *app) keyring() work.Keyring {
	return work.Keyring{
		Files: ownKeyFiles(),
		Agent: func() ([]ssh.Signer, func(), error) {
			socket := os.Getenv("SSH_AUTH_SOCK")
			if socket == "" {
				return nil, func() {}, nil
			}
			c, err := net.DialTimeout("unix", socket, agentTime)
			if err != nil {
				return nil, nil, fmt.Errorf("your SSH agent: %w", err)
			}
			done := func() { _ = c.Close() }
			if err := c.SetDeadline(time.Now().Add(agentTime)); err != nil {
				done()
				return nil, nil, err
			}
			list, err := agent.NewClient(c).Signers()
			if err != nil {
				done()
				return nil, nil, fmt.Errorf("your SSH agent: %w", err)
			}
			return list, done, nil
		},
		Passphrase: func(path string) (string, error) {
			if !a.terminal {
				return "", work.ErrNobodyToAsk
			}
			return a.secret(fmt.Sprintf("passphrase of %s: ", path))
		},
	}
}

// ownKeyFiles are where OpenSSH keeps a person's private halves (ssh(1), IdentityFile).
func ownKeyFiles() (list []string) {
	home, err := os.UserHomeDir()
	if err != nil {
		return nil
	}
	for _, name := range []string{"id_ed25519", "id_rsa"} {
		list = append(list, filepath.Join(home, ".ssh", name))
	}
	return list
}
