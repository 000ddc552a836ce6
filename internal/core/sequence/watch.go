package sequence

import (
	"fmt"
	"strings"
	"time"

	"ombak/internal/core/calendar"
	"ombak/internal/core/signal"
)

// Watch waits for a signal: a kind, from a touch of this sequence, from a page
// or from anywhere, at least N times. Signals count from the instant the
// watched touch was done, else from entry; a signal at exactly the limit counts.
type Watch struct {
	Common
	Signal signal.Kind   `json:"signal"`
	Of     StepID        `json:"of,omitempty"`   // the email it answers to; 0: any
	Page   int64         `json:"page,omitempty"` // 0: any
	Link   int32         `json:"link,omitempty"` // 0: any
	N      int           `json:"n,omitempty"`    // 0: once
	For    calendar.Span `json:"for"`
	AtEnd  bool          `json:"at_end,omitempty"` // always wait the whole time, then decide
	// Event is what a registration or an attendance is of; 0: the event of the plan.
	Event int64 `json:"event,omitempty"`
	// Until is its limit, before or after an event; nil: For.
	Until *FromEvent `json:"until,omitempty"`
}

// The exits of a watch.
const (
	Happened  Exit = "happened"
	NotInTime Exit = "not in time"
)

var watchExits = []Exit{Happened, NotInTime}

var kindWatch = Register(5, &Kind{Word: "watch", Does: "waits for what they do",
	Icon: "binoculars", Key: "w", Sort: Parting, Line: onTheWay},
	func() Step {
		return &Watch{Common: Common{Title: "Watch"}, Signal: signal.Click, N: 1,
			For: calendar.Span{N: 5, Unit: calendar.Days}}
	})

// Kind describes watches.
func (*Watch) Kind() *Kind { return kindWatch }

// Exits are that it happened, and that it did not.
func (*Watch) Exits() []Exit { return watchExits }

// Answer says what happened: "Clicked 3×".
func (s *Watch) Answer(e Exit) string {
	if e == NotInTime && s.Until != nil {
		return "Not in time"
	}
	if e == NotInTime {
		return "Not in " + s.For.String()
	}
	word := s.Signal.Answer()
	if s.N > 1 {
		word += fmt.Sprintf(" %d×", s.N)
	}
	return word
}

// follow has a watch that follows an email watch that email.
func (s *Watch) follow(before Step) {
	if e, ok := before.(*Email); ok {
		s.Of = e.ID
	}
}

// Says tells what it waits for.
func (s *Watch) Says(Names) string {
	long := s.For.String()
	if s.Until != nil {
		long = "until " + strings.TrimPrefix(s.Until.String(), "when ")
	}
	if s.N > 1 {
		return fmt.Sprintf("%s for %s", long, s.Signal.Plural(s.N))
	}
	article := "a"
	if strings.ContainsRune("aeio", rune(s.Signal.String()[0])) {
		article = "an"
	}
	return fmt.Sprintf("%s for %s %s", long, article, s.Signal)
}

func (s *Watch) events() (list []int64) {
	if s.Signal.OfEvent() {
		list = append(list, s.Event)
	}
	if s.Until != nil {
		list = append(list, s.Until.Event)
	}
	return list
}

func (s *Watch) check(p *Plan, report func(string)) {
	if !s.Signal.Known() {
		report("waits for an unknown signal")
	}
	if s.Until != nil {
		if err := s.Until.Check(); err != nil {
			report(err.Error())
		}
	} else if err := s.For.Check(); err != nil {
		report(err.Error())
	} else if s.For.N == 0 {
		report("watches for no time at all")
	}
	if s.N < 0 || s.N > 1000 {
		report("waits for a number of signals that cannot be")
	}
	if s.Of != 0 && !p.leads(s.Of, s.ID) {
		report("watches an email that does not come before it")
	}
}

func (s *Watch) takes() (before, after float64) {
	if s.Until != nil {
		return 0, 1
	}
	return 0, s.For.NominalDays()
}
func (s *Watch) needs() Need { return NeedSignals | NeedTouch }

// limit is the last instant that counts. An event that is over by then, or cancelled, leaves
// no time at all.
func (s *Watch) limit(r *run) time.Time {
	if s.Until == nil {
		return s.For.After(r.st.Reached, r.f.Zone(), r.p.workingFor(r.f))
	}
	at, known, _ := r.from(s.Until)
	return latest(at, known)
}

func (s *Watch) advance(r *run) verdict {
	pattern := &r.pattern
	*pattern = signal.Pattern{Kind: s.Signal, Place: signal.Place{Page: s.Page, Link: s.Link}}
	from := r.st.Entered
	if s.Of != 0 {
		pattern.Sequence, pattern.Step = r.p.Sequence, int32(s.Of)
		if t := r.f.Touch(s.Of); t.Ended {
			from = t.At
		}
	}
	if s.Signal.OfEvent() {
		pattern.Event = r.p.plan.EventOf(s.Event)
	}
	limit := s.limit(r)
	to := limit
	if r.now.Before(to) {
		to = r.now
	}
	// The limit itself still counts, so the decision falls just after it.
	over := r.now.After(limit)
	if s.AtEnd && !over {
		return r.wait(limit.Add(tick))
	}
	at, ok := r.f.Nth(pattern, max(s.N, 1), from, to)
	switch {
	case ok && s.AtEnd:
		return verdict{exit: 0, at: limit}
	case ok:
		if at.Before(r.st.Reached) {
			at = r.st.Reached
		}
		return verdict{exit: 0, at: at}
	case over:
		return verdict{exit: 1, at: limit}
	}
	return r.wait(limit.Add(tick))
}
