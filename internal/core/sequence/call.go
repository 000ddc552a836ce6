package sequence

import (
	"slices"

	"ombak/internal/core/act"
	"ombak/internal/core/calendar"
	"ombak/internal/core/contact"
	"ombak/internal/core/touch"
)

// Call puts a call on the desk of the person's rep. It is done when somebody
// records its outcome; the sequence waits for that, for Limit at most.
type Call struct {
	Common
	Guide  string        `json:"guide,omitempty"` // what to say, for the rep
	Wait   calendar.Span `json:"wait"`
	Limit  calendar.Span `json:"limit"`             // zero: 5 working days
	NoWait bool          `json:"no_wait,omitempty"` // go on at once, whatever becomes of the call
}

// callLimit is how long a call waits for its outcome where the step does not say.
var callLimit = calendar.Span{N: 5, Unit: calendar.WorkingDays}

// The exits of a call.
const (
	Talked        Exit = "done" // as it was named before there were several outcomes
	NotReached    Exit = "not reached"
	Missed        Exit = "missed"
	NotInterested Exit = "not interested"
)

var callExits = []Exit{Talked, NotReached, Missed, NotInterested}

var kindCall = Register(1, &Kind{Word: "call", Does: "puts a call on a rep’s desk", Icon: "phone",
	With: map[Exit]Exit{Missed: NotReached}, Line: worked, Results: workResults},
	func() Step { return &Call{Common: Common{Title: "Call"}, Limit: callLimit} })

// Kind describes calls.
func (*Call) Kind() *Kind { return kindCall }

// Exits follow what came of it, and that nobody called in time.
func (*Call) Exits() []Exit { return callExits }

// Answer says what came of it.
func (*Call) Answer(e Exit) string {
	switch e {
	case Talked:
		return "Talked"
	case NotReached:
		return "Not reached"
	case NotInterested:
		return "Not interested"
	}
	return "Missed"
}

// Says tells when it comes to the desk.
func (s *Call) Says(Names) string { return waitWords(s.Wait) }

// Settings give the guide.
func (s *Call) Settings(Names) []Setting { return []Setting{{"Guide", s.Guide}} }

// Tells gives the guide to whoever calls.
func (s *Call) Tells() string { return s.Guide }

// Outcomes lists what can come of a call.
func (*Call) Outcomes() []Outcome { return Outcomes() }

func (*Call) does() act.Act { return act.Work{Of: touch.Call} }

func (s *Call) check(_ *Plan, report func(string)) {
	for _, w := range []calendar.Span{s.Wait, s.Limit} {
		if err := w.Check(); err != nil {
			report(err.Error())
		}
	}
}

func (s *Call) takes() (before, after float64)   { return s.Wait.NominalDays(), 0 }
func (s *Call) needs() Need                      { return NeedTouch }
func (s *Call) reaches() (contact.Channel, bool) { return contact.Call, false }

func (s *Call) advance(r *run) verdict {
	if r.st.Phase == Out {
		limit := r.st.Due.Add(-tick) // an outcome at the limit itself is in time
		switch t := r.mine(s.ID); {
		case t.Ended && t.Why != "":
			return verdict{exit: missed, at: t.At, reason: PassedOver(t.Why)}
		case t.Ended && !t.At.After(limit):
			return verdict{exit: t.What.exit(), at: t.At}
		case limit.Before(r.now):
			if !t.Ended { // an outcome that came too late is kept
				r.act(act.Withdraw{})
			}
			return verdict{exit: missed, at: limit}
		}
		return r.out(r.st.Due)
	}
	if v, ok := r.begin(s, s.Wait, missed); !ok {
		return v
	}
	if s.NoWait {
		return verdict{exit: 0, at: r.now}
	}
	limit := s.Limit
	if limit.N == 0 {
		limit = callLimit
	}
	return r.out(limit.After(r.now, r.f.Zone(), r.p.Working).Add(tick))
}

// missed is the place of that exit among a call's.
const missed = 2

// Outcome is what became of a call, as whoever made it says.
type Outcome string

// The outcomes there are.
const (
	TheyTalked      Outcome = "talked"
	NoAnswer        Outcome = "no answer"
	LeftMessage     Outcome = "left a message"
	WrongNumber     Outcome = "wrong number"
	TheyDoNotWantIt Outcome = "not interested"
)

// Outcomes lists them in the order in which a desk offers them.
func Outcomes() []Outcome {
	return []Outcome{TheyTalked, NoAnswer, LeftMessage, WrongNumber, TheyDoNotWantIt}
}

// Known reports whether there is such an outcome.
func (o Outcome) Known() bool { return slices.Contains(Outcomes(), o) }

// Spoke reports whether somebody spoke with the person.
func (o Outcome) Spoke() bool { return o == TheyTalked || o == TheyDoNotWantIt }

// exit is the place of the exit an outcome leads to, among a call's. One that
// is not known, from before there were several, is a talk.
func (o Outcome) exit() int {
	switch o {
	case NoAnswer, LeftMessage, WrongNumber:
		return 1
	case TheyDoNotWantIt:
		return 3
	}
	return 0
}
