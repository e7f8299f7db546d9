package view

import (
	"fmt"
	"time"

	"ironbark/internal/driver"
	"ironbark/internal/estate"
	"ironbark/internal/flow"
)

// Session tells a session in words.
func Session(s driver.Session, now time.Time) string {
	text := fmt.Sprintf("%s to %s from %s", flow.PrintServices(flow.ServicesAt(s.Service), flow.Namings(nil, &estate.Estate{})), s.Machine, s.From)
	if !s.Since.IsZero() {
		text += ", since " + Moment(s.Since, now)
	}
	return text
}

// SessionDoc is a session as programs read it.
type SessionDoc struct {
	Machine string     `json:"machine"`
	From    string     `json:"from"`
	Service string     `json:"service"`
	Since   *time.Time `json:"since,omitempty"`
}

// SessionJSON is a session as programs read it.
func SessionJSON(s driver.Session) SessionDoc {
	d := SessionDoc{s.Machine, s.From.String(), s.Service.String(), nil}
	if !s.Since.IsZero() {
		since := s.Since.UTC()
		d.Since = &since
	}
	return d
}
