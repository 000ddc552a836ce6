package people

import (
	"cmp"
	"context"
	"fmt"
	"sort"
	"strconv"
	"strings"
	"time"

	"github.com/labstack/echo/v5"
	"golang.org/x/sync/errgroup"

	"ombak/internal/core/person"
	"ombak/internal/core/sequence"
	"ombak/internal/core/signal"
	"ombak/internal/core/touch"
	"ombak/internal/store"
	"ombak/internal/web/shell"
)

// moment is a line of a timeline.
type moment struct {
	At    time.Time
	Icon  string
	Text  string
	Said  string
	Whole string // of a letter that quotes; empty: no more than Said
	Quiet bool
	Who   int64 // whom it happened with, on a page about several
}

type wayLine struct {
	store.Way
	StepTitle string
	Steps     []sequence.Step // to which they can be moved; none: they are not on the way
	Next      []*sequence.Email
}

// timeline is a part of what happened with a person, the newest first.
type timeline struct {
	Person  *store.Person
	Moments []moment
	Earlier string // where there is more of it; empty: there is none
}

// How much of a timeline is shown at once, and of how much of each kind that is made.
const (
	momentsShown  = 80
	momentsOfKind = 200
)

// history is what happened with a person before an instant (nil: until now), told on one line of time, the newest
// first, and where they stand in each sequence.
func (s *Place) history(ctx context.Context, p *store.Person, handoffs []store.Handoff, before *time.Time) (
	timeline, []wayLine, error) {
	t := telling{s: s, ctx: ctx, person: p.ID, given: handoffs,
		of: store.Last{People: []int64{p.ID}, Most: momentsOfKind, Before: before}}
	if err := t.tell((*telling).signals, (*telling).mail, (*telling).touches, (*telling).handoffs, (*telling).tasks,
		(*telling).consents, (*telling).deals, (*telling).sequences); err != nil {
		return timeline{}, nil, fmt.Errorf("telling the history of person %d: %w", p.ID, err)
	}
	t.add(p.Created, "user", "First met, from "+cmp.Or(p.Source, "an unknown source"))
	line := t.told()
	if before != nil {
		line = line[sort.Search(len(line), func(i int) bool { return line[i].At.Before(*before) }):]
	}
	told := timeline{Person: p, Moments: line}
	if n := momentsShown; len(line) > n {
		for n < len(line) && line[n].At.Equal(line[n-1].At) {
			n++ // what happened at once stands together
		}
		if n < len(line) {
			told.Moments = line[:n]
			told.Earlier = fmt.Sprintf("/people/%d/timeline?before=%d", p.ID, line[n-1].At.UnixMicro())
		}
	}
	return told, t.ways, nil
}

// earlier answers more of a timeline, for where the page left off.
func (s *Place) earlier(c *echo.Context) error {
	ctx := c.Request().Context()
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	micro, err := strconv.ParseInt(c.QueryParam("before"), 10, 64)
	if err != nil {
		return echo.ErrBadRequest
	}
	before := time.UnixMicro(micro).UTC()
	if y := before.Year(); y < 1900 || y > 9999 {
		return echo.ErrBadRequest
	}
	p, err := s.Store.Person(ctx, id)
	if err != nil {
		return err
	}
	given, err := s.Store.HandoffsOf(ctx, store.Of(id))
	if err != nil {
		return err
	}
	told, _, err := s.history(ctx, &p, given, &before)
	if err != nil {
		return err
	}
	return s.Page(c, "timeline.html", "moments", "People", person.Full(p.First, p.Last, p.Email), told)
}

// doings is what happened of late with several people: what they did, what they were sent and said, to whom they were
// handed over.
func (s *Place) doings(ctx context.Context, of store.Last) ([]moment, error) {
	t := telling{s: s, ctx: ctx, of: of}
	var err error
	if t.given, err = s.Store.HandoffsOf(ctx, of); err != nil {
		return nil, err
	}
	if err := t.tell((*telling).signals, (*telling).answers, (*telling).touches, (*telling).handoffs); err != nil {
		return nil, err
	}
	line := t.told()
	return line[:min(len(line), of.Most)], nil
}

// telling is a history while it is gathered.
type telling struct {
	s      *Place
	ctx    context.Context
	person int64      // 0: several
	of     store.Last // of whom, and how much
	given  []store.Handoff
	line   []moment
	ways   []wayLine
}

// besides is how many kinds of things are read at the same time.
const besides = 2

// tell gathers some kinds of things, side by side, in that order.
func (t *telling) tell(kinds ...func(*telling) error) error {
	parts := make([]telling, len(kinds))
	all, ctx := errgroup.WithContext(t.ctx)
	all.SetLimit(besides)
	for i, kind := range kinds {
		parts[i] = telling{s: t.s, ctx: ctx, person: t.person, of: t.of, given: t.given}
		all.Go(func() error { return kind(&parts[i]) })
	}
	err := all.Wait()
	for i := range parts {
		t.line, t.ways = append(t.line, parts[i].line...), append(t.ways, parts[i].ways...)
	}
	return err
}

// told is what was gathered, the newest first.
func (t *telling) told() []moment {
	sort.SliceStable(t.line, func(i, j int) bool { return t.line[i].At.After(t.line[j].At) })
	return t.line
}

// with tells something that happened with somebody.
func (t *telling) with(who int64, at time.Time, icon, text string) *moment {
	m := t.add(at, icon, text)
	m.Who = who
	return m
}

// add tells something, and answers it for what else there is to say.
func (t *telling) add(at time.Time, icon, text string) *moment {
	t.line = append(t.line, moment{At: at, Icon: icon, Text: text})
	return &t.line[len(t.line)-1]
}

func (t *telling) signals() error {
	list, err := t.s.Store.Timeline(t.ctx, t.of)
	for _, x := range list {
		if x.Kind == signal.Reply || x.Kind == signal.AutomaticReply || x.Kind == signal.CallAnswered {
			continue // the mail or the call itself tells more
		}
		text := strings.ToUpper(x.Kind.Did()[:1]) + x.Kind.Did()[1:]
		if x.Detail != "" {
			text += ": " + x.Detail
		}
		if x.Machine != "" {
			text += " — not counted: " + x.Machine
		}
		t.with(x.Person, x.At, signalIcons[x.Kind], text).Quiet = x.Machine != ""
	}
	return err
}

var signalIcons = map[signal.Kind]string{
	signal.PageView: "globe", signal.Form: "note-pencil", signal.Download: "download-simple", signal.Open: "eye",
	signal.Click:  "cursor-click",
	signal.OptOut: "prohibit", signal.Bounce: "warning", signal.Complaint: "warning", signal.Meeting: "calendar-blank",
	signal.Registered: "calendar-blank", signal.Cancelled: "prohibit", signal.Came: "users-three",
	signal.StayedAway: "minus",
}

func (t *telling) mail() error {
	if err := t.answers(); err != nil {
		return err
	}
	outside, err := t.s.Store.PersonOutside(t.ctx, t.person)
	for _, x := range outside {
		t.add(x.At, "paper-plane-tilt", x.By+" wrote outside: "+x.Subject).Said = strings.TrimSpace(x.Found)
	}
	return err
}

func (t *telling) answers() error {
	list, err := t.s.Store.IncomingOf(t.ctx, t.of)
	for _, m := range list {
		text := "Answered: "
		switch m.Kind {
		case signal.AutomaticReply:
			text = "Automatic answer: "
		case signal.Bounce:
			text = "Bounce report: "
		case signal.SocialReply:
			continue // told as what they did
		}
		line := t.with(*m.Person, m.At, "chat-circle-text", text+m.Subject)
		line.Said = strings.TrimSpace(m.Said)
		if whole := strings.TrimSpace(m.Body); whole != line.Said {
			line.Whole = whole
		}
	}
	return err
}

func (t *telling) touches() error {
	list, err := t.s.Store.TouchesOf(t.ctx, t.of)
	for _, x := range list {
		told, ok := x.Kind.Line(x.State, x.Trouble != "")
		if !ok {
			continue
		}
		at := x.Made
		switch {
		case told.At == touch.Due:
			at = x.Ready
		case told.At == touch.Ended && x.Done != nil:
			at = *x.Done
		}
		about := map[touch.About]string{touch.Subject: x.Subject, touch.Outcome: x.Outcome, touch.Trouble: x.Trouble}
		line := t.with(x.Person, at, told.Icon, told.Words(about[told.About]))
		line.Quiet = told.Quiet
		if told.About == touch.Outcome {
			line.Said = x.Notes
		}
	}
	return err
}

func (t *telling) handoffs() error {
	for _, h := range t.given {
		by := map[string]string{"crossing": "the score crossed the ready line", "step": "a sequence asked for it",
			"answer": "they answered that they are interested", "hand": "by hand"}[h.MadeBy]
		t.with(h.Person, h.Made, "handshake", fmt.Sprintf("Handed over to %s: %s", cmp.Or(h.RepName, "the pool"), by))
		if h.Decided != nil {
			decided := strings.ToUpper(h.State[:1]) + h.State[1:] + " by " + h.RepName
			t.with(h.Person, *h.Decided, "handshake", decided).Said = h.Reason
		}
	}
	return nil
}

func (t *telling) tasks() error {
	list, err := t.s.Store.PersonTasks(t.ctx, t.person)
	for _, x := range list {
		kind, icon := "Task", "list-checks"
		if x.Alert {
			kind, icon = "Alert", "bell"
		}
		line := t.add(x.Made, icon, kind+": "+x.Words)
		line.Said, line.Quiet = x.How, true
		if x.Done != nil && !x.Alert {
			t.add(*x.Done, icon, fmt.Sprintf("Done by %s: %s", x.User, x.Words)).Said = x.Notes
		}
	}
	return err
}

func (t *telling) consents() error {
	list, err := t.s.Store.PersonAnswers(t.ctx, t.person)
	for _, a := range list {
		for _, c := range a.Consents.V {
			text := "Ticked “" + c.Words + "”"
			if a.Proved == nil {
				text += ", which waits until their address has proved itself"
			}
			t.add(a.At, "check", text).Quiet = true
		}
	}
	return err
}

func (t *telling) deals() error {
	moves, err := t.s.Store.PersonMoves(t.ctx, t.person)
	if err != nil {
		return err
	}
	for _, m := range moves {
		t.add(m.At, "kanban", "Deal in stage "+m.Stage)
	}
	changes, err := t.s.Store.PersonDealChanges(t.ctx, t.person)
	for _, x := range changes {
		t.add(x.At, "kanban", dealChange(x, t.s.Engine.Workspace().Currency))
	}
	return err
}

// sequences tells where the person entered, went and left, by the versions they are or were on.
func (t *telling) sequences() error {
	ways, err := t.s.Store.PersonWays(t.ctx, t.person)
	if err != nil {
		return err
	}
	logs, err := t.s.Store.PersonLogs(t.ctx, t.person)
	if err != nil {
		return err
	}
	var versions []int64
	for _, w := range ways {
		versions = append(versions, w.Version)
	}
	for _, l := range logs {
		versions = append(versions, l.Version)
	}
	plans, err := t.s.Engine.PlansOf(t.ctx, t.s.Store.Queries, versions)
	if err != nil {
		return err
	}
	title := func(version int64, step int32) string {
		if p := plans[version]; p != nil {
			if x := p.Step(sequence.StepID(step)); x != nil {
				return x.About().Title
			}
		}
		return "a step"
	}
	for _, w := range ways {
		line := wayLine{Way: w, StepTitle: title(w.Version, w.Step)}
		if p := plans[w.Version]; p != nil && w.Ended == nil {
			for _, e := range p.NextEmails(sequence.StepID(w.Step)) {
				if e.Message != 0 {
					line.Next = append(line.Next, e)
				}
			}
			for _, l := range p.Outline() {
				if !l.Again && int32(l.Step.About().ID) != w.Step {
					line.Steps = append(line.Steps, l.Step)
				}
			}
		}
		t.ways = append(t.ways, line)
		t.add(w.Entered, "waves", "Entered “"+w.Name+"”")
	}
	for _, l := range logs {
		at := "“" + title(l.Version, l.Step) + "”"
		switch {
		case l.Exit == "" && sequence.Reason(l.Reason).Planned():
			t.add(l.At, "flag", "Came to the end of the sequence: "+at).Quiet = true
		case l.Exit == "":
			t.add(l.At, "flag", "Left the sequence at "+at+": "+l.Reason)
		case l.Exit != "next" && l.Exit != "done":
			t.add(l.At, "arrow-right", fmt.Sprintf("%s: %s", at, l.Exit)).Quiet = true
		}
	}
	return nil
}

// dealChange says what changed of a deal, and by whom.
func dealChange(x store.DealChange, currency string) string {
	by := ""
	if x.User != "" {
		by = ", by " + x.User
	}
	if x.What == "amount" {
		return "Deal worth " + moneyOf(x.Became, currency) + ", before " + moneyOf(x.Was, currency) + by
	}
	switch x.What {
	case "owner":
		return "Deal of " + cmp.Or(x.Became, "nobody") + ", before of " + cmp.Or(x.Was, "nobody") + by
	case "expected":
		return "Deal expected on " + cmp.Or(x.Became, "no day") + ", before on " + cmp.Or(x.Was, "no day") + by
	}
	return "Deal, " + x.What + ": " + cmp.Or(x.Became, "nothing") + ", before " + cmp.Or(x.Was, "nothing") + by
}

// moneyOf shows an amount as a history has kept it.
func moneyOf(minor, currency string) string {
	n, err := strconv.ParseInt(minor, 10, 64)
	if err != nil {
		return minor
	}
	return shell.Money(n, currency)
}
