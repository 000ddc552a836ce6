package sequence

import (
	"fmt"
	"time"

	"ombak/internal/core/calendar"
	"ombak/internal/core/rule"
	"ombak/internal/core/signal"
)

// Facts is what the interpreter asks about the person of an enrolment.
type Facts interface {
	rule.Facts
	// Zone is the person's time zone.
	Zone() *time.Location
	// Touch tells what became of this enrolment's touch at a step.
	Touch(StepID) Touch
	// Nth is the instant of the n-th signal that matches p, at from or later
	// and not after to; false where there are fewer.
	Nth(p *signal.Pattern, n int, from, to time.Time) (time.Time, bool)
	// Left is why the person must leave, if a leave rule holds.
	Left() (Reason, bool)
}

// Touch is what became of a touch.
type Touch struct {
	At    time.Time // when it was done or passed over; zero: not yet
	Ended bool      // done or passed over
}

// Reason is why somebody is no longer on a sequence.
type Reason string

// The reasons there are.
const (
	Finished      Reason = "finished"
	HandedOver    Reason = "handed over"
	Answered      Reason = "answered"
	OptedOut      Reason = "opted out"
	Bounced       Reason = "bounced"
	Complained    Reason = "complained"
	MetUs         Reason = "booked a meeting"
	DealOpened    Reason = "deal opened"
	StayedTooLong Reason = "stayed too long"
	TakenOut      Reason = "taken out by hand"
	NoAddress     Reason = "no usable address"

	MustNotContact Reason = "do not contact"
)

// LeaveFor is the reason to leave that a stopping signal gives.
func LeaveFor(k signal.Kind) (Reason, bool) {
	switch k {
	case signal.Reply:
		return Answered, true
	case signal.OptOut:
		return OptedOut, true
	case signal.Bounce:
		return Bounced, true
	case signal.Complaint:
		return Complained, true
	case signal.Meeting:
		return MetUs, true
	}
	return "", false
}

// Phase is how far somebody is within a step.
type Phase int16

// Arrived: its timing is not computed. Waiting: it will be looked at when due.
// Out: its touch is on the way and whoever carries it will report back.
const (
	Arrived Phase = iota
	Waiting
	Out
)

// State is one person's way through one sequence.
type State struct {
	Step    StepID
	Phase   Phase
	Entered time.Time
	Reached time.Time // of Step
	Due     time.Time // when to look again; zero: only when something happens
	Ended   time.Time // zero: still on the way
	Reason  Reason    // why, once ended
}

// Log is one step done: at At, by Exit (empty where the person left there).
type Log struct {
	Step   StepID
	At     time.Time
	Exit   Exit
	Reason Reason
}

// Do is what an effect asks for.
type Do int8

// SendEmail and PutOnDesk start the touch of a step, TakeOffDesk withdraws
// one nobody took in time, HandOver makes a handoff.
const (
	SendEmail Do = iota + 1
	PutOnDesk
	TakeOffDesk
	HandOver
)

// Effect is something the world has to do because of a decision.
type Effect struct {
	Do   Do
	Step StepID
	At   time.Time
}

// Decision is what Advance came to. Its slices are reused from call to call.
type Decision struct {
	Logs    []Log
	Effects []Effect

	run run // here and not on the stack, so that passing it on allocates nothing
}

// Reset empties d and keeps its memory.
func (d *Decision) Reset() { d.Logs, d.Effects = d.Logs[:0], d.Effects[:0] }

// Program is a plan made ready to run. It is read-only and can be shared.
type Program struct {
	Sequence  int64
	HoldUntil time.Time        // no touch before this instant: the launch hold
	Working   calendar.Working // of "working days"
	plan      *Plan
	nodes     []node
	index     map[StepID]int32
}

type node struct {
	step Step
	id   StepID
	next [3]int32 // by the place of the exit in the kind's Exits
	need Need
}

// Need says which facts the steps that can follow may ask for, so that nothing
// else has to be loaded.
type Need uint8

// The needs.
const (
	NeedSignals Need = 1 << iota // Nth, from entry on
	NeedHistory                  // Count, from any time on
	NeedScore
	NeedRecord // Text
	NeedTouch
)

// Compile makes a launched plan ready to run. It fails where Check does.
func Compile(p *Plan, sequence int64, holdUntil time.Time, w calendar.Working) (*Program, error) {
	if problems := p.Check(); len(problems) > 0 {
		return nil, fmt.Errorf("sequence %d cannot run: step %d: %s", sequence, problems[0].Step, problems[0].Text)
	}
	order, _ := p.order()
	pr := &Program{Sequence: sequence, HoldUntil: holdUntil, Working: w, plan: p, index: map[StepID]int32{}}
	for i, id := range order {
		pr.index[id] = int32(i)
		pr.nodes = append(pr.nodes, node{step: p.Step(id), id: id})
	}
	for i := len(pr.nodes) - 1; i >= 0; i-- { // successors first
		n := &pr.nodes[i]
		if x, ok := n.step.(interface{ needs() Need }); ok {
			n.need = x.needs()
		}
		for e, exit := range n.step.Kind().Exits {
			n.next[e] = pr.index[n.step.About().To[exit]]
			n.need |= pr.nodes[n.next[e]].need
		}
	}
	return pr, nil
}

// Needs says what facts Advance may ask for from step id on.
func (p *Program) Needs(id StepID) Need {
	if i, ok := p.index[id]; ok {
		return p.nodes[i].need
	}
	return 0
}

// Plan returns the plan that p was made from. It must not be changed.
func (p *Program) Plan() *Plan { return p.plan }

// Enter is the state of somebody who enters at an instant.
func (p *Program) Enter(at time.Time) State {
	return State{Step: p.plan.Start, Entered: at, Reached: at, Due: at}
}

// verdict is how a step ends its look at somebody: it goes on by an exit (the
// place of it among the kind's) at an instant, ends the way, or waits.
type verdict struct {
	exit   int8 // ≥ 0: by that exit
	at     time.Time
	reason Reason // of an end
}

const (
	waits int8 = -1
	ends  int8 = -2
)

// run is what a step sees while it is asked.
type run struct {
	pattern signal.Pattern // room for the one a step asks with
	p       *Program
	st      *State
	f       Facts
	now     time.Time
	d       *Decision
}

func (r *run) wait(until time.Time) verdict {
	r.st.Phase, r.st.Due = Waiting, until
	return verdict{exit: waits}
}

// out waits for whoever carries the touch to report, and at most until limit.
func (r *run) out(limit time.Time) verdict {
	r.st.Phase, r.st.Due = Out, limit
	return verdict{exit: waits}
}

func (r *run) effect(do Do) {
	r.d.Effects = append(r.d.Effects, Effect{do, r.st.Step, r.now})
}

// allowed moves an instant to the next at which a touch may go out.
func (r *run) allowed(t time.Time) time.Time {
	if t.Before(r.p.HoldUntil) {
		t = r.p.HoldUntil
	}
	next, err := r.p.plan.Hours.Next(t, r.hoursZone())
	if err != nil { // Compile refuses such a plan
		return t
	}
	return next
}

func (r *run) hoursZone() *time.Location {
	if z := r.p.plan.Hours.Zone; z != "" {
		loc, _ := calendar.ZoneFor(calendar.Whereabouts{Zone: z}, time.UTC)
		return loc
	}
	return r.f.Zone()
}

// MayGoOut is the first instant, not before now, at which the email of a step may
// go out to a reader in a zone. Whatever has moved an email later asks it again.
func (p *Plan) MayGoOut(id StepID, now time.Time, zone *time.Location) (time.Time, error) {
	if s, ok := p.Step(id).(*Email); ok && s.Request {
		return now, nil
	}
	if z := p.Hours.Zone; z != "" {
		zone, _ = calendar.ZoneFor(calendar.Whereabouts{Zone: z}, time.UTC)
	}
	return p.Hours.Next(now, zone)
}

// due tells whether a touch can go out now; if not, it has set when to look
// again. A worker that comes late finds the hours over and waits for the next.
// A touch for any hour waits for the launch hold alone.
func (r *run) due(wait calendar.Span, anyHour bool) bool {
	if r.st.Phase == Arrived {
		r.st.Due = wait.After(r.st.Reached, r.f.Zone(), r.p.Working)
	}
	d := r.st.Due
	if d.Before(r.now) {
		d = r.now
	}
	if !anyHour {
		d = r.allowed(d)
	} else if d.Before(r.p.HoldUntil) {
		d = r.p.HoldUntil
	}
	if d.After(r.now) {
		r.wait(d)
		return false
	}
	return true
}

// Advance walks st on as far as it can go at now: through every step that is
// done by then, to the next wait or the end. What it decides is appended to d.
//
// A wait that ends by itself ends at the instant it was due and not when a
// worker came by; a touch goes out when it is really looked at, and only if
// its hours are still open then.
func (p *Program) Advance(st *State, f Facts, now time.Time, d *Decision) {
	i, ok := p.index[st.Step]
	if !ok || !st.Ended.IsZero() {
		return
	}
	if reason, left := f.Left(); left {
		p.Leave(st, reason, now, d)
		return
	}
	var limit time.Time
	if p.plan.LongestStay.N > 0 {
		limit = p.plan.LongestStay.After(st.Entered, f.Zone(), p.Working)
		if !limit.After(now) {
			p.Leave(st, StayedTooLong, limit, d)
			return
		}
	}
	r := &d.run
	*r = run{p: p, st: st, f: f, now: now, d: d}
	for {
		n := &p.nodes[i]
		v := n.step.advance(r)
		switch v.exit {
		case waits:
			if !limit.IsZero() && (st.Due.IsZero() || limit.Before(st.Due)) {
				st.Due = limit
			}
			return
		case ends:
			d.Logs = append(d.Logs, Log{st.Step, v.at, "", v.reason})
			st.Ended, st.Reason, st.Due = v.at, v.reason, time.Time{}
			return
		}
		d.Logs = append(d.Logs, Log{Step: n.id, At: v.at, Exit: n.step.Kind().Exits[v.exit]})
		i = n.next[v.exit]
		st.Step, st.Phase, st.Reached, st.Due = p.nodes[i].id, Arrived, v.at, v.at
	}
}

// Leave ends the way where it stands, for a reason.
func (p *Program) Leave(st *State, reason Reason, at time.Time, d *Decision) {
	if !st.Ended.IsZero() {
		return
	}
	d.Logs = append(d.Logs, Log{Step: st.Step, At: at, Reason: reason})
	st.Ended, st.Reason, st.Due = at, reason, time.Time{}
}
