package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"ironbark/internal/change"
	"ironbark/internal/cli/view"
	"ironbark/internal/driver"
	"ironbark/internal/estate"
	"ironbark/internal/plainfile"
	"ironbark/internal/sentence"
	"ironbark/internal/site"
	"ironbark/internal/sshkey"
	"ironbark/internal/wire"
	"ironbark/internal/work"
)

// peersDir is the folder beside the keys in which the configurations of peers are kept.
const peersDir = "peers"

// peerDoc is the document of a peer that was added.
type peerDoc struct {
	Peer      string   `json:"peer"`
	Line      string   `json:"line"`
	Addresses []string `json:"addresses"`
	Key       string   `json:"key"`  // its public key
	File      string   `json:"file"` // its configuration
}

// newPeer are the options of add peer.
type newPeer struct {
	line, public, to string
	address          []string
	qr               bool
}

func (a *app) addPeerCommand() *cobra.Command {
	in, opt := &newPeer{}, &editing{}
	c := &cobra.Command{
		Use: "peer NAME", Short: "Add a computer to a private line: its keys, and the file for its WireGuard",
		Long: "Put a computer at the other end of a line, which is a WireGuard tunnel on a Linux host. A pair of keys is made, and the\n" +
			"file that the peer's own program reads, with the private half: it is written once, readable by you alone, and kept\n" +
			"nowhere else. With --public-key KEY the peer keeps its private half to itself. In a terminal the file is drawn as a QR\n" +
			"code, too. The peer's name is that of a source: allow https from NAME to MACHINE.",
		Example: "  ironbark add peer mara-laptop --line headland\n  ironbark add peer mara-phone --line headland --qr",
		RunE: a.with(func(ctx context.Context, w *work.Work, args []string) error {
			if len(args) != 1 {
				return usage("add peer takes one name")
			}
			return a.addPeer(ctx, w, args[0], in, opt)
		}),
	}
	c.Flags().StringVar(&in.line, "line", "", "the line (default: the only one)")
	c.Flags().StringSliceVar(&in.address, "address", nil, "its addresses in the line's ranges (default: free ones)")
	c.Flags().StringVar(&in.public, "public-key", "", "its own public key, where it has one")
	c.Flags().StringVar(&in.to, "to", "", "the file to make (default: .ironbark/peers/NAME.conf)")
	c.Flags().BoolVar(&in.qr, "qr", false, "draw the file as a QR code, also where nobody looks at a terminal")
	return opt.flags(c)
}

func (a *app) addPeer(ctx context.Context, w *work.Work, name string, in *newPeer, opt *editing) error {
	old, e, err := readBoth(w)
	if err != nil {
		return err
	}
	if w.Folder.SiteName() != estate.Linux {
		return site.ErrNoTunnels
	}
	if in.line == "" && len(e.Lines) == 1 {
		in.line = e.Lines[0].Name
	}
	i := slices.IndexFunc(e.Lines, func(l estate.Line) bool { return l.Name == in.line })
	if i < 0 {
		if in.line == "" {
			return usage("say by which line: --line NAME; the lines are %s", orNone(e.NamesOf("line")))
		}
		return unknownName("line", in.line, e.NamesOf("line"))
	}
	line := e.Lines[i]
	if _, err := endpointOf(e, line, 0); err != nil {
		return err
	}
	if in.to == "" {
		in.to = filepath.Join(w.Folder.Dir, work.StateDir, peersDir, name+".conf")
	}
	if _, err := os.Lstat(in.to); err == nil {
		return wrong("%s is there already and is not written over: --to FILE", in.to)
	}
	addrs, err := peerAddrs(e, line, in.address)
	if err != nil {
		return err
	}
	var private, public wire.Key
	begun := filepath.Join(w.Folder.Dir, work.StateDir, peersDir, name+".key")
	if in.public != "" {
		if public, err = wire.ParseKey(in.public); err != nil {
			return usage("--public-key: %v", err)
		}
	} else {
		if private, err = peerKey(begun); err != nil {
			return err
		}
		public = private.Public()
		opt.before = func() (func() error, error) {
			return func() error { return os.Remove(begun) }, keepPeerKey(begun, private)
		}
	}
	if had, ok := e.LineOf(name); ok && had.Name == line.Name && in.public == "" && slices.ContainsFunc(had.Peers, func(p estate.Peer) bool { return p.Name == name && p.Key == public.String() }) {
		return a.writePeer(ctx, w, name, in, private, begun) // it was broken off before the file was written
	}
	words := make([]string, len(addrs))
	for i, addr := range addrs {
		words[i] = addr.String()
	}
	value := estate.Mapping(estate.Field{Key: "key", Value: estate.Word(public.String())}, estate.Field{Key: "address", Value: estate.List(words...)})
	files, err := old.Alter([]string{"lines", line.Name}, []estate.Field{{Key: "peers", Value: estate.Mapping(estate.Field{Key: name, Value: value})}})
	if len(line.Peers) > 0 {
		files, err = old.AddNoun([]string{"lines", line.Name, "peers"}, name, value)
	}
	if err != nil {
		return err
	}
	if opt.draft && in.public == "" {
		return usage("--draft goes with --public-key: a private key that is made is written down only once its line is there")
	}
	if err := a.edit(ctx, w, old, files, "added peer "+name, opt); err != nil || opt.draft {
		return err
	}
	return a.writePeer(ctx, w, name, in, private, begun)
}

// peerKey is the key that was made for a peer whose file was not written yet, or a new one.
func peerKey(begun string) (wire.Key, error) {
	data, err := plainfile.Read(begun, plainfile.Small)
	if errors.Is(err, fs.ErrNotExist) {
		return wire.NewKey()
	}
	if err != nil {
		return wire.Key{}, err
	}
	return wire.ParseKey(string(data))
}

// keepPeerKey keeps a peer's key until its file is written, so that a command that is broken off can be given again.
func keepPeerKey(begun string, key wire.Key) error {
	if err := os.MkdirAll(filepath.Dir(begun), 0o700); err != nil {
		return &work.UnwritableError{Path: begun, Why: err}
	}
	if err := work.WriteFile(begun, []byte(key.String()+"\n"), 0o600); err != nil {
		return &work.UnwritableError{Path: begun, Why: err}
	}
	return nil
}

func orNone(names []string) string {
	if len(names) == 0 {
		return "none yet: ironbark add line"
	}
	return strings.Join(names, ", ")
}

// peerAddrs are the addresses of a new peer: those that are asked for, or free ones.
func peerAddrs(e *estate.Estate, line estate.Line, asked []string) (list []netip.Addr, err error) {
	for _, text := range asked {
		addr, err := netip.ParseAddr(text)
		if err != nil {
			return nil, usage("--address: “%s” is no address", text)
		}
		list = append(list, addr)
	}
	if len(list) == 0 {
		list = e.FreePeerAddrs(line)
	}
	if len(list) == 0 {
		return nil, wrong("line %s has no address left", line.Name)
	}
	return list, nil
}

// endpointOf is where the peers of a line call.
func endpointOf(e *estate.Estate, line estate.Line, port int) (string, error) {
	host, at := line.Endpoint, strconv.Itoa(port)
	if h, p, err := net.SplitHostPort(line.Endpoint); err == nil {
		host, at = h, p
	}
	host = strings.Trim(host, "[]")
	if host == "" && e.Uplink != nil {
		switch {
		case len(e.Uplink.Addresses) > 0:
			host = e.Uplink.Addresses[0].Addr().String()
		default:
			for _, p := range e.Uplink.Public {
				if host == "" && p.Addr().Is4() {
					host = p.Masked().Addr().String()
				}
			}
		}
	}
	if host == "" {
		return "", wrong("nobody knows where the peers of line %s would call: ironbark add uplink joins the site to its host's network, or change line %s --endpoint HOST", line.Name, line.Name)
	}
	return net.JoinHostPort(host, at), nil
}

// writePeer writes the configuration of a peer.
func (a *app) writePeer(ctx context.Context, w *work.Work, name string, in *newPeer, private wire.Key, begun string) error {
	st, err := w.Installed(ctx)
	if err != nil {
		return err
	}
	line, ok := st.Estate.LineOf(name)
	if !ok {
		return wrong("peer %s is not there, so nobody knows the key of its line: ironbark enact, and the same again", name)
	}
	state, err := w.Site.Line(ctx, line.Name)
	if err != nil {
		return err
	}
	key, err := wire.ParseKey(state.Key)
	if err != nil {
		return err
	}
	network, _ := st.Estate.Network(line.Network)
	config := wire.Config{About: fmt.Sprintf("%s, a peer of line %s of the estate %s", name, line.Name, st.Estate.Name), DNS: network.DNS, Public: key}
	for _, p := range network.Space {
		if estate.HasFamily(line.Range, sentence.FamilyOf(p.Addr())) {
			config.Allowed = append(config.Allowed, p)
		}
	}
	doc := peerDoc{Peer: name, Line: line.Name, File: in.to}
	for _, p := range line.Peers {
		if p.Name == name {
			config.Addrs, doc.Key = p.Addrs, p.Key
		}
	}
	for _, addr := range config.Addrs {
		doc.Addresses = append(doc.Addresses, addr.String())
	}
	if in.public == "" {
		config.Private = private.String()
	}
	if config.Endpoint, err = endpointOf(st.Estate, line, state.Port); err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(in.to), 0o700); err != nil {
		return &work.UnwritableError{Path: in.to, Why: err}
	}
	if err := sshkey.WriteNew(in.to, []byte(config.String())); err != nil {
		return errors.Join(&work.UnwritableError{Path: in.to, Why: err}, errors.New("the same command goes on from here"))
	}
	if err := os.Remove(begun); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	if a.json {
		return a.print.JSON(doc)
	}
	a.print.Note("wrote %s: give it to the peer by a way that nobody else reads, and take it away here", in.to)
	if in.qr || a.print.ToTerminal {
		if drawn, err := wire.QR(config.String()); err == nil {
			a.print.Text(drawn)
		}
	}
	a.print.NoteWrap("next, there: ", "wg-quick up "+filepath.Base(in.to))
	a.print.NoteWrap("next, here: ", fmt.Sprintf("ironbark permit PEOPLE to open ssh to MACHINE from %s up to 2h, or allow SERVICE from %s to MACHINE", name, name))
	return nil
}

// showLine shows a line, and how its peers are doing.
func (a *app) showLine(ctx context.Context, w *work.Work, st *work.State, t change.Resource) error {
	state, err := w.Site.Line(ctx, t.Name)
	if err != nil && !errors.Is(err, site.ErrNoTunnels) && !errors.Is(err, driver.ErrNoLine) {
		return err
	}
	l := view.Line{Resource: t, State: st, Line: state}
	if a.json {
		return a.print.JSON(view.LineJSON(l))
	}
	a.print.PrivateLine(l, a.phrasing(st))
	return nil
}
