package act

import (
	"strconv"

	"ombak/internal/core/plainly"
	"ombak/internal/core/touch"
)

// Enrol enters them into a running sequence.
type Enrol struct {
	Sequence int64 `json:"what,string"`
}

var enrol = &Kind{Word: "enrol", Menu: "enter them into", Takes: ASequence, read: reads[Enrol],
	Make:  func(g Given) Act { return Enrol{g.ID} },
	Given: func(a Act) Given { return Given{ID: a.(Enrol).Sequence} },
}

// Kind describes enterings.
func (Enrol) Kind() *Kind { return enrol }
func (Enrol) sealed()     {}

// Check asks for a sequence.
func (a Enrol) Check() error {
	if a.Sequence <= 0 {
		return plainly.New("choose the sequence")
	}
	return nil
}

// Says names the sequence.
func (a Enrol) Says(n Names) string { return "enter “" + n.Sequence(a.Sequence) + "”" }

// Write sends them a message, once, where they agreed to the purpose: in their sending hours and with all that holds
// for emails of sequences, by a sequence of one email that is kept for it.
type Write struct {
	Message int64 `json:"what,string"`
	Purpose int64 `json:"purpose,string"`
}

var write = &Kind{Word: "write", Menu: "write to them", Takes: AMessage, read: reads[Write],
	Make: func(g Given) Act {
		purpose, err := strconv.ParseInt(g.Field, 10, 64)
		if err != nil {
			purpose = 0 // which Check asks for
		}
		return Write{g.ID, purpose}
	},
	Given: func(a Act) Given {
		w := a.(Write)
		return Given{ID: w.Message, Field: strconv.FormatInt(w.Purpose, 10)}
	},
}

// Kind describes writings.
func (Write) Kind() *Kind { return write }
func (Write) sealed()     {}

// Check asks for a message and a purpose.
func (a Write) Check() error {
	if a.Message <= 0 {
		return plainly.New("choose the message")
	}
	if a.Purpose <= 0 {
		return plainly.New("choose the purpose that whoever is written to agreed to")
	}
	return nil
}

// Says names the message.
func (a Write) Says(n Names) string {
	return "write “" + n.Message(a.Message) + "” to whoever agreed to “" + n.Purpose(a.Purpose) + "”"
}

// GoOn enters them into another running sequence, from the one they were on, where its
// entry allows it: whether it does, whoever asks for it has looked at.
type GoOn struct {
	Sequence int64 `json:"what,string"`
}

var goOn = &Kind{Word: "go on", read: reads[GoOn],
	Make:  func(g Given) Act { return GoOn{g.ID} },
	Given: func(a Act) Given { return Given{ID: a.(GoOn).Sequence} },
}

// Kind describes goings on.
func (GoOn) Kind() *Kind { return goOn }
func (GoOn) sealed()     {}

// Check asks for a sequence.
func (a GoOn) Check() error {
	if a.Sequence <= 0 {
		return plainly.New("choose the sequence")
	}
	return nil
}

// Says names the sequence.
func (a GoOn) Says(n Names) string { return "go on to “" + n.Sequence(a.Sequence) + "”" }

// Send writes them the message of a step, to go out now.
type Send struct {
	Message int64 `json:"message"`
}

var send = &Kind{Word: "send", read: reads[Send],
	Make:  func(g Given) Act { return Send{g.ID} },
	Given: func(a Act) Given { return Given{ID: a.(Send).Message} },
}

// Kind describes sendings.
func (Send) Kind() *Kind { return send }
func (Send) sealed()     {}

// Check asks for a message.
func (a Send) Check() error {
	if a.Message <= 0 {
		return plainly.New("choose the message")
	}
	return nil
}

// Says says it.
func (Send) Says(Names) string { return "send a message" }

// Work puts the touch of a step on a desk, for somebody to do.
type Work struct {
	Of   touch.Kind `json:"of"`
	Team int64      `json:"team,omitempty"` // for any of it to take; 0: For
	For  int64      `json:"for,omitempty"`  // the user whose desk it is; 0: the owner's, else whoever takes it
}

var work = &Kind{Word: "work", read: reads[Work],
	Make:  func(g Given) Act { return Work{Of: touch.Kind(g.Words), For: g.To, Team: g.Team} },
	Given: func(a Act) Given { return Given{Words: string(a.(Work).Of), To: a.(Work).For, Team: a.(Work).Team} },
}

// Kind describes work for a desk.
func (Work) Kind() *Kind { return work }
func (Work) sealed()     {}

// Check asks for a kind of touch that somebody does.
func (a Work) Check() error {
	if !a.Of.Known() || a.Of == touch.Email {
		return plainly.New("this is no work for a desk")
	}
	return nil
}

// Says says it.
func (a Work) Says(Names) string { return "put a " + string(a.Of) + " on the desk" }

// Withdraw takes the touch of a step off the desk that nobody took in time.
type Withdraw struct{}

var withdraw = &Kind{Word: "withdraw", read: reads[Withdraw],
	Make:  func(Given) Act { return Withdraw{} },
	Given: func(Act) Given { return Given{} },
}

// Kind describes withdrawals.
func (Withdraw) Kind() *Kind { return withdraw }
func (Withdraw) sealed()     {}

// Check finds nothing wrong.
func (Withdraw) Check() error { return nil }

// Says says it.
func (Withdraw) Says(Names) string { return "take off the desk" }
