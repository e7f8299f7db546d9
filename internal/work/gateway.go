package work

import (
	"context"
	"crypto/ed25519"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"net/netip"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"github.com/dustin/go-humanize"
	"golang.org/x/crypto/ssh"

	"ironbark/internal/bastion"
	"ironbark/internal/fault"
	"ironbark/internal/flow"
	"ironbark/internal/gateway"
	"ironbark/internal/ledger"
	"ironbark/internal/plainfile"
	"ironbark/internal/sentence"
	"ironbark/internal/sshkey"
)

// Gateway is a bastion of the estate as its gateway sees it. It is safe for concurrent use.
type Gateway struct {
	w    *Work
	Name string

	mu     sync.Mutex // held by each entry that is written, so that it is not taken for somebody else's
	policy *bastion.Policy
	seq    int64 // of the journal, that the policy is of
	mark   string
	ends   time.Time // when a right ends next; zero: none does
}

var _ gateway.Host = (*Gateway)(nil)

// Gateway returns a bastion that is there. The error is a *sentence.Error where it is not.
func (w *Work) Gateway(ctx context.Context, name string) (*Gateway, error) {
	g := &Gateway{w: w, Name: name}
	g.mu.Lock()
	defer g.mu.Unlock()
	st, there, err := g.read(ctx)
	if err != nil {
		return nil, err
	}
	if !there {
		near, _ := sentence.Nearest(name, st.Estate.NamesOf("bastion"))
		remedy := "add bastion " + name + " makes one"
		if near != "" {
			remedy = "did you mean “" + near + "”?"
		}
		return nil, &sentence.Error{Problem: "there is no bastion “" + name + "” here", Remedy: fault.Say(remedy)}
	}
	return g, nil
}

// Policy returns what the gateway goes by now. Entries that the gateway itself wrote change nothing. Where
// the bastion was removed, nobody gets through any more.
func (g *Gateway) Policy(ctx context.Context) (*bastion.Policy, error) {
	g.mu.Lock()
	defer g.mu.Unlock()
	seq, mark, err := g.w.Site.Stamps(ctx)
	if err != nil {
		return nil, err
	}
	if seq != g.seq || mark != g.mark || !g.ends.IsZero() && !g.Now().Before(g.ends) {
		if _, _, err := g.read(ctx); err != nil {
			return nil, err
		}
	}
	return g.policy, nil
}

// read reads what the gateway goes by, and tells whether the bastion is there. The stamps are older than
// what is read, so that a change in between is seen the next time.
func (g *Gateway) read(ctx context.Context) (st *State, there bool, err error) {
	seq, mark, err := g.w.Site.Stamps(ctx)
	if err != nil {
		return nil, false, err
	}
	if st, err = g.w.Installed(ctx); err != nil {
		return nil, false, err
	}
	policy, there := bastion.Compile(st.Estate, st.Plan, g.Name)
	if !there {
		policy = &bastion.Policy{}
	}
	g.policy, g.seq, g.mark, g.ends = policy, seq, mark, st.Estate.NextEnd()
	return st, there, nil
}

// note writes an entry, and keeps that nothing has changed by it.
func (g *Gateway) note(ctx context.Context, person, action, text string) (int64, error) {
	g.mu.Lock()
	defer g.mu.Unlock()
	seq, err := g.w.Site.Note(ctx, person, action, text)
	if err == nil && seq == g.seq+1 {
		g.seq = seq
	}
	return seq, err
}

// Now is the moment by which sentences are judged.
func (g *Gateway) Now() time.Time { return g.w.Clock.Now() }

// Dial connects to a machine from the gateway's own address.
func (g *Gateway) Dial(ctx context.Context, from netip.Addr, to netip.AddrPort) (net.Conn, error) {
	return g.w.Site.Dial(ctx, from, to)
}

// The actions of the journal that gateways write.
const (
	actGateway    = "gateway"
	actSession    = "session"
	actSessionEnd = "session-end"
)

// Began records a session before it is joined.
func (g *Gateway) Began(ctx context.Context, s gateway.Session) (int64, error) {
	return g.note(ctx, s.Person, actSession, fmt.Sprintf("via %s from %s to %s on %s, with %s", g.Name, s.Client, s.Machine, flow.TCPPort(s.Port), s.Login))
}

// Ended records that a session is over.
func (g *Gateway) Ended(ctx context.Context, s gateway.Session, reason string) error {
	took := sentence.DurationOf(g.w.Clock.Now().Sub(s.Since).Truncate(time.Second)).String()
	_, err := g.note(ctx, s.Person, actSessionEnd, fmt.Sprintf("session %d via %s from %s to %s on %s, after %s, %s there and %s back: %s",
		s.Number, g.Name, s.Client, s.Machine, flow.TCPPort(s.Port), took, humanize.Bytes(uint64(s.Up)), humanize.Bytes(uint64(s.Down)), reason))
	return err
}

// said is what the journal has of the gateway. One name may end in another: the word before it parts them.
func (g *Gateway) said(text string) string { return "bastion " + g.Name + ": " + text }

// Failures records who did not get in.
func (g *Gateway) Failures(ctx context.Context, text string) error {
	_, err := g.note(ctx, g.w.Person, actGateway, g.said(text))
	return err
}

// Starts records that the gateway serves from now on, and the ends of sessions that one before it
// could not record.
func (g *Gateway) Starts(ctx context.Context) error {
	before, err := g.w.Site.Find(ctx, ledger.Filter{Action: actGateway, Text: g.said("serves"), Last: 1})
	if err != nil {
		return err
	}
	if len(before) > 0 {
		if err := g.endLost(ctx, before[0].Seq); err != nil {
			return err
		}
	}
	_, err = g.note(ctx, g.w.Person, actGateway, g.said("serves from now on"))
	return err
}

// endLost records the end of each session that was begun after an entry and has none.
func (g *Gateway) endLost(ctx context.Context, after int64) error {
	ended := map[int64]bool{}
	ends, err := g.w.Site.Find(ctx, ledger.Filter{After: after, Action: actSessionEnd, Text: " via " + g.Name + " "})
	if err != nil {
		return err
	}
	for _, e := range ends {
		var number int64
		if _, err := fmt.Sscanf(e.Text, "session %d ", &number); err == nil {
			ended[number] = true
		}
	}
	began, err := g.w.Site.Find(ctx, ledger.Filter{After: after, Action: actSession, Text: "via " + g.Name + " "})
	if err != nil {
		return err
	}
	for _, e := range began {
		if ended[e.Seq] {
			continue
		}
		text, _, _ := strings.Cut(e.Text, ", with ")
		if _, err := g.note(ctx, e.Person, actSessionEnd, fmt.Sprintf("session %d %s: the gateway was killed, and the session ended with it", e.Seq, text)); err != nil {
			return err
		}
	}
	return nil
}

// Stops records that the gateway serves no more.
func (g *Gateway) Stops(ctx context.Context) error {
	_, err := g.note(ctx, g.w.Person, actGateway, g.said("stopped"))
	return err
}

// GatewayDir is the folder of a bastion's gateway: its host key, and how to speak with it.
func (w *Work) GatewayDir(name string) string {
	return filepath.Join(w.Folder.Dir, StateDir, "bastions", name)
}

// GatewayKey returns the seed of the host key of a bastion's gateway (Ed25519, RFC 8032), and its public
// half as OpenSSH writes it. It is made once, by whoever needs it first.
func (w *Work) GatewayKey(name string) (seed []byte, public string, err error) {
	path := filepath.Join(w.GatewayDir(name), "host_key")
	data, err := plainfile.Read(path, plainfile.Small)
	if errors.Is(err, fs.ErrNotExist) {
		pair, failed := sshkey.New(sshkey.Ed25519, "bastion "+name)
		if failed != nil {
			return nil, "", failed
		}
		if err := pair.Save(path); err != nil && !errors.Is(err, fs.ErrExist) {
			return nil, "", err
		}
		data, err = plainfile.Read(path, plainfile.Small)
	}
	if err != nil {
		return nil, "", err
	}
	if _, err := sshkey.Load(path); err != nil {
		return nil, "", &BadKeyError{Why: err.Error(), Try: fault.Say("close it: chmod 600 " + path), Err: err}
	}
	raw, err := ssh.ParseRawPrivateKey(data)
	private, ok := raw.(*ed25519.PrivateKey)
	if err != nil || !ok {
		return nil, "", &sentence.Error{Problem: path + " holds no Ed25519 key", Remedy: fault.Say("remove it, and a new one is made; clients will have to learn it")}
	}
	signer, err := ssh.NewSignerFromKey(*private)
	if err != nil {
		return nil, "", err
	}
	return private.Seed(), strings.TrimSpace(string(ssh.MarshalAuthorizedKey(signer.PublicKey()))), nil
}

// MayEnd reports whether whoever asks may end a session: their own, or any of them as a lead; where
// nobody leads, anybody of the estate.
func (w *Work) MayEnd(ctx context.Context, s gateway.Session) bool {
	return s.Person == w.Person || w.leads(ctx)
}
