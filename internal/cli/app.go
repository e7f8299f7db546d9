// Package cli is Ironbark's command line: each command reads its arguments,
// calls a service of package work, and hands the value to package view.
package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"net/netip"
	"os"
	"os/user"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"ironbark/internal/cli/view"
	"ironbark/internal/clientnet"
	"ironbark/internal/driver"
	"ironbark/internal/driver/sim"
	"ironbark/internal/fault"
	"ironbark/internal/ledger/sqlite"
	"ironbark/internal/sentence"
	"ironbark/internal/site"
	"ironbark/internal/stun"
	"ironbark/internal/work"
)

// The exit statuses that commands give themselves; docs/commands.md tells all of them.
const (
	exitDone      = 0
	exitFailed    = 1
	exitWords     = 2
	exitNo        = 3
	exitUnconfirm = 4
	exitChanged   = 5
	exitDenied    = 6
)

// app is one run of the program.
type app struct {
	in       io.Reader
	lines    *bufio.Reader // over in, once a line was read from it
	terminal bool          // somebody can be asked
	print    *view.Printer
	clock    driver.Clock

	sim    *sim.Site      // the stand-in cloud, for the commands that play with it
	ledger *sqlite.Ledger // of the estate that is open, for backups

	estateDir string
	person    string
	json      bool
	review    *view.ReviewDoc // for the document of what an edit came to
	drain     time.Duration   // how long connections by fronts may take to end
	demo      bool            // the estate is not one of the person's own
}

// errNo is the answer no: everything is told already, and the exit status is 3.
var errNo = errors.New("no")

// errFailed says that something failed, and all is told already.
var errFailed = errors.New("failed")

// errUnconfirmed says that a confirmation is missing or was refused.
var errUnconfirmed = errors.New("not confirmed")

// usageError is a mistake in a command's words.
type usageError struct {
	err     error
	command string // the one that does not take them; "": there is no such command
}

func (u *usageError) Error() string { return u.err.Error() }
func (u *usageError) Unwrap() error { return u.err }

// Kind is that of words that are wrong.
func (u *usageError) Kind() fault.Kind { return fault.Invalid }

// Advice says what to do.
func (u *usageError) Advice() fault.Advice {
	if u.command == "" {
		return fault.Run("help").Say(" tells the commands")
	}
	return fault.Run("help", strings.Fields(u.command)...).Say(" tells what it takes")
}

func usage(format string, args ...any) error { return &usageError{err: fmt.Errorf(format, args...)} }

// wrong is a mistake in what words name: a thing or a file that is not there, an
// answer that is refused.
func wrong(format string, args ...any) error {
	return &sentence.Error{Problem: fmt.Sprintf(format, args...)}
}

// Main runs the program and returns its exit status.
func Main(args []string, in io.Reader, out, errOut io.Writer) int {
	a := &app{in: in, drain: work.DrainTime, print: &view.Printer{Out: out, Err: errOut, Width: width(out), Colour: colour(out)}}
	if f, ok := out.(*os.File); ok {
		a.print.ToTerminal = term.IsTerminal(int(f.Fd()))
	}
	if f, ok := errOut.(*os.File); ok && term.IsTerminal(int(f.Fd())) {
		a.print.ErrWidth = width(errOut)
	}
	if f, ok := in.(*os.File); ok {
		a.terminal = term.IsTerminal(int(f.Fd()))
	}
	args = remoteCommand(args)
	clock, err := newClock(os.Getenv("IRONBARK_CLOCK"))
	if err != nil {
		a.print.Error(err)
		return exitWords
	}
	a.clock = clock
	if asksForJSON(args) {
		a.print.Told = &[]string{}
	}
	root := a.root()
	root.SetArgs(hideReasons(args))
	root.SetIn(in)
	root.SetOut(out)
	root.SetErr(errOut)
	command, err := root.ExecuteContextC(context.Background())
	if wrong, ok := errors.AsType[*usageError](err); ok && command != root {
		wrong.command = strings.TrimPrefix(command.CommandPath(), "ironbark ")
	}
	status := a.status(err)
	if a.print.Told != nil && a.print.Documents == 0 {
		if err := a.print.JSON(a.result(err, status)); err != nil && status == exitDone {
			return exitFailed
		}
	}
	return status
}

// asksForJSON reports whether a document is asked for, also where the rest of the words is
// wrong.
func asksForJSON(args []string) bool {
	for i, arg := range args {
		if arg == "--" || strings.HasPrefix(arg, "__complete") {
			return false
		}
		if (arg == "--json" || arg == "--json=true") && (i == 0 || args[i-1] != "because") {
			return true
		}
	}
	return false
}

// reasonMark stands before a reason, so that one that begins with a hyphen is
// not taken for an option.
const reasonMark = "\x01"

// hideReasons marks each argument after because: it is the whole reason, whatever is in it.
func hideReasons(args []string) []string {
	out := slices.Clone(args)
	for i := 1; i < len(out) && !strings.HasPrefix(out[0], "__complete"); i++ {
		if args[i-1] == "because" {
			out[i] = reasonMark + out[i]
		}
	}
	return out
}

// words takes the marks off again.
func words(args []string) []string {
	out := make([]string, len(args))
	for i, a := range args {
		out[i] = strings.TrimPrefix(a, reasonMark)
	}
	return out
}

// exitOf is the exit status of an error of a kind.
var exitOf = map[fault.Kind]int{
	fault.Done: exitDone, fault.Failure: exitFailed, fault.Partial: exitFailed,
	fault.Invalid: exitWords, fault.NotFound: exitWords, fault.Unsupported: exitWords,
	fault.Unavailable: exitNo, fault.Conflict: exitChanged, fault.Waiting: exitChanged, fault.Denied: exitDenied,
}

// printRest prints what is joined to an errFailed.
func (a *app) printRest(err error) {
	if list, several := err.(interface{ Unwrap() []error }); several {
		for _, one := range list.Unwrap() {
			a.printRest(one)
		}
		return
	}
	if !errors.Is(err, errFailed) {
		a.print.Error(err)
	}
}

// ownFailureError is a failure of Ironbark's in a command whose exit status is that of a program on a machine. Its own status shows which of them failed.
type ownFailureError struct{ error }

func (o ownFailureError) Unwrap() error { return o.error }

// exitOwn is the exit status of an ownFailureError. Programs seldom end with it.
const exitOwn = 255

// status tells an error and returns the exit status that goes with it.
func (a *app) status(err error) int {
	if own, ok := err.(ownFailureError); ok {
		a.status(own.error)
		return exitOwn
	}
	switch {
	case err == nil:
		return exitDone
	case errors.Is(err, errNo):
		return exitNo
	case errors.Is(err, errUnconfirmed):
		return exitUnconfirm
	case errors.Is(err, errFailed):
		a.printRest(err)
		return exitFailed
	}
	if status, ok := errors.AsType[remoteStatusError](err); ok && int(status) > 0 {
		return int(status)
	}
	a.print.Error(err)
	if advice := adviceOf(err); !advice.IsZero() {
		a.print.NoteWrap("    ", view.Advice(advice))
	}
	return exitOf[fault.KindOf(err)]
}

// adviceOf returns the advice of the error that says the kind of err: one that is wrapped deeper is about a part of it.
func adviceOf(err error) fault.Advice {
	own, ok := errors.AsType[fault.Fault](err)
	if !ok {
		return fault.AdviceOf(err)
	}
	if advised, ok := own.(fault.Advised); ok {
		return advised.Advice()
	}
	return fault.Advice{}
}

// width tells how many columns there are: COLUMNS, the terminal's, or 100.
func width(out io.Writer) int {
	if n, err := strconv.Atoi(os.Getenv("COLUMNS")); err == nil && n > 0 {
		return n
	}
	if f, ok := out.(*os.File); ok {
		if n, _, err := term.GetSize(int(f.Fd())); err == nil && n > 0 {
			return n
		}
	}
	return 100
}

func colour(out io.Writer) bool {
	f, ok := out.(*os.File)
	return ok && term.IsTerminal(int(f.Fd())) && os.Getenv("NO_COLOR") == "" && os.Getenv("TERM") != "dumb"
}

// folder is that of the estate that the command is about.
func (a *app) folder() (work.Folder, error) {
	if a.estateDir == "" {
		return work.FindFolder(".")
	}
	return work.FolderAt(a.estateDir)
}

// work opens the estate that the command is about.
func (a *app) work() (*work.Work, func(), error) {
	folder, err := a.folder()
	if err != nil {
		return nil, nil, err
	}
	return a.workIn(folder)
}

func (a *app) workIn(folder work.Folder) (*work.Work, func(), error) {
	person, err := a.whoever()
	if err != nil {
		return nil, nil, err
	}
	s, err := a.siteOf(folder)
	if err != nil {
		return nil, nil, err
	}
	closeSite := func() {
		if err := s.Close(); err != nil {
			a.print.Error(err)
		}
	}
	now, behind, err := s.Now(context.Background())
	if err == nil && now.After(a.clock.Now()) { // the site's clock never goes back
		a.clock = &lateClock{Clock: a.clock, least: now}
	}
	if behind > 0 {
		a.print.Note("%s", a.print.Bad("the clock went back by "+sentence.DurationOf(behind).String()+":")+" nothing is opened or enacted, and openings pass no longer than they would have; set it, or: ironbark acknowledge clock")
	}
	told := func(text string) { a.print.NoteWrap(a.print.Bad("not as it was recorded")+"  ", text) }
	w := &work.Work{Folder: folder, Site: s, Clock: a.clock, Person: person, Caller: a.caller(s), Keyring: a.keyring(), Told: told, AllFindings: a.json}
	w.Accepts = a.accepts(w)
	if a.sim != nil {
		w.ServeOne = a.serveOne(w)
	}
	return w, closeSite, nil
}

// caller tells what “me” stands for at a site.
func (a *app) caller(s *site.Site) *work.Caller {
	return &work.Caller{
		Site:    func() ([]netip.Addr, error) { return a.clientAddrsAt(s) },
		Session: sshSession(),
		Ask:     func(server string) ([]netip.Addr, error) { return stun.Addrs(context.Background(), server) },
		Tell:    func(text string) { a.print.NoteWrap("", text) },
	}
}

// sshSession returns the address from which the SSH session that this process is in comes, by SSH_CONNECTION (sshd(8)); the zero Addr outside of one.
func sshSession() netip.Addr {
	from, _, _ := strings.Cut(os.Getenv("SSH_CONNECTION"), " ")
	a, err := netip.ParseAddr(from)
	if err != nil {
		return netip.Addr{}
	}
	return a.Unmap().WithZone("")
}

// clientAddrsAt are the addresses from which a site sees the caller. In a network of the stand-in cloud's clients they are the addresses there.
func (a *app) clientAddrsAt(s *site.Site) ([]netip.Addr, error) {
	if a.sim != nil {
		if own := clientnet.Own(); len(own) > 0 {
			return own, nil
		}
	}
	return s.ClientAddrs(context.Background())
}

// with runs a command's work on the estate.
func (a *app) with(do func(ctx context.Context, w *work.Work, args []string) error) func(*cobra.Command, []string) error {
	return func(c *cobra.Command, args []string) error {
		w, done, err := a.work()
		if err != nil {
			return err
		}
		defer done()
		err = do(c.Context(), w, words(args))
		a.tellInPassing(w)
		return err
	}
}

// whoever is the person at the keyboard: --person, or the operating system's user.
func (a *app) whoever() (string, error) {
	if a.person != "" { // the journal has it, so it can be read as no other name
		if err := sentence.ValidName(a.person); err != nil {
			return "", usage("--person: %v", err)
		}
		return a.person, nil
	}
	u, err := user.Current()
	if err != nil {
		return "", usage("cannot tell who you are: say --person NAME")
	}
	return personName(u.Username), nil
}

// personName makes a name that an estate can hold of a user name.
func personName(text string) string {
	name := strings.Map(func(r rune) rune {
		switch {
		case r >= 'a' && r <= 'z', r >= '0' && r <= '9', r == '-':
			return r
		case r >= 'A' && r <= 'Z':
			return r + ('a' - 'A')
		}
		return '-'
	}, text)
	name = strings.TrimLeft(name, "-0123456789")
	if sentence.ValidName(name) != nil {
		return "me-" + name
	}
	return name
}

// confirm asks a question. Without a terminal and without yes nothing is done.
func (a *app) confirm(yes bool, question string) error {
	if yes {
		return nil
	}
	if !a.terminal {
		a.print.Note("not done: there is nobody to ask; --yes answers the question")
		return errUnconfirmed
	}
	return a.ask(question+" [yes/no]", "y", "yes")
}

// confirmWord asks a question whose answer is a certain word.
func (a *app) confirmWord(yes bool, question, word string) error {
	if yes {
		return nil
	}
	if !a.terminal {
		a.print.Note("not done: there is nobody to ask; --name %s answers the question", word)
		return errUnconfirmed
	}
	return a.ask(question, word)
}

// clock is the real one, or one that stands still at a moment and moves only
// when somebody waits: for tests and stories on the stand-in cloud.
type realClock struct{}

func (realClock) Now() time.Time { return time.Now() }

func (realClock) Sleep(ctx context.Context, d time.Duration) error {
	t := time.NewTimer(d)
	defer t.Stop()
	select {
	case <-t.C:
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}

// lateClock is a clock that is never behind a moment.
type lateClock struct {
	driver.Clock
	least time.Time
}

func (l *lateClock) Now() time.Time {
	if now := l.Clock.Now(); now.After(l.least) {
		return now
	}
	return l.least
}

type stillClock struct{ at time.Time }

// Simulated tells that the clock plays.
func (s *stillClock) Simulated() bool { return true }

func (s *stillClock) Now() time.Time { return s.at }

func (s *stillClock) Sleep(ctx context.Context, d time.Duration) error {
	s.at = s.at.Add(d)
	return ctx.Err()
}

func newClock(text string) (driver.Clock, error) {
	if text == "" {
		return realClock{}, nil
	}
	at, err := time.Parse(time.RFC3339Nano, text)
	if err != nil {
		return nil, usage("IRONBARK_CLOCK is a moment such as 2026-11-23T09:00:00Z, not %q", text)
	}
	return &stillClock{at}, nil
}

// now is the moment in local time, for times such as 18:00.
func (a *app) now() time.Time {
	switch c := a.clock.(type) {
	case nil: // before anything is read
		return time.Now()
	case *stillClock:
		return c.at
	}
	return a.clock.Now().Local()
}

// moment reads --at: a time, or a length from now.
func (a *app) moment(text string) (time.Time, error) { return a.momentOf("--at", text) }

// momentOf is moment for the text of an option.
func (a *app) momentOf(option, text string) (time.Time, error) {
	if text == "" {
		return a.clock.Now(), nil
	}
	if t, ok := timeIn(text); ok {
		return t, nil
	}
	if d, err := sentence.ParseDuration(text); err == nil {
		return a.clock.Now().Add(d.Length()), nil
	}
	return time.Time{}, usage("%s takes a time such as 2026-11-23T18:00:00Z, a date (its midnight, UTC), or a length from now such as 2h, not %q", option, text)
}

// timeIn reads a time (RFC 3339), or a date as its midnight in UTC.
func timeIn(text string) (time.Time, bool) {
	for _, layout := range []string{time.RFC3339Nano, time.DateOnly} {
		if t, err := time.Parse(layout, text); err == nil {
			return t, true
		}
	}
	return time.Time{}, false
}

// since reads --since: a time that is past, or a length back from now.
func (a *app) since(text string) (time.Time, error) { return a.past("--since", text) }

// typed reads a sentence as a person typed it, and says how it was read where its words are
// not those of the grammar.
func (a *app) typed(verb string, args []string) (sentence.Sentence, error) {
	s, read, err := sentence.ParseTyped(append([]string{verb}, args...), a.now())
	if err == nil && read {
		a.print.NoteWrap("read as  ", s.String())
	}
	if err == nil && sentence.FromAll(s) {
		a.print.Note("“from all” is from the estate's own machines; from everybody is “from everywhere”")
	}
	return s, err
}
