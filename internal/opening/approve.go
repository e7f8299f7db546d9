package opening

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"ironbark/internal/estate"
	"ironbark/internal/flow"
	"ironbark/internal/sentence"
)

// judgeWaiting refuses what the same person has asked for already and waits for.
func (j *judge) judgeWaiting() {
	for _, a := range j.Alike {
		if a.Waits() && a.Person == j.Person && len(a.Parts) == 1 && a.Parts[0].SameFlows(j.part) {
			j.refuse(fmt.Sprintf("wait, or close %d and ask anew", a.ID), "your request %d for the same waits for approval already", a.ID)
		}
	}
}

// waiting is the request as it waits: its machines and addresses are fixed from now on, and
// its end is when it lapses.
func (j *judge) waiting() Opening {
	o := j.o
	o.ID = 0 // it extends nothing: what holds goes on until its own end
	if o.Words.Starting.IsZero() {
		o.Begin = j.Now
	}
	o.Waiting = Waiting{Needs: j.approvals.Approvals}
	for _, n := range j.approvals.Approvers {
		o.Waiting.From = append(o.Waiting.From, n.Text)
	}
	if o.Waiting.Length = j.Words.For.Length(); o.Waiting.Length == 0 {
		o.Waiting.Until = j.part.End
	}
	j.part.End = j.Now.Add(LapseTime).Truncate(time.Second)
	o.Parts = []Part{j.part}
	return o
}

// Window returns when an opening that waits begins and ends if its last approval comes at a time. Where a beginning was asked for the end stays
// where it was asked for, too.
func (o Opening) Window(approved time.Time) (begin, end time.Time) {
	begin, end = approved, o.Waiting.Until
	at := o.Words.Starting
	if at.After(approved) {
		begin = at
	}
	if o.Waiting.Length > 0 {
		end = approved.Add(o.Waiting.Length).Truncate(time.Second)
		if !at.IsZero() {
			end = at.Add(o.Waiting.Length).Truncate(time.Second)
		}
	}
	return begin, end
}

// MayApprove reports whether somebody may approve an opening that waits: anybody whom its
// permit names, but for whoever asked, each once.
func (o Opening) MayApprove(person string, e *estate.Estate) bool {
	if person == o.Person || !e.PersonKnown(person) || slices.ContainsFunc(o.Approvals, func(a Approval) bool { return a.Person == person }) {
		return false
	}
	return slices.ContainsFunc(o.Waiting.From, func(name string) bool { return e.Belongs(person, name) })
}

// Approved judges a request that has been approved once more: it waits on while it has too
// few approvals of people who may still give them, and is fully judged, by what is enacted
// by now, once it has enough. It can only have become narrower. The error is a
// *RefusalError.
func Approved(r Request, o Opening) (Granted, error) {
	valid := o
	valid.Approvals = slices.DeleteFunc(slices.Clone(o.Approvals), func(a Approval) bool {
		return a.Person == o.Person || !slices.ContainsFunc(o.Waiting.From, func(name string) bool { return r.Estate.Belongs(a.Person, name) })
	})
	if len(valid.Approvals) < o.Waiting.Needs {
		return Granted{Opening: o}, nil
	}
	j := &judge{Request: r, resolve: flow.NewResolver(r.Estate, r.Plan), o: o, part: o.Parts[0]}
	j.o.Waiting = Waiting{}
	j.o.Begin, j.part.End = o.Window(r.Now)
	j.part.Machines = slices.DeleteFunc(slices.Clone(j.part.Machines), func(m string) bool { _, there := r.Plan.MachineByName(m); return !there })
	if !j.part.End.After(r.Now) {
		j.refuse("", "its end %s is past by now", j.part.End.UTC().Format(time.RFC3339))
	}
	j.judgeTarget()
	j.judgeApproved(valid.Approvals)
	j.judgeGuarantees()
	if len(j.refusal.Reasons) > 0 {
		return Granted{}, &j.refusal
	}
	j.o.Words.For, j.o.Words.Until = sentence.Duration{}, j.part.End.UTC()
	j.o.Parts = []Part{j.part}
	return Granted{Opening: j.o, Notes: j.notes, Reached: j.reached}, nil
}

// judgeApproved looks for a permit that covers the request with the approvals that it has.
func (j *judge) judgeApproved(approvals []Approval) {
	var near []Reason
	for m := range j.Estate.PermitsOf(j.o.Person) {
		if m.Emergency || !j.near(m) {
			continue
		}
		lacks := j.lacks(m, j.part.End.Sub(j.o.Begin))
		has := 0
		for _, a := range approvals {
			if slices.ContainsFunc(m.Approvers, func(n sentence.Name) bool { return j.Estate.Belongs(a.Person, n.Text) }) {
				has++
			}
		}
		if has < m.Approvals {
			lacks = append(lacks, fmt.Sprintf("it needs %d approvals of its own people, and has %d", m.Approvals, has))
		}
		if len(lacks) == 0 {
			j.part.Permit = m.String()
			return
		}
		near = append(near, Reason{What: fmt.Sprintf("“%s” does not cover it: %s", m, strings.Join(lacks, "; "))})
	}
	j.refuse("", "no permit covers it any more")
	j.refusal.Reasons = append(j.refusal.Reasons, near...)
}
