package rights_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"ironbark/internal/flow"
	"ironbark/internal/oracle"
	"ironbark/internal/rights"
	"ironbark/internal/sentence"
)

const nouns = `estate: small
site: sim
sources: {office: [%s]}
services: {sealog: %s}
limits: {opening: %s}
people: {mara: {groups: [%s]%s}, ilse: {groups: [leads, ops]}, tom: {groups: [ops]}%s}
networks:
  estuary: {space: [10.60.0.0/16], outside: true, subnets: {landing: {range: [10.60.1.0/24]}, lookout: {range: [10.60.9.0/27]}}}
machines:
  web-1: {image: i, size: s, at: landing, tags: {role: web}}
  web-2: {image: i, size: s, at: landing, tags: {role: %s}}
%sbastions: {beacon: {subnet: lookout, address: auto, from: [%s]}}
`

// world is an estate, compiled once.
type world struct {
	oracle.World
	plan    *flow.Plan
	resolve flow.Resolver
}

func worldOf(file string, rules ...string) world {
	w := world{World: oracle.WorldOf(file, rules...)}
	w.plan = w.Plan()
	w.resolve = flow.NewResolver(w.Estate, w.plan)
	return w
}

func (w world) state() rights.State { return rights.State{Estate: w.Estate, Plan: w.plan} }

// draw draws an estate in which names mean one thing or another.
func draw(t *rapid.T) world {
	pick := func(list ...string) string { return rapid.SampledFrom(list).Draw(t, "word") }
	var rules []string
	for range rapid.IntRange(0, 5).Draw(t, "sentences") {
		who, what := pick("ops", "leads", "mara", "tom, ilse"), pick("ssh", "ssh, rdp", "sealog", "any", "admin")
		to, from := pick("all", "web-1", "web-*", "role=web", "web-3"), pick("office", "everywhere", "203.0.113.64/28", "198.51.100.7")
		switch rapid.IntRange(0, 3).Draw(t, "verb") {
		case 0:
			rules = append(rules, fmt.Sprintf("route %s to %s via beacon for %s", what, to, who))
		case 1:
			rules = append(rules, fmt.Sprintf("permit %s to open %s to %s from %s up to %s needing %s approvals from %s", who, what, to, from, pick("1h", "2h"), pick("1", "2"), pick("leads", "ilse, mara")))
		default:
			rules = append(rules, fmt.Sprintf("permit %s to open %s to %s from %s up to %s%s", who, what, to, from, pick("1h", "2h"), pick("", " until "+ends[0], " until "+ends[1])))
		}
	}
	file := fmt.Sprintf(nouns, pick("203.0.113.64/27", "203.0.113.64/28", "198.51.100.0/24"), pick("tcp/5433", "tcp/15433"), pick("90m", "4h"), pick("ops", "leads", ""), pick("", ", until: "+ends[0], ", until: "+ends[1]),
		pick("", ", eve: {groups: [ops]}"), pick("web", "db"), pick("", "  web-3: {image: i, size: s, at: landing}\n"), pick("office", "everywhere"))
	return worldOf(file, rules...)
}

// ends are those that people and permits may have; moments are before the first, between them, and after.
var (
	ends    = []string{"2026-12-01T00:00:00Z", "2026-12-02T00:00:00Z"}
	moments = []time.Time{oracle.Epoch, time.Date(2026, 12, 1, 0, 0, 0, 0, time.UTC), time.Date(2026, 12, 2, 0, 0, 0, 0, time.UTC)}
)

// asked is one thing that somebody might do.
type asked struct {
	at        time.Time
	kind      rights.Kind
	person    string
	machine   string
	service   flow.Service
	from      flow.Point
	length    time.Duration
	approvals int // that are had
}

// may judges one thing by the words of each sentence alone.
func may(w world, a asked) bool {
	m, there := w.plan.MachineByName(a.machine)
	if end := w.Estate.EndOf(a.person); !w.Estate.PersonKnown(a.person) || !there || !end.IsZero() && !a.at.Before(end) {
		return false
	}
	one := func(names []sentence.Name) bool {
		return slices.ContainsFunc(names, func(n sentence.Name) bool { return w.Estate.Belongs(a.person, n.Text) })
	}
	speaks := func(services sentence.Services, to, from sentence.Set) bool {
		return w.resolve.Services(services).Contains(a.service) && w.resolve.Group(to).Has(m) && w.resolve.Source(from).Contains(a.from)
	}
	for _, st := range w.Estate.Sentences() {
		switch s := st.Sentence.(type) {
		case sentence.Permit:
			fits := speaks(s.Services, s.To, s.From) && !sentence.Ended(s, a.at)
			if a.kind == rights.Open && fits && one(s.People) && a.length <= min(s.UpTo.Length(), w.Estate.Limits.Opening()) && s.Approvals <= a.approvals {
				return true
			}
			if a.kind == rights.Approve && fits && s.Approvals > 0 && one(s.Approvers) {
				return true
			}
		case sentence.Route:
			forwarded := a.service <= flow.TCPPort(65535) && a.from.Addr().Is4() // by a gateway that has IPv4 alone
			if a.kind == rights.Reach && forwarded && one(s.For) && speaks(s.Services, s.To, w.Estate.Bastions[0].From) {
				return true
			}
		}
	}
	return false
}

func told(list []rights.Right, a asked) bool {
	return slices.ContainsFunc(list, func(r rights.Right) bool {
		return r.Kind == a.kind && slices.Contains(r.People, a.person) && slices.Contains(r.Machines, a.machine) &&
			r.Flows.Services.Contains(a.service) && r.Flows.From.Contains(a.from) && a.length <= r.Length && r.Approvals <= a.approvals && (r.Until.IsZero() || a.at.Before(r.Until))
	})
}

// TestRightsDifferByWhatSomebodyMay compares the difference of two estates with trying
// everything in both.
func TestRightsDifferByWhatSomebodyMay(t *testing.T) {
	differ := 0
	rapid.Check(t, func(t *rapid.T) {
		a, b, at := draw(t), draw(t), rapid.SampledFrom(moments).Draw(t, "at")
		own := a.plan.Own().Union(b.plan.Own())
		d := rights.Compare(a.state(), b.state())
		for _, r := range slices.Concat(d.Gained, d.Lost) {
			require.False(t, r.Flows.From.Overlaps(own), "what is the estate's own is no source")
			differ++
		}
		for _, person := range []string{"mara", "ilse", "tom", "eve"} {
			for _, machine := range []string{"web-1", "web-2", "web-3"} {
				for _, service := range []flow.Service{flow.TCPPort(22), flow.TCPPort(3389), flow.TCPPort(5433), flow.TCPPort(15433), flow.TCPPort(80), flow.UDPPort(3389), flow.Ping} {
					for _, from := range []string{"203.0.113.65", "203.0.113.90", "198.51.100.7", "192.0.2.1", "2001:db8:9::1"} {
						address, err := sentence.ParseAddress(from)
						require.NoError(t, err)
						for _, one := range []asked{
							{kind: rights.Open, length: time.Hour},
							{kind: rights.Open, length: 2 * time.Hour},
							{kind: rights.Open, length: 90 * time.Minute, approvals: 1},
							{kind: rights.Open, length: time.Hour, approvals: 2},
							{kind: rights.Reach},
							{kind: rights.Approve},
						} {
							one.at, one.person, one.machine, one.service, one.from = at, person, machine, service, flow.PointOf(address)
							if own.Contains(one.from) {
								continue
							}
							was, is := may(a, one), may(b, one)
							_, left := b.plan.MachineByName(machine)
							words := strings.Join([]string{a.Text, b.Text}, "\n=====\n")
							if is && !was {
								require.True(t, told(d.Gained, one), "%+v\n%s", one, words)
							}
							if was && !is && left {
								require.True(t, told(d.Lost, one), "%+v\n%s", one, words)
							}
							if was == is && told(d.Gained, one) {
								require.True(t, gainsMore(a, b, one), "%+v is told as gained\n%s", one, words)
							}
						}
					}
				}
			}
		}
	})
	require.Positive(t, differ)
}

// gainsMore reports whether somebody may do a thing more generously than before, of which
// what was asked is a part: for longer, or with fewer approvals.
func gainsMore(a, b world, one asked) bool {
	for _, length := range []time.Duration{time.Hour, 90 * time.Minute, 2 * time.Hour} {
		for approvals := range 3 {
			for _, at := range moments {
				more := one
				more.length, more.approvals = max(one.length, length), min(one.approvals, approvals)
				if more.at = at; !at.Before(one.at) && may(b, more) && !may(a, more) {
					return true
				}
			}
		}
	}
	return false
}

func TestClosingForOthersIsARight(t *testing.T) {
	of := func(people string) rights.State {
		return worldOf("estate: small\nsite: sim\npeople: {" + people + "}\nnetworks: {estuary: {space: [10.60.0.0/16]}}\n").state()
	}
	d := rights.Compare(of("mara: {groups: [ops]}, tom: {groups: [leads]}"), of("mara: {groups: [leads]}"))
	require.Equal(t, []rights.Right{{Kind: rights.Close, People: []string{"mara"}}}, d.Gained)
	require.Equal(t, []rights.Right{{Kind: rights.Close, People: []string{"tom"}}}, d.Lost)
	require.True(t, rights.Compare(of("mara: {}"), of("mara: {}")).IsEmpty())

	// Without a lead everybody may: that is a right that all others gain, or lose with the first lead.
	led, unled := of("mara: {groups: [ops]}, tom: {groups: [leads]}, uwe: {}"), of("mara: {groups: [ops]}, tom: {}, uwe: {}")
	d = rights.Compare(led, unled)
	require.Equal(t, []rights.Right{{Kind: rights.Close, People: []string{"mara", "uwe"}}}, d.Gained)
	require.Empty(t, d.Lost, "tom may as before")
	require.Equal(t, d.Gained, rights.Compare(unled, led).Lost)
	for _, s := range []rights.State{led, unled} {
		for _, p := range []string{"mara", "tom", "uwe", "nobody"} {
			listed := slices.ContainsFunc(rights.Of(p, s), func(r rights.Right) bool { return r.Kind == rights.Close })
			require.Equal(t, rights.MayClose(p, s.Estate), listed, p)
		}
	}
}

// TestRightsAreToldByPersonAndByMachine lists them both ways.
func TestRightsAreToldByPersonAndByMachine(t *testing.T) {
	file := func(leads string) string {
		return fmt.Sprintf(nouns, "203.0.113.64/27", "tcp/5433", "4h", leads, "", "", "db", "", "office")
	}
	w := worldOf(file("ops"), "permit ops to open ssh to web-1 from office up to 1h needing 1 approval from leads", "permit tom to open rdp to role=none from office up to 1h", "route ssh to web-2 via beacon for tom")
	words := func(list []rights.Right) (words []string) {
		for _, r := range list {
			words = append(words, fmt.Sprint(r.Kind, r.Machines, r.People))
		}
		return words
	}
	require.Equal(t, []string{"open [web-1] [tom]", "reach [web-2] [tom]"}, words(rights.Of("tom", w.state())), "a permit to no machine is no right")
	require.Equal(t, []string{"open [web-1] [ilse]", "approve [web-1] [ilse]", "close [] [ilse]"}, words(rights.Of("ilse", w.state())))
	require.Empty(t, rights.Of("eve", w.state()))
	require.Equal(t, []string{"open [web-1] [mara ilse tom]", "approve [web-1] [ilse]"}, words(rights.At("web-1", w.state())))
	require.Equal(t, []string{"reach [web-2] [tom]"}, words(rights.At("web-2", w.state())))
	require.Empty(t, rights.At("web-3", w.state()))

	more := worldOf(file("leads"))
	d := rights.Compare(worldOf(file("ops")).state(), more.state())
	require.Equal(t, []string{"close [] [mara]"}, words(d.Gained))
	require.False(t, d.IsEmpty())
	back := rights.Compare(more.state(), worldOf(file("ops")).state())
	require.Equal(t, words(d.Gained), words(back.Lost))
	require.False(t, back.IsEmpty())
	require.True(t, rights.Compare(more.state(), more.state()).IsEmpty())

	// So is to approve edits, and where nobody is left a right is told to nobody.
	edits := func(from string) rights.State {
		return worldOf(file("ops") + "edits: {approvals: 1, from: [" + from + "]}\n").state()
	}
	none := worldOf(file("ops")).state()
	require.Equal(t, []string{"approve-edits [] [tom]"}, words(rights.Of("tom", edits("tom"))))
	require.Equal(t, []string{"approve-edits [] [ilse mara tom]"}, words(rights.Compare(none, edits("ops")).Gained))
	moved := rights.Compare(edits("tom"), edits("mara"))
	require.Equal(t, []string{"approve-edits [] [mara]", "approve-edits [] [tom]"}, append(words(moved.Gained), words(moved.Lost)...))
	require.False(t, moved.IsEmpty())
	over := worldOf(strings.Replace(file("ops"), "tom: {groups: [ops]", "tom: {groups: [ops], until: "+ends[0], 1), "permit tom to open ssh to web-1 from office up to 1h").state()
	require.NotEmpty(t, rights.At("web-1", over))
	over.Estate = over.Estate.AsOf(moments[1])
	require.Empty(t, rights.At("web-1", over))

	// What lasts longer is more.
	until := func(person, permit string) rights.State {
		return worldOf(strings.Replace(file("ops"), "tom: {groups: [ops]", "tom: {groups: [ops]"+person, 1), "permit ops to open ssh to web-1 from office up to 1h"+permit).state()
	}
	for _, c := range []struct{ before, after [2]string }{
		{[2]string{", until: " + ends[0], ""}, [2]string{"", ""}},
		{[2]string{", until: " + ends[0], ""}, [2]string{", until: " + ends[1], ""}},
		{[2]string{"", " until " + ends[0]}, [2]string{"", " until " + ends[1]}},
		{[2]string{", until: " + ends[0], " until " + ends[1]}, [2]string{"", " until " + ends[1]}},
	} {
		before, after := until(c.before[0], c.before[1]), until(c.after[0], c.after[1])
		gained := rights.Compare(before, after)
		require.Contains(t, fmt.Sprint(words(gained.Gained)), "tom", "%v", c)
		require.Empty(t, gained.Lost)
		lost := rights.Compare(after, before)
		require.Equal(t, words(gained.Gained), words(lost.Lost))
		require.Empty(t, lost.Gained)
	}
	same := rights.Compare(until(", until: "+ends[1], " until "+ends[0]), until("", " until "+ends[0]))
	require.True(t, same.IsEmpty(), "the permit ends it anyway")
}

// TestDeniesTakeRights adds denies to drawn estates: what somebody may open and is denied from then on is lost, exactly, and taking the denies
// away gives it back. Whoever asks for denies alone hears the same of what may be opened.
func TestDeniesTakeRights(t *testing.T) {
	differ := 0
	rapid.Check(t, func(t *rapid.T) {
		a := draw(t)
		denies := func(of string) (list []sentence.Statement) {
			for range rapid.IntRange(0, 2).Draw(t, of) {
				pick := func(list ...string) string { return rapid.SampledFrom(list).Draw(t, "word") }
				s, err := sentence.ParseArgs([]string{"deny " + pick("ssh", "any", "sealog", "any except ssh") + " from " + pick("office", "198.51.100.0/24", "everywhere") + " to " + pick("all", "web-1", "web-*")}, time.Time{})
				require.NoError(t, err)
				list = append(list, sentence.Statement{Sentence: s})
			}
			return list
		}
		common := denies("common")
		with := func(w world, more ...sentence.Statement) world {
			for _, st := range more {
				w.Estate = w.Estate.With(st)
			}
			w.plan = w.Plan()
			w.resolve = flow.NewResolver(w.Estate, w.plan)
			return w
		}
		before := with(a, common...)
		after := with(before, denies("new")...)
		lost, regained := rights.Compare(before.state(), after.state()), rights.Compare(after.state(), before.state())
		require.Empty(t, lost.Gained)
		require.Empty(t, regained.Lost)
		require.Equal(t, lost, rights.CompareDenies(before.state(), after.state()))
		differ += len(lost.Lost)
		denied := func(w world, one asked) bool {
			m, there := w.plan.MachineByName(one.machine)
			return there && slices.ContainsFunc(w.plan.Rules, func(r flow.Rule) bool {
				return r.Kind == flow.Deny && r.To.Has(m) && r.Services.Contains(one.service) && r.From.Contains(one.from)
			})
		}
		for _, person := range []string{"mara", "tom"} {
			for _, machine := range []string{"web-1", "web-2", "web-3"} {
				for _, service := range []flow.Service{flow.TCPPort(22), flow.TCPPort(5433), flow.Ping} {
					for _, from := range []string{"203.0.113.65", "203.0.113.90", "198.51.100.7", "2001:db8:9::1"} {
						address, err := sentence.ParseAddress(from)
						require.NoError(t, err)
						one := asked{kind: rights.Open, length: time.Hour, at: oracle.Epoch, person: person, machine: machine, service: service, from: flow.PointOf(address)}
						if before.plan.Own().Contains(one.from) {
							continue
						}
						takes := may(before, one) && !denied(before, one) && denied(after, one)
						require.Equal(t, takes, told(lost.Lost, one), "%+v\n%s", one, before.Text)
						require.Equal(t, takes, told(regained.Gained, one), "%+v\n%s", one, before.Text)
					}
				}
			}
		}
	})
	require.NotZero(t, differ)
}
