package sequence

import (
	"fmt"
	"time"
	"unicode/utf8"

	"ombak/internal/core/act"
	"ombak/internal/core/contact"
	"ombak/internal/core/signal"
	"ombak/internal/core/touch"
)

// Social reaches the person on the network: a rep does it with the text at hand. A
// message can be written only to whom one is connected with, which is known from
// their having accepted; to others it is not possible.
type Social struct {
	Common
	ToDo
	What SocialAct `json:"what"`
	Text string    `json:"words,omitempty"` // the note, or the message
	N    int       `json:"n,omitempty"`     // how many posts or skills; 0: one
	// After is how many days a request that is not accepted stands; 0: for ever.
	After int `json:"withdrawn_after,omitempty"`
}

// SocialAct is what is done on the network.
type SocialAct string

// What there is.
const (
	Connect    SocialAct = "connect"
	SocialNote SocialAct = "message"
	Visit      SocialAct = "visit"
	React      SocialAct = "react"
	Vouch      SocialAct = "vouch"
)

// SocialActs lists them.
func SocialActs() []SocialAct { return []SocialAct{Connect, SocialNote, Visit, React, Vouch} }

// Bounds of social touches, common practice (no source).
const (
	MaxNote    = 300   // letters of the note of a request
	MaxMessage = 5_000 // letters of a message
	MaxAtOnce  = 3     // posts reacted to, or skills vouched for, by one step
	maxStands  = 365   // days
)

// NotPossible is the exit of what could not be done, besides IsDone (it is done) and
// Missed.
const NotPossible Exit = "not possible"

var socialExits = []Exit{IsDone, NotPossible, Missed}

var kindSocial = Register(2, &Kind{Word: "social touch", Does: "on the network",
	Icon: "chats-circle", Key: "s", Sort: ReachOut,
	With: map[Exit]Exit{NotPossible: IsDone, Missed: IsDone}, Line: worked, Results: workResults},
	func() Step {
		return &Social{Common: Common{Title: "Connect"}, ToDo: ToDo{Limit: usualLimit}, What: Connect, After: 21}
	})

// Kind describes social touches.
func (*Social) Kind() *Kind { return kindSocial }

// Exits follow what came of it, and that nobody did it in time.
func (*Social) Exits() []Exit { return socialExits }

// Answer says what came of it.
func (*Social) Answer(e Exit) string {
	switch e {
	case IsDone:
		return "Done"
	case NotPossible:
		return "Not possible"
	}
	return "Missed"
}

// Does says what is done: "ask to connect".
func (s *Social) Does() string {
	switch s.What {
	case Connect:
		return "ask to connect"
	case SocialNote:
		return "write to them"
	case Visit:
		return "visit their profile"
	case React:
		return "react to " + times(s.N, "post")
	}
	return "vouch for " + times(s.N, "skill")
}

func times(n int, what string) string {
	if n <= 1 {
		return "a " + what
	}
	return fmt.Sprintf("%d %ss", n, what)
}

// Says tells what is done, and when it comes to the desk.
func (s *Social) Says(Names) string { return s.Does() + ", " + s.Timing.Says() }

// Settings give the words, and how long a request stands.
func (s *Social) Settings(Names) []Setting {
	var out []Setting
	if s.Text != "" {
		out = append(out, Setting{"Words", s.Text})
	}
	if s.What == Connect && s.After > 0 {
		out = append(out, Setting{"Withdrawn", fmt.Sprintf("after %d days, if it is not accepted", s.After)})
	}
	return append(out, s.settings()...)
}

// Tells says what is to be done.
func (s *Social) Tells() string { return s.Does() }

// Outcomes lists what can come of it.
func (*Social) Outcomes() []Outcome { return []Outcome{DidIt, CouldNot} }

// Told is nothing: that they accept or answer they say themselves.
func (*Social) Told(Outcome) signal.Kind { return 0 }

// CouldNot is the outcome of what is not possible: there is no such profile, or one is
// not connected.
const CouldNot Outcome = "not possible"

func (*Social) does() []act.Act                    { return []act.Act{act.Work{Of: touch.Social}} }
func (s *Social) reaches() (contact.Channel, bool) { return contact.Social, false }
func (*Social) missed() int                        { return 2 }

func (s *Social) needs() Need {
	if s.What == SocialNote {
		return NeedTouch | NeedHistory
	}
	return NeedTouch
}

func (s *Social) check(_ *Plan, report func(string)) {
	n := utf8.RuneCountInString(s.Text)
	switch {
	case s.What == Connect && n > MaxNote:
		report(fmt.Sprintf("its note has %d letters, and the network takes %d", n, MaxNote))
	case s.What == SocialNote && n == 0:
		report("says nothing yet")
	case n > MaxMessage:
		report(fmt.Sprintf("its message has more than %d letters", MaxMessage))
	case s.N < 0 || s.N > MaxAtOnce:
		report(fmt.Sprintf("is done at most %d times at once", MaxAtOnce))
	case s.After < 0 || s.After > maxStands:
		report("a request stands for at most a year")
	}
	known := false
	for _, a := range SocialActs() {
		known = known || a == s.What
	}
	if !known {
		report("does something that the network does not know")
	}
	s.ToDo.check(report)
}

var accepted = signal.Pattern{Kind: signal.Accepted}

func (s *Social) advance(r *run) verdict {
	if s.What != SocialNote || r.st.Phase == Out {
		return r.work(s)
	}
	if v, ok := r.ready(s, s.missed()); !ok {
		return v
	}
	if r.f.Count(&accepted, time.Time{}, r.now) == 0 {
		return verdict{exit: 1, at: r.now, reason: NotConnected}
	}
	return r.toDesk(s)
}

// NotConnected stands beside the exit of a message to somebody who has not accepted.
const NotConnected Reason = "passed over: not connected"

func (*Social) leads(o Outcome) int {
	if o == CouldNot || o == DidNot {
		return 1
	}
	return 0
}

// Words are the note, or the message.
func (s *Social) Words() string { return s.Text }

func (s *Social) parts() []Part {
	if s.What != Connect && s.What != SocialNote {
		return nil // there is nothing to say
	}
	return words(s.ID, s.Text)
}
