package touch

import "strings"

// Kind is how a touch reaches out.
type Kind string

// The kinds. An email is sent by a worker; all others are done by somebody.
const (
	Email  Kind = "email"
	Call   Kind = "call"
	Social Kind = "social"
	Task   Kind = "task"
	Post   Kind = "post"
)

// Icon is what a list shows of the kind, of the icons that ship.
func (k Kind) Icon() string { return looks[k].icon }

// Says names the kind: "social touch".
func (k Kind) Says() string { return looks[k].says }

var looks = map[Kind]struct{ icon, says string }{
	Email:  {"envelope-simple", "email"},
	Call:   {"phone", "call"},
	Social: {"chats-circle", "social touch"},
	Task:   {"list-checks", "task"},
	Post:   {"mailbox", "card"},
}

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
	Social: {
		Done:   {"chats-circle", "Social touch: *", Outcome, false, Ended},
		Desk:   {"chats-circle", "A social touch is on the desk", "", false, Made},
		Missed: {"chats-circle", "Nobody did the social touch in time", "", true, Ended},
	},
	Task: {
		Done:   {"list-checks", "Task: *", Outcome, false, Ended},
		Desk:   {"list-checks", "A task is on the desk", "", false, Made},
		Missed: {"list-checks", "Nobody did the task in time", "", true, Ended},
	},
	Post: {
		Done:   {"mailbox", "A card: *", Outcome, false, Ended},
		Desk:   {"mailbox", "A card is to be printed", "", false, Made},
		Missed: {"mailbox", "Nobody sent the card in time", "", true, Ended},
	},
}

// again is an email that was refused for now.
var again = Line{"clock", "An email is tried again: *", Trouble, true, Due}

// Kinds lists them.
func Kinds() []Kind { return []Kind{Email, Call, Social, Task, Post} }

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
