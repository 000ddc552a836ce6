package sequence

import (
	"fmt"
	"ombak/internal/core/act"
	"ombak/internal/core/contact"
	"ombak/internal/core/signal"
	"ombak/internal/core/touch"
)

// Call puts a call on the desk of the person's rep. It is done when somebody
// records its outcome; the sequence waits for that, for Limit at most.
type Call struct {
	Common
	ToDo
	Guide    string `json:"guide,omitempty"`    // what to say, for the rep
	Attempts int    `json:"attempts,omitempty"` // how often it is tried; 0: 3 times
	Team     int64  `json:"team,omitempty"`     // any of which calls; 0: For
	For      int64  `json:"for,omitempty"`      // who calls; 0: the owner, else whoever takes it
}

// The exits of a call.
const (
	IsDone        Exit = "done" // as it was named before there were several outcomes
	NotReached    Exit = "not reached"
	Missed        Exit = "missed"
	NotInterested Exit = "not interested"
)

var callExits = []Exit{IsDone, NotReached, Missed, NotInterested}

var kindCall = Register(1, &Kind{Word: "call", Does: "puts a call on a rep’s desk",
	Icon: "phone", Key: "c", Sort: ReachOut,
	With: map[Exit]Exit{Missed: NotReached}, Line: worked, Results: workResults},
	func() Step { return &Call{Common: Common{Title: "Call"}, ToDo: ToDo{Limit: usualLimit}} })

// Kind describes calls.
func (*Call) Kind() *Kind { return kindCall }

// Exits follow what came of it, and that nobody called in time.
func (*Call) Exits() []Exit { return callExits }

// Answer says what came of it.
func (*Call) Answer(e Exit) string {
	switch e {
	case IsDone:
		return "Talked"
	case NotReached:
		return "Not reached"
	case NotInterested:
		return "Not interested"
	}
	return "Missed"
}

// Says tells when it comes to the desk.
func (s *Call) Says(Names) string { return s.Timing.Says() }

// Settings give the guide, who calls, and how long the sequence waits.
func (s *Call) Settings(n Names) []Setting {
	out := []Setting{{"Guide", s.Guide}}
	if s.For != 0 || s.Team != 0 {
		out = append(out, Setting{"By", n.whose(s.For, s.Team)})
	}
	switch s.Attempts {
	case 0:
	case 1:
		out = append(out, Setting{"Tried", "once"})
	default:
		out = append(out, Setting{"Tried", fmt.Sprintf("%d times at most", s.Attempts)})
	}
	return append(out, s.settings()...)
}

// Tells gives the guide to whoever calls.
func (s *Call) Tells() string { return s.Guide }

// Outcomes lists what can come of a call.
func (*Call) Outcomes() []Outcome { return callOutcomes }

// Told is that they took a call, where somebody spoke with them.
func (*Call) Told(o Outcome) signal.Kind {
	if o == TheyTalked || o == TheyDoNotWantIt || o == DoNotCall {
		return signal.CallAnswered
	}
	return 0
}

func (s *Call) does() []act.Act { return []act.Act{act.Work{Of: touch.Call, For: s.For, Team: s.Team}} }
func (s *Call) check(_ *Plan, report func(string)) {
	if s.Attempts < 0 || s.Attempts > 20 {
		report("is tried at most 20 times")
	}
	s.ToDo.check(report)
}
func (s *Call) reaches() (contact.Channel, bool) { return contact.Call, false }
func (s *Call) advance(r *run) verdict           { return r.work(s) }
func (*Call) missed() int                        { return 2 }

func (*Call) leads(o Outcome) int {
	switch o {
	case NoAnswer, LeftMessage, WrongNumber:
		return 1
	case TheyDoNotWantIt, DoNotCall:
		return 3
	}
	return 0
}

// The outcomes of a call.
const (
	TheyTalked      Outcome = "talked"
	NoAnswer        Outcome = "no answer"
	LeftMessage     Outcome = "left a message"
	WrongNumber     Outcome = "wrong number"
	TheyDoNotWantIt Outcome = "not interested"
	DoNotCall       Outcome = "do not call" // nobody calls them any more
)

var callOutcomes = []Outcome{TheyTalked, NoAnswer, LeftMessage, WrongNumber, TheyDoNotWantIt, DoNotCall}

func (s *Call) parts() []Part { return words(s.ID, s.Guide) }
