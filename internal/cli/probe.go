package cli

import (
	"context"
	"fmt"

	"github.com/spf13/cobra"

	"ironbark/internal/driver"
	"ironbark/internal/work"
)

func (a *app) probeCommand() *cobra.Command {
	return &cobra.Command{
		Use: "probe SERVICE from ADDRESS to TARGET", Short: "Send a packet and tell what became of it",
		Long: "Send one packet through what is installed on the site, and tell what became of it. Unlike why, this uses\n" +
			"nothing of the analysis. Where several addresses lead there, each gets one. One from a machine to an address outside\n" +
			"tells whether it leaves the site.\n\nExit status 3: a packet did not get through, or nothing answers.",
		Example: "  ironbark probe ssh from me to gauge-web-1", ValidArgsFunction: a.completeSentence,
		RunE: a.with(func(ctx context.Context, w *work.Work, args []string) error {
			ask, err := a.question("probe", args)
			if err != nil {
				return err
			}
			st, err := w.Installed(ctx)
			if err != nil {
				return err
			}
			answer, err := w.Ask(st, ask, a.clock.Now())
			if err == nil {
				err = w.LookAtMembers(ctx, answer)
			}
			if err != nil {
				return err
			}
			return a.probe(ctx, w, answer)
		}),
	}
}

// probe sends a packet from each single source to each address of the targets.
func (a *app) probe(ctx context.Context, w *work.Work, q *work.Answer) error {
	if q.Outward {
		return a.probeOutward(ctx, w, q)
	}
	list := []packetDoc{}
	answered, led := 0, 0
	for _, source := range q.From.Runs() {
		from := source.Lo.Addr()
		if source.Lo != source.Hi {
			return usage("a packet has one source address, and “%s” is more", q.Ask.From)
		}
		for _, service := range q.Service.Runs() {
			if service.Lo != service.Hi {
				return usage("a packet is for one port, and “%s” is more", q.Ask.Services)
			}
			for _, d := range q.Calls(from) {
				fates, err := w.Site.Probe(ctx, driver.Packet{Source: from, Target: d.Address, Service: d.Calls(service.Lo)})
				if err != nil {
					return err
				}
				for _, f := range fates {
					called := d.Calls(service.Lo)
					sees, why := q.Sees(d, called, f.Open, f.Machine)
					if sees == "an answer" {
						answered++
					}
					if sees != work.NoConnection { // the front leads it to another
						led++
					}
					list = append(list, packetDoc{from.String(), d.Address.String(), called.String(), f.Open, f.Machine, f.Reason, f.By, sees, why})
				}
			}
		}
	}
	if err := a.packets(list, "there is no address of the target to send a packet to"); err != nil {
		return err
	}
	if answered == 0 || answered < led {
		return errNo
	}
	return nil
}

// probeOutward sends a packet from each machine asked about to the one address outside.
func (a *app) probeOutward(ctx context.Context, w *work.Work, q *work.Answer) error {
	to := q.From.Runs()[0].Lo
	if runs := q.From.Runs(); len(runs) > 1 || runs[0].Lo != runs[0].Hi {
		return usage("a packet goes to one address, and “%s” is more", q.Ask.To)
	}
	list := []packetDoc{}
	open := 0
	for _, service := range q.Service.Runs() {
		if service.Lo != service.Hi {
			return usage("a packet is for one port, and “%s” is more", q.Ask.Services)
		}
		for _, from := range q.Callers(to) {
			fates, err := w.Site.Probe(ctx, driver.Packet{Source: from, Target: to.Addr(), Service: service.Lo})
			if err != nil {
				return err
			}
			for _, f := range fates {
				if f.Open {
					open++
				}
				list = append(list, packetDoc{from.String(), to.Addr().String(), service.Lo.String(), f.Open, "", f.Reason, f.By, "", ""})
			}
		}
	}
	if err := a.packets(list, "no machine of these has an address of that family to call from"); err != nil {
		return err
	}
	if open == 0 || open < len(list) {
		return errNo
	}
	return nil
}

// packets tells what became of packets.
func (a *app) packets(list []packetDoc, none string) error {
	if a.json {
		return a.print.JSON(probesDoc{list})
	}
	for _, s := range list {
		if s.Sees == work.NoConnection {
			a.print.Wrap("        ", s.Silent)
			continue
		}
		word, text := "closed", fmt.Sprintf("%s from %s to %s", s.Service, s.Source, s.Address)
		if s.Open {
			word = a.print.Open("open")
		}
		if s.Machine != "" {
			text += ", arrived at " + s.Machine
		}
		text += ": " + s.Reason
		if s.By != "" {
			text += " “" + s.By + "”"
		}
		a.print.Wrap(word+"  ", text)
		if s.Silent != "" {
			a.print.Wrap("        ", fmt.Sprintf("%s it sees %s: %s", a.print.Bad("but nothing answers:"), s.Sees, s.Silent))
		}
	}
	if len(list) == 0 {
		a.print.Line("closed  %s", none)
	}
	return nil
}
