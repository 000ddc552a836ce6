// Package touch says what a touch goes through, and the letter by which an email
// of it is sent.
//
// A touch is that a step, an email to an audience, a form or a hand reaches out
// to somebody: once per enrolment, step and visit, once per one-off email and
// reader, once per answer of a form, once per press of a button. An email waits
// until it has gone out; a call waits on a desk until somebody records what came
// of it. What has not gone out can be taken back.
//
// While an email waits, its letter is claimed by one worker at a time, and marked
// as being sent before the mail server hears of it. From that mark on nobody may
// take it back, and nobody sends it again by themselves: if the worker dies, it is
// held until a person has looked.
package touch

import "slices"

// State is what has become of a touch.
type State string

// The states. Ready and Desk are those in which something is still to be done;
// Held and Stopped wait for a person's word; the others are ends.
const (
	Ready     State = "ready"     // an email, to be sent
	Sent      State = "sent"      // the mail server has taken it
	Held      State = "held"      // perhaps sent: nobody knows
	Stopped   State = "stopped"   // cannot be sent as it is
	Passed    State = "passed"    // gone on without it
	Withdrawn State = "withdrawn" // taken back before it went out
	Desk      State = "desk"      // work that somebody is to do
	Done      State = "done"      // with an outcome
	Missed    State = "missed"    // nobody did it in time
)

// moves are the states that follow each. What was withdrawn comes back where the
// leaving that withdrew it is undone.
var moves = []struct {
	from State
	to   []State
}{
	{Ready, []State{Sent, Held, Stopped, Passed, Withdrawn}},
	{Held, []State{Sent, Ready, Passed}},
	{Stopped, []State{Sent, Ready, Passed, Withdrawn}},
	{Desk, []State{Done, Missed, Withdrawn}},
	{Withdrawn, []State{Ready, Desk}},
	{Sent, nil}, {Passed, nil}, {Done, nil}, {Missed, nil},
}

// States lists them.
func States() []State {
	out := make([]State, len(moves))
	for i, m := range moves {
		out[i] = m.from
	}
	return out
}

// May reports whether a touch may go from s to to.
func (s State) May(to State) bool {
	for _, m := range moves {
		if m.from == s {
			return slices.Contains(m.to, to)
		}
	}
	return false
}

// Before lists the states from which a touch may go to s.
func (s State) Before() []State {
	var out []State
	for _, m := range moves {
		if slices.Contains(m.to, s) {
			out = append(out, m.from)
		}
	}
	return out
}

// Phase is where a letter is on its way out.
type Phase string

// The phases.
const (
	Waiting Phase = "waiting" // for its instant, and for a worker
	Claimed Phase = "claimed" // by one
	Sending Phase = "sending" // the mail server may have heard of it
	Aside   Phase = "aside"   // held or stopped: for a person's word
	Over    Phase = "over"    // gone out, or not to go any more
)

var phases = []struct {
	from Phase
	to   []Phase
}{
	{Waiting, []Phase{Claimed, Over}},
	{Claimed, []Phase{Sending, Waiting, Aside, Over}},
	{Sending, []Phase{Over, Waiting, Aside}},
	{Aside, []Phase{Waiting, Over}},
	{Over, []Phase{Waiting}},
}

// Phases lists them.
func Phases() []Phase {
	out := make([]Phase, len(phases))
	for i, p := range phases {
		out[i] = p.from
	}
	return out
}

// May reports whether a letter may go from p to to.
func (p Phase) May(to Phase) bool {
	for _, x := range phases {
		if x.from == p {
			return slices.Contains(x.to, to)
		}
	}
	return false
}

// Letter is the phase in which the letter of a touch in s is, where no worker has
// it; "" where it is sent by none.
func (s State) Letter() Phase {
	switch s {
	case Ready:
		return Waiting
	case Held, Stopped:
		return Aside
	case Sent, Passed, Withdrawn:
		return Over
	}
	return ""
}

// Lane is what a letter was written for; each has its own line before the
// workers, so that a large one-off email holds up no sequence, and neither of them
// somebody who waits for what they asked for.
type Lane int16

// The lanes, in the order in which they are served.
const (
	Single  Lane = iota + 1 // a form's answer, or one that somebody wrote by hand
	OfWay                   // a step of a sequence
	ToGroup                 // a one-off email
)

// Lanes lists them in that order.
func Lanes() []Lane { return []Lane{Single, OfWay, ToGroup} }
