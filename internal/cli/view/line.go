package view

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"ironbark/internal/change"
	"ironbark/internal/driver"
	"ironbark/internal/work"
)

// Line is a line, and how its peers are doing.
type Line struct {
	Resource change.Resource
	State    *work.State
	Line     driver.Line // the zero Line where it is no tunnel
}

// PrivateLine prints a line.
func (p *Printer) PrivateLine(l Line, ph *Phrasing) {
	p.Resource(l.Resource, l.State)
	if l.Line.Key == "" {
		if l.State.Estate.Site == "linux" {
			p.Wrap("  tunnel   ", fmt.Sprintf("none: it has no peers (ironbark add peer NAME --line %s)", l.Resource.Name))
		}
		return
	}
	serves := "carries packets"
	if !l.Line.Serves {
		serves = p.Bad("carries nothing") + ": ironbark enact starts it"
	}
	p.Wrap("  tunnel   ", fmt.Sprintf("WireGuard, heard on udp/%d, %s", l.Line.Port, serves))
	p.Line("  its key  %s", l.Line.Key)
	p.Line("")
	p.Head("Peers")
	var rows [][]string
	for _, name := range slices.Sorted(maps.Keys(l.Line.Peers)) {
		state := l.Line.Peers[name]
		heard, from := "never since it was started", ""
		if !state.Heard.IsZero() {
			heard = Moment(state.Heard, ph.now)
			from = state.From.String()
		}
		rows = append(rows, []string{name, strings.Join(addrWords(l.Resource.Spec.Peers[name]), " "), heard, from, fmt.Sprint(state.Received), fmt.Sprint(state.Sent)})
	}
	p.TableIn("  ", []string{"PEER", "ADDRESSES", "HEARD", "FROM", "BYTES IN", "BYTES OUT"}, rows, 4, 5)
}

func addrWords(p change.Peer) []string {
	words := []string{}
	for _, a := range p.Addrs {
		words = append(words, a.String())
	}
	return words
}

// LineDoc is the document of a line.
type LineDoc struct {
	ResourceDoc
	Key    string    `json:"key,omitempty"` // none where it is no tunnel
	Port   int       `json:"port,omitempty"`
	Serves bool      `json:"serves"`
	Peers  []peerDoc `json:"peers"`
}

type peerDoc struct {
	Name      string     `json:"name"`
	Addresses []string   `json:"addresses"`
	Key       string     `json:"key"`
	Heard     *time.Time `json:"heard"`
	From      string     `json:"from,omitempty"`
	Received  int64      `json:"received"`
	Sent      int64      `json:"sent"`
}

// LineJSON is the document of a line.
func LineJSON(l Line) LineDoc {
	doc := LineDoc{ResourceJSON(l.Resource, l.State), l.Line.Key, l.Line.Port, l.Line.Serves, []peerDoc{}}
	for _, name := range slices.Sorted(maps.Keys(l.Resource.Spec.Peers)) {
		p, state := l.Resource.Spec.Peers[name], l.Line.Peers[name]
		one := peerDoc{name, addrWords(p), p.Key, moment(state.Heard), "", state.Received, state.Sent}
		if state.From.IsValid() {
			one.From = state.From.String()
		}
		doc.Peers = append(doc.Peers, one)
	}
	return doc
}
