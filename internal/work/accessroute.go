package work

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"strconv"

	"golang.org/x/crypto/ssh"

	"ironbark/internal/bastion"
	"ironbark/internal/driver"
	"ironbark/internal/exposure"
	"ironbark/internal/flow"
	"ironbark/internal/sentence"
)

// AccessRoute is how a person gets to a TCP service of a machine: from which of their addresses, and to which
// one, or through which bastion.
type AccessRoute struct {
	Machine string
	Service flow.Service // as it arrives at the machine
	From    netip.Addr
	To      netip.AddrPort // as it is called
	Jump    *Jump          // the bastion that forwards the session; nil: none
	Answer  *Answer
	Part    exposure.Part // that lets the person in; the zero Part through a bastion
}

// Jump is a bastion on the way.
type Jump struct {
	Bastion string
	To      netip.AddrPort // where its gateway is called
	Person  string
	HostKey string // of the gateway
	KeyPath string // of the person's private half; "" where an SSH agent has it alone
	Route   string // the sentence that lets them through
	key     key
}

// Keys are private halves that somebody names; "" for those that are found.
type Keys struct {
	Machine string // that gets into the machine
	Own     string // the person's own, by which bastions know them
}

// Opened tells which sentence lets the person in.
func (w *AccessRoute) Opened() string {
	if w.Jump != nil {
		return w.Jump.Route
	}
	return w.Part.Origin.Sentence
}

// AccessRouteTo finds the way to a service of a machine, before anything is tried. The errors are
// *driver.NoMachineError, *NoAccessError and *BadKeyError.
func (w *Work) AccessRouteTo(ctx context.Context, machine string, service flow.Service, keys Keys) (*AccessRoute, error) {
	st, _, err := w.machine(ctx, machine)
	if err != nil {
		return nil, err
	}
	return w.accessRouteTo(st, machine, service, keys.Own)
}

// accessRouteTo takes the first way that is open: an address of the machine's own, from inside, by a line or
// from outside; a bastion; a port of a front.
func (w *Work) accessRouteTo(st *State, machine string, service flow.Service, own string) (*AccessRoute, error) {
	words := flow.PrintServices(flow.ServicesAt(service), flow.Namings(nil, st.Estate))
	s, err := sentence.ParseArgs([]string{"why", words, "from", "me", "to", machine}, fileTime)
	if err != nil {
		return nil, err
	}
	ask := s.(sentence.Ask)
	if ask.From, _, err = w.fromMe(st, ask.From, flow.NewResolver(st.Estate, st.Plan).Group(ask.To)); err != nil {
		return nil, Untyped(err)
	}
	answer, err := w.Ask(st, ask, w.Clock.Now())
	if err != nil {
		return nil, err
	}
	callers, err := w.Caller.Addrs(st.Estate)
	if err != nil {
		return nil, err
	}
	way := &AccessRoute{Machine: machine, Service: service, Answer: answer}
	if way.byDoor(callers, false) {
		return way, nil
	}
	lacking := w.byBastion(st, way, callers, own)
	if way.Jump != nil || way.byDoor(callers, true) {
		return way, nil
	}
	if lacking != nil {
		return nil, lacking
	}
	return nil, &NoAccessError{machine, service, answer}
}

// byDoor takes the first door that is open for one of the caller's addresses: of those at addresses of
// the machine's own, or of published ones.
func (w *AccessRoute) byDoor(callers []netip.Addr, published bool) bool {
	for _, from := range callers {
		for _, call := range w.Answer.Doors(from) {
			if call.door.Translated() != published {
				continue
			}
			called := call.Calls(w.Service)
			for _, p := range w.Answer.View.Through(call.door, flow.ServicesAt(called), flow.AddrsAt(from)) { // other doors at the address may lead to other machines
				if p.Open {
					w.From, w.To, w.Part = from, netip.AddrPortFrom(call.Address, called.Port()), p
					return true
				}
			}
		}
	}
	return false
}

// byBastion takes the first bastion that forwards the person. lacking tells why it cannot be used,
// where there is one.
func (w *Work) byBastion(st *State, way *AccessRoute, callers []netip.Addr, own string) (lacking error) {
	for _, b := range st.Plan.Gateways {
		policy, ok := bastion.Compile(st.Estate, st.Plan, b.Name)
		if !ok {
			continue
		}
		for _, from := range callers {
			at := b.Public.Addr(sentence.FamilyOf(from))
			d := policy.Judge(bastion.Request{Person: w.Person, Client: from, Host: way.Machine, Port: way.Service.Port()}, w.Clock.Now())
			if !d.Forward || !at.IsValid() {
				continue
			}
			key, err := w.ownKey(st, own)
			if err != nil {
				return err
			}
			_, public, err := w.GatewayKey(b.Name)
			if err != nil {
				return err
			}
			way.From, way.To = from, d.To[0]
			way.Jump = &Jump{
				Bastion: b.Name, To: netip.AddrPortFrom(at, flow.GatewayService.Port()), Person: w.Person, HostKey: public, KeyPath: key.path, key: key, Route: d.Origin.Sentence,
			}
			return nil
		}
	}
	return nil
}

// Dial connects along a way.
func (w *Work) Dial(ctx context.Context, way *AccessRoute) (net.Conn, error) {
	if way.Jump == nil {
		return w.Site.Dial(ctx, way.From, way.To)
	}
	gate, err := w.Jump(ctx, way)
	if err != nil {
		return nil, err
	}
	c, err := Through(gate, way)
	if err != nil {
		return nil, errors.Join(err, gate.Close())
	}
	return &jumped{c, gate}, nil
}

// Jump logs in to the gateway on a way.
func (w *Work) Jump(ctx context.Context, way *AccessRoute) (*ssh.Client, error) {
	j := way.Jump
	conn, err := w.Site.Dial(ctx, way.From, j.To)
	if _, none := errors.AsType[*driver.NoGatewayError](err); none && w.ServeOne != nil {
		conn, err = w.ServeOne(ctx, j.Bastion, way.From)
	}
	if err != nil {
		return nil, err
	}
	signer, done, err := w.signer(j.key)
	if err != nil {
		return nil, errors.Join(err, conn.Close())
	}
	defer done()
	gate, err := handshake(conn, j.Bastion, j.HostKey, j.Person, []ssh.AuthMethod{ssh.PublicKeys(signer)})
	if err != nil {
		return nil, errors.Join(err, ignoreClosed(conn.Close()))
	}
	return gate, nil
}

// NotForwardedError says that a gateway does not forward a session. The others that it carries go on.
type NotForwardedError struct {
	Bastion string
	Why     string
}

// Error tells why.
func (n *NotForwardedError) Error() string {
	return fmt.Sprintf("the gateway of %s does not forward: %s", n.Bastion, n.Why)
}

// Through has a gateway forward a session. The error is a *NotForwardedError where it does not.
func Through(gate *ssh.Client, way *AccessRoute) (net.Conn, error) {
	c, err := gate.Dial("tcp", net.JoinHostPort(way.Machine, strconv.Itoa(int(way.To.Port()))))
	if refused, ok := errors.AsType[*ssh.OpenChannelError](err); ok {
		return nil, &NotForwardedError{way.Jump.Bastion, refused.Message}
	}
	return c, err
}

// jumped is a connection over a gateway, which ends with it.
type jumped struct {
	net.Conn
	gate *ssh.Client
}

// Close ends both.
func (j *jumped) Close() error {
	return errors.Join(ignoreClosed(j.Conn.Close()), ignoreClosed(j.gate.Close()))
}
