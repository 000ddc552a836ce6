package touch

import "strings"

// Kind is how a touch reaches out.
type Kind string

// The kinds. An email is sent by a worker; all others are done by somebody.
const (
	Email Kind = "email"
	Call  Kind = "call"
)

// Line is a touch as a history tells it.
type Line struct {
	Icon  string // of the icons that ship
	Text  string // with an asterisk for what it is about
	About About
	Quiet bool // nothing happened, or not yet
	At    When
}

// About is what a line tells besides.
type About string

// What there is to tell.
const (
	Subject About = "subject" // of the email
	Outcome About = "outcome" // of the work
	Trouble About = "trouble" // why it is not done
)

// When is the instant at which a line stands.
type When int8

// The instants.
const (
	Made When = iota
	Due       // when it may go out
	Ended
)

// story has a line for each state that a history tells.
var story = map[Kind]map[State]Line{
	Email: {
		Sent:      {"envelope-simple", "Got the email “*”", Subject, false, Ended},
		Held:      {"warning", "An email is held: *", Trouble, false, Made},
		Stopped:   {"warning", "An email is stopped: *", Trouble, false, Made},
		Ready:     {"envelope-simple", "An email is ready to go out", "", true, Due},
		Withdrawn: {"envelope-simple", "An email was withdrawn: *", Trouble, true, Ended},
	},
	Call: {
		Done:   {"phone", "Call: *", Outcome, false, Ended},
		Desk:   {"phone", "A call is on the desk", "", false, Made},
		Missed: {"phone", "Nobody called in time", "", true, Ended},
	},
}

// again is an email that was refused for now.
var again = Line{"clock", "An email is tried again: *", Trouble, true, Due}

// Kinds lists them.
func Kinds() []Kind { return []Kind{Email, Call} }

// Known reports whether there is such a kind.
func (k Kind) Known() bool { return story[k] != nil }

// Line is how a history tells a touch of kind k in state s, which may have met
// trouble; false where it does not.
func (k Kind) Line(s State, trouble bool) (Line, bool) {
	l, ok := story[k][s]
	if ok && k == Email && s == Ready && trouble {
		return again, true
	}
	return l, ok
}

// Words say the line about something.
func (l Line) Words(about string) string { return strings.Replace(l.Text, "*", about, 1) }
