package work

import (
	"context"
	"errors"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"ironbark/internal/driver"
	"ironbark/internal/estate"
	"ironbark/internal/exposure"
	"ironbark/internal/findings"
	"ironbark/internal/flow"
	"ironbark/internal/ledger"
	"ironbark/internal/opening"
	"ironbark/internal/sentence"
	"ironbark/internal/site"
)

// Facts collects what findings go by besides the files and the tables, as far as it is known. Cost: linear in the openings, and in the journal where it goes back
// far enough.
func (w *Work) Facts(ctx context.Context, now time.Time) (f findings.Facts, err error) {
	openings, err := w.Site.Openings(ctx)
	if err != nil {
		return f, err
	}
	since := now.Add(-findings.UnusedAfter)
	f.Uses = map[string][]flow.Addrs{}
	for permit, uses := range usesOf(openings) {
		for _, u := range uses {
			if u.at.After(since) {
				f.Uses[permit] = append(f.Uses[permit], u.from)
			}
		}
	}
	if f.Before, err = w.enactedAt(ctx, since); err != nil {
		return f, err
	}
	keys, _ := filepath.Glob(filepath.Join(w.Folder.Dir, StateDir, "keys", "*"))
	for _, path := range keys {
		if info, err := os.Stat(path); err == nil && info.Mode().IsRegular() && !strings.HasSuffix(path, ".pub") && info.Mode().Perm()&0o077 != 0 {
			if rel, err := filepath.Rel(w.Folder.Dir, path); err == nil {
				path = rel
			}
			f.Loose = append(f.Loose, path)
		}
	}
	made, err := w.Site.Find(ctx, ledger.Filter{Action: "make", Text: "image "})
	f.Made = map[string]time.Time{}
	for _, e := range made {
		if name, image := strings.CutPrefix(e.Text, "image "); image {
			name, _, _ = strings.Cut(name, ":")
			f.Made[name] = e.At
		}
	}
	if err != nil {
		return f, err
	}
	f.Takes, err = w.takes(ctx)
	return f, err
}

// takes lists what takes the site's room for connections.
func (w *Work) takes(ctx context.Context) (list []findings.Takes, err error) {
	t, err := w.Site.Traffic(ctx)
	if err != nil || t == nil {
		return nil, err
	}
	list = append(list, findings.Takes{Now: t.Connections, Most: t.Most})
	for _, name := range slices.Sorted(maps.Keys(t.Machines)) {
		m := t.Machines[name]
		list = append(list, findings.Takes{Machine: name, Now: m.Connections, Most: m.Limits.Connections})
	}
	return list, nil
}

// UsedFrom tells from where sentences were used ([findings.Facts]), of those and where none is missing, if that has been noted for long enough. Reading it writes down what
// the place has counted, so it may fail where looking at the rest does not.
func (w *Work) UsedFrom(ctx context.Context, now time.Time) (map[string]flow.Addrs, error) {
	counts, err := w.Site.Counts(ctx)
	if errors.Is(err, driver.ErrNoCounts) {
		return nil, nil
	}
	if err != nil || counts.Noted.IsZero() || counts.Noted.After(now.Add(-findings.UnusedAfter)) {
		return nil, err
	}
	from := map[string]flow.Addrs{}
	for _, c := range counts.List {
		if c.Sentence != "" && !c.Many {
			from[c.Sentence] = c.From
		}
	}
	return from, nil
}

// use is one part of an opening by a permit.
type use struct {
	at   time.Time
	who  string
	from flow.Addrs
}

// usesOf tells by permit who used it when: by what was opened, not by what was asked for and never open.
func usesOf(openings []opening.Opening) map[string][]use {
	uses := map[string][]use{}
	for _, o := range openings {
		if o.Waits() {
			continue
		}
		for _, p := range o.Parts {
			uses[p.Permit] = append(uses[p.Permit], use{o.Begin, o.Person, p.From})
		}
	}
	return uses
}

// enactedAt returns the estate as it was enacted at a moment; nil where nothing was. Cost: constant where the record begins later, and otherwise linear in it.
func (w *Work) enactedAt(ctx context.Context, at time.Time) (*estate.Estate, error) {
	first, err := w.Site.EntriesAfter(ctx, 0, 1)
	if err != nil || len(first) == 0 || first[0].At.After(at) {
		return nil, err
	}
	files, err := w.Site.FilesAt(ctx, at)
	if err != nil || len(files) == 0 {
		return nil, err
	}
	return enactedThen(files)
}

// Scored is how an estate stood from a moment on.
type Scored struct {
	At     time.Time
	Person string // who brought it about; "": time did
	Score  findings.Score
	New    []findings.Finding // that were not there before, and Gone those that are not there any more
	Gone   []findings.Finding
	Broken int // guarantees
}

// ScoresSince tells how the score came about from a moment on, by what the files and the tables had: not by use, nor by what machines listened on. Cost: that of [findings.Lint] for each time that
// they were changed since then.
func (w *Work) ScoresSince(ctx context.Context, since time.Time) (list []Scored, err error) {
	s := &scorer{}
	err = w.Site.History(ctx, since, func(m site.Moment) (bool, error) {
		if err := s.turns(m.At); err != nil {
			return false, err
		}
		return true, s.look(m)
	})
	if err == nil {
		err = s.turns(w.Clock.Now().Add(time.Nanosecond))
	}
	return s.list, err
}

type scorer struct {
	last   site.Moment
	estate *estate.Estate
	found  map[string]findings.Finding
	list   []Scored
}

// turns looks at the moments before another one at which sentences began or ended.
func (s *scorer) turns(until time.Time) error {
	if s.last.Base == nil {
		return nil
	}
	for _, at := range s.last.Base.Turns(s.last.At) {
		if at.Before(until) {
			s.score(at, "")
		}
	}
	return nil
}

func (s *scorer) look(m site.Moment) error {
	if s.last.Base == m.Base && sameFiles(s.last.Files, m.Files) {
		s.last = m
		return nil
	}
	if s.estate == nil || !sameFiles(s.last.Files, m.Files) {
		e, err := enactedThen(m.Files)
		if err != nil {
			return err
		}
		s.estate = e
	}
	s.last = m
	s.score(m.At, m.Person)
	return nil
}

// score notes how it stands at a moment, where that is not as before.
func (s *scorer) score(at time.Time, person string) {
	of := findings.Side{Estate: s.estate, Plan: s.last.Base}
	found := append(findings.Lint(of.Estate, of.Plan, at, nil), findings.Posture(of, at, findings.Facts{})...)
	one := Scored{At: at, Person: person, Broken: len(exposure.Guarantees(of.Estate, of.Plan, at))}
	now := make(map[string]findings.Finding, len(found))
	for _, f := range found {
		now[f.What()] = f
		if _, before := s.found[f.What()]; !before {
			one.New = append(one.New, f)
		}
	}
	for what, f := range s.found {
		if _, still := now[what]; !still {
			one.Gone = append(one.Gone, f)
		}
	}
	slices.SortFunc(one.Gone, func(a, b findings.Finding) int { return strings.Compare(a.What(), b.What()) })
	one.Score = findings.ScoreOf(found, one.Broken)
	if n := len(s.list); n > 0 && len(one.New)+len(one.Gone) == 0 && s.list[n-1].Broken == one.Broken {
		return
	}
	s.found, s.list = now, append(s.list, one)
}

// Permitted is a permit and how it is used.
type Permitted struct {
	Statement sentence.Statement
	Last      time.Time // when somebody last opened by it; zero: nobody ever did
	Who       string    // that was
	Uses      int       // how many openings there were by it in all
	Since     time.Time // since when it is enacted, as far as the record goes; zero: it is not
}

// Permits lists the permits that are enacted, those that were not used for longest first.
func (w *Work) Permits(ctx context.Context) (list []Permitted, err error) {
	st, err := w.installed(ctx, w.Site.Flows)
	if err != nil {
		return nil, err
	}
	openings, err := w.Site.Openings(ctx)
	if err != nil {
		return nil, err
	}
	permits := st.Estate.SentencesOf(sentence.VerbPermit)
	lines := make([]string, len(permits))
	for i, p := range permits {
		lines[i] = p.Text
	}
	since, err := w.Site.EnactedSince(ctx, lines)
	if err != nil {
		return nil, err
	}
	uses := usesOf(openings)
	for _, p := range permits {
		one := Permitted{Statement: p, Since: since[p.Text]}
		for _, u := range uses[p.Sentence.String()] {
			one.Uses++
			if u.at.After(one.Last) {
				one.Last, one.Who = u.at, u.who
			}
		}
		list = append(list, one)
	}
	slices.SortStableFunc(list, func(a, b Permitted) int { return a.Last.Compare(b.Last) })
	return list, nil
}
