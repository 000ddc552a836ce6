package act

import (
	"ombak/internal/core/plainly"
	"ombak/internal/core/right"
)

// Task gives a user something to do for them, with 0 their owner; or whoever of a team takes it.
type Task struct {
	Words string `json:"what"`
	To    int64  `json:"to,omitempty"`
	Team  int64  `json:"team,omitempty"` // 0: To
}

var task = &Kind{Word: "task", Menu: "a task", Takes: Words, For: "for their owner", read: reads[Task],
	Teams: true,
	Make:  func(g Given) Act { return Task{g.Words, g.To, g.Team} },
	Given: func(a Act) Given { return Given{Words: a.(Task).Words, To: a.(Task).To, Team: a.(Task).Team} },
}

// Kind describes tasks.
func (Task) Kind() *Kind { return task }
func (Task) sealed()     {}

// Check asks what is to be done.
func (a Task) Check() error {
	if err := checkUser(a.To); err != nil {
		return err
	}
	return checkWords(a.Words, "what is to be done")
}

// Says tells whose task it is, and what.
func (a Task) Says(n Names) string {
	if a.Team != 0 {
		return "a task for the team " + n.Team(a.Team) + ": " + a.Words
	}
	return "a task for " + owner(a.To, n) + ": " + a.Words
}

// Alert tells a user something about them, with 0 their owner, or everybody of a role or a team.
type Alert struct {
	Words string     `json:"what"`
	To    int64      `json:"to,omitempty"`
	Role  right.Role `json:"role,omitempty"` // whose users are told, each; empty: To
	Team  int64      `json:"team,omitempty"` // whose members are told, each; 0: To
}

var alert = &Kind{Word: "alert", Menu: "an alert", Takes: Words, For: "for their owner", read: reads[Alert],
	Roles: true, Teams: true,
	Make: func(g Given) Act { return Alert{g.Words, g.To, g.Role, g.Team} },
	Given: func(a Act) Given {
		x := a.(Alert)
		return Given{Words: x.Words, To: x.To, Role: x.Role, Team: x.Team}
	},
}

// Kind describes alerts.
func (Alert) Kind() *Kind { return alert }
func (Alert) sealed()     {}

// Check asks what is to be told.
func (a Alert) Check() error {
	if err := checkUser(a.To); err != nil {
		return err
	}
	if a.Role != "" && !a.Role.Known() {
		return plainly.New("this is nobody’s role")
	}
	return checkWords(a.Words, "what the alert tells")
}

// Says tells who is told, and what.
func (a Alert) Says(n Names) string {
	if a.Role != "" {
		return "tell every " + string(a.Role) + ": " + a.Words
	}
	if a.Team != 0 {
		return "tell everybody of the team " + n.Team(a.Team) + ": " + a.Words
	}
	return "tell " + owner(a.To, n) + ": " + a.Words
}

func owner(to int64, n Names) string {
	if to == 0 {
		return "the owner"
	}
	return n.User(to)
}

// HandOver hands them over to a rep, with a brief.
type HandOver struct{}

var handOver = &Kind{Word: "hand over", Menu: "hand them over", read: reads[HandOver],
	Make:  func(Given) Act { return HandOver{} },
	Given: func(Act) Given { return Given{} },
}

// Kind describes handings over.
func (HandOver) Kind() *Kind { return handOver }
func (HandOver) sealed()     {}

// Check finds nothing wrong.
func (HandOver) Check() error { return nil }

// Says says it.
func (HandOver) Says(Names) string { return "hand over" }
