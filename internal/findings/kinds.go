package findings

import (
	"maps"
	"slices"
)

// Kind says what a finding is of, for programs.
type Kind string

// The kinds.
const (
	Ended           Kind = "ended"            // a sentence whose end has passed
	Empty           Kind = "empty"            // a sentence whose words stand for nothing
	Guarded         Kind = "guarded"          // an allow that names what is administrative
	Standing        Kind = "standing"         // a standing exception
	NoDoor          Kind = "no-door"          // a sentence of flows to which no door leads
	NoFamily        Kind = "no-family"        // addresses of a family that leads nowhere
	Useless         Kind = "useless-door"     // a door by which nobody gets in
	Nobody          Kind = "nobody"           // a group without members
	NoAdministrator Kind = "no-administrator" // a machine that nobody has a way to administer
	NoLogin         Kind = "no-login"         // a machine that nobody can log in to
	TooLong         Kind = "too-long"         // a permit beyond the estate's limits
	Private         Kind = "private-service"  // a service hardly ever meant for everybody, open to the internet
	AnyService      Kind = "any-service"      // any service from the internet
	WideSource      Kind = "wide-source"      // a permit from the whole internet
	WideBastion     Kind = "wide-bastion"     // a bastion that answers everywhere
	Unusable        Kind = "unusable-permit"  // a permit that nobody can use
	NoPorts         Kind = "no-ports"         // a front that leads nowhere
	NeverPasses     Kind = "never-passes"     // a test that no machine can pass
	AdminElsewhere  Kind = "admin-elsewhere"  // a port to which administrative services are often moved
	OpenAnyway      Kind = "open-anyway"      // an allow of what a network leaves open to its machines
	NoNames         Kind = "no-names"         // machines that cannot ask the servers that they are told for names
	EndsSoon        Kind = "ends-soon"        // a standing exception, or a right, near its end
	EndedRight      Kind = "ended-right"      // a person, or a key, whose end has come
	OneFamily       Kind = "one-family"       // a sentence of one family of addresses where doors lead there from both
	UnusedPermit    Kind = "unused-permit"    // a permit that nobody has used for long
	WiderThanUsed   Kind = "wider-than-used"  // a sentence that was used from far fewer addresses than it is for
	UnneededAddress Kind = "unneeded-address" // a public address for which a bastion would do
	ConsoleOpen     Kind = "console-open"     // a console that is open for a while
	LooseKey        Kind = "loose-key"        // a private key that others can read
	OneKey          Kind = "one-key"          // a key that opens every machine
	OldImage        Kind = "old-image"        // an image of long ago
	Crowded         Kind = "crowded"          // a machine, or a site, that has nearly all the connections that it may have
	HostReached     Kind = "host-reached"     // services of the site's host that machines may call
	NoSecond        Kind = "no-second"        // too few people who may approve edits
)

// Title tells in words what findings of the kind have in common, where each has words of its own; "" where they have not.
func (k Kind) Title() string {
	switch k {
	case Empty:
		return "words stand for nothing, so the sentence does nothing"
	case Guarded:
		return "administrative services stay closed to an “allow” and to a door's “from”"
	case Ended:
		return "the sentence has ended, and does nothing"
	case Standing:
		return "an administrative service is left open until a sentence ends"
	case NoFamily:
		return "a source has addresses of a family from which no door leads there"
	case Nobody:
		return "nobody is in a group"
	case TooLong:
		return "a permit is for longer than the estate's limit, and grants no more than that"
	case Private:
		return "a service is hardly ever meant for the whole internet"
	case NeverPasses:
		return "no machine can pass a test"
	case EndsSoon:
		return "an exception or a right ends soon"
	case AdminElsewhere:
		return "administrative services are often moved to a port, and count as such only where the estate says so"
	}
	return ""
}

// meaning is what a kind of finding is of, and why it matters.
type meaning struct{ what, why string }

var meanings = map[Kind]meaning{
	Ended:           {"a sentence has ended", "Whoever reads the rules takes it for one that holds. What stays in the files for no reason hides what matters."},
	Empty:           {"words stand for nothing", "Whoever wrote the sentence meant something by it. What it was to open is closed, and what it was to close may be open."},
	Guarded:         {"an allow names what is administrative", "An allow never opens it, so the sentence does less than it says. Whoever counts on it is shut out, or takes it for open."},
	Standing:        {"an administrative service is left open", "Everybody whom the sentence names can try passwords and known faults of the service at any time until it ends, whether or not anybody needs it."},
	NoDoor:          {"no door leads there", "The sentence opens nothing: packets have no way to the machine. It would begin to, unnoticed, as soon as somebody adds a public address or a port."},
	NoFamily:        {"a family of addresses leads nowhere", "People who come from those addresses are shut out although the sentence names them, and cannot tell why."},
	Useless:         {"a door lets nobody in", "The port can be seen from outside and answers nobody. It would lead in, unnoticed, with the next sentence about the machine."},
	Nobody:          {"a group has no members", "Nobody can use the right, nor give the approval that others wait for. Whoever joins a group of that name has it at once."},
	NoAdministrator: {"nobody can administer a machine", "When it must be mended in a hurry, somebody opens it in a way that nobody has thought through."},
	NoLogin:         {"nobody can log in to a machine", "Its ports may be opened, and nobody gets in: it has neither a key nor a password."},
	TooLong:         {"a permit is for too long", "It grants less than it says, so people plan with time that they will not get."},
	Private:         {"a private service is open to the internet", "Such services are searched for on all of the internet day and night, and many ask for no password or have known faults."},
	AnyService:      {"every service is open to the internet", "Whatever is started on the machine later is open to everybody from its first moment, too."},
	WideSource:      {"a permit lets people open to the whole internet", "What is open to the whole internet is tried at once. Where people come from is mostly known."},
	WideBastion:     {"a bastion answers the whole internet", "Its gateway is the one door that is always there. Whoever cannot reach it cannot try keys at it."},
	Unusable:        {"nobody can use a permit", "Whoever counts on it learns in an emergency that it opens nothing."},
	NoPorts:         {"a front leads nowhere", "It costs money, and its public address may still be known to others by name."},
	NeverPasses:     {"no machine can pass a test", "The front takes every machine for dead and leads nowhere, though all is well with them."},
	AdminElsewhere:  {"an administrative service may be open under another port", "Ports other than the usual ones are searched too. Where the estate says that the port is administrative, it is closed by default like the others."},
	OpenAnyway:      {"a network leaves open what a sentence allows", "The sentence looks as if it kept the rest closed, and does not."},
	NoNames:         {"machines cannot resolve names", "Whatever they do with a name fails slowly, and looks like a fault of something else."},
	EndsSoon:        {"an end is near", "Whoever works by it is shut out at that moment, and mostly learns it then."},
	EndedRight:      {"a right has ended", "Who or what has ended and still stands in the files is taken for one that holds. A key goes on opening machines over SSH until it is taken out of them."},
	OneFamily:       {"a family of addresses is left out", "Machines that have both are reached over either. A deny of one is passed by coming over the other, and people who have the other only are shut out."},
	UnusedPermit:    {"nobody uses a permit", "A right that nobody needs is one that somebody else may come to use: who left, or whose key was copied."},
	WiderThanUsed:   {"a sentence is wider than it is used", "Whoever else it lets in can only be somebody whom nobody expects. Where it is used from is known by now."},
	UnneededAddress: {"a public address is not needed", "A machine without one cannot be reached from outside by any mistake, and costs less."},
	ConsoleOpen:     {"a console is open", "It leads past every rule of the network to a prompt for a password."},
	LooseKey:        {"a private key can be read by others", "Whoever reads it can log in wherever it opens, and nobody can tell the two apart."},
	OneKey:          {"one key opens every machine", "Whoever gets hold of it has all of them at once, and to change it all of them must be changed."},
	Crowded:         {"connections run out", "New connections to the machine are dropped when it has as many as it may have. A machine that holds many may be under attack, or attack others."},
	HostReached:     {"machines reach the site's host", "A machine that somebody took over can attack whatever listens there. The host holds all other machines."},
	NoSecond:        {"too few people may approve edits", "Nothing that opens anything can be enacted then, and neither can what would change that."},
	OldImage:        {"an image is old", "Machines that begin with it begin with the faults that were mended since."},
}

// What tells in a few words what findings of the kind are of.
func (k Kind) What() string { return meanings[k].what }

// Why tells why findings of the kind matter.
func (k Kind) Why() string { return meanings[k].why }

// Kinds lists all kinds, in order.
func Kinds() []Kind { return slices.Sorted(maps.Keys(meanings)) }
