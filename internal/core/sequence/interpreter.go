package sequence

import (
	"maps"
	"math"
	"time"

	"ombak/internal/core/act"
	"ombak/internal/core/calendar"
	"ombak/internal/core/contact"
	"ombak/internal/core/event"
	"ombak/internal/core/plainly"
	"ombak/internal/core/rule"
	"ombak/internal/core/signal"
)

// Facts is what the interpreter asks about the person of an enrolment.
type Facts interface {
	rule.Facts
	// Zone is the person's time zone.
	Zone() *time.Location
	// Holidays are those of the person's country.
	Holidays() calendar.Holidays
	// Touch tells what became of this enrolment's touch at a step: the newest, where
	// it came there more than once.
	Touch(StepID) Touch
	// Nth is the instant of the n-th signal that matches p, at from or later
	// and not after to; false where there are fewer.
	Nth(p *signal.Pattern, n int, from, to time.Time) (time.Time, bool)
	// Left is why and since when the person must leave, if a leave rule holds.
	Left() (Reason, time.Time, bool)
	// Bars is why the person cannot enter another sequence now; empty where they can.
	Bars(sequence int64) string
	// Rested is the instant of the last touch that marketing made to the person from
	// anywhere: of the last email, or with any of the last of whatever kind; zero: none.
	// What answered their own request does not count.
	Rested(any bool) time.Time
	// Event is an event as it is now; false: it is not there any more.
	Event(id int64) (event.Event, bool)
	// Reach is what decides whether the person may be reached on the grounds of the plan's touches.
	Reach() contact.Facts
}

// Touch is what became of a touch.
type Touch struct {
	At    time.Time      // when it was done or passed over; zero: not yet
	Ended bool           // done or passed over
	Why   contact.Reason // it was passed over
	What  Outcome        // of a call
	Visit int32          // of which visit of the step it is; 0: of the first
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
	TookBack      Reason = "took consent back"

	MustNotContact Reason = "do not contact"
	Over           Reason = "sequence ended"
)

// Planned reports whether a way that ended for a reason came to an end that was drawn.
func (r Reason) Planned() bool { return r == Finished || r == HandedOver || r == WentOn }

// PassedOver is the reason of a step whose touch was passed over, and not of
// somebody who left: it stands in the log beside the exit by which they went on.
func PassedOver(why contact.Reason) Reason {
	if r, ok := passedOver[why]; ok {
		return r
	}
	return Reason("passed over: " + string(why))
}

var passedOver = func() map[contact.Reason]Reason {
	out := map[contact.Reason]Reason{}
	for _, why := range contact.Reasons() {
		out[why] = Reason("passed over: " + string(why))
	}
	return out
}()

// leaves is why somebody leaves whom a touch must not reach, empty where it is
// only that touch: one without a number can still be written to.
func leaves(why contact.Reason) Reason {
	switch why {
	case contact.Erased:
		return NoAddress
	case contact.DoNotContact:
		return MustNotContact
	case contact.OptedOut:
		return OptedOut
	}
	return ""
}

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
	case signal.SaidInterested:
		return SaidYes, true
	case signal.SaidNotNow:
		return SaidLater, true
	case signal.SaidNotInterested:
		return SaidNo, true
	case signal.SaidWrongPerson:
		return NotTheOne, true
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
	Key     int64 // of the enrolment: it never changes, so that what is drawn by it can be told in advance
	Step    StepID
	Visit   int32 // the how-manieth time it has come to Step; 0 is 1
	Phase   Phase
	Entered time.Time
	Reached time.Time // of Step
	Due     time.Time // when the step is due or its touch is given up; zero: only when something happens
	Look    time.Time // when to look again: when due, or at the end of the longest stay; zero: neither
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

// Effect is an act that a step asks for.
type Effect struct {
	act.Act
	Step  StepID
	At    time.Time
	Visit int32 // of the step; 0 is 1
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
	step   Step
	id     StepID
	exits  []Exit
	next   []int32   // by the place of the exit
	does   []act.Act // that begin it
	need   Need
	after  [needs]time.Duration      // before a step that needs it can be come to, at least; never: none can
	behind [needs]time.Duration      // the same of the steps after this one
	rests  struct{ any, email bool } // what rests count, when it reaches somebody
}

// never is longer than any way takes.
const never = time.Duration(math.MaxInt64)

// Need says which facts the steps that can follow may ask for, so that nothing
// else has to be loaded.
type Need uint16

// The needs.
const (
	NeedSignals Need = 1 << iota // Nth, from entry on
	NeedHistory                  // Count, from any time on
	NeedScore
	NeedRecord // Record, with its fields
	NeedAround // Record, with what stands around the fields too
	NeedTouch
	NeedEntry // Bars
	NeedRest  // Rested
	NeedEvent // Event
	Answers   // no fact: an email that answers the reader's own request can follow
	MayReach  // no fact: a touch can be made

	needs = iota // how many there are
)

// Compile makes a launched plan ready to run. It fails where Check does.
func Compile(p *Plan, sequence int64, holdUntil time.Time, w calendar.Working) (*Program, error) {
	if problems := p.Check(); len(problems) > 0 {
		return nil, plainly.Errorf("sequence %d cannot run: step %d: %s", sequence, problems[0].Step, problems[0].Text)
	}
	order, _ := p.order()
	if len(p.Hours.Off) > 0 { // on its days off nobody works either
		holidays := calendar.Holidays{}
		maps.Copy(holidays, w.Holidays)
		for _, d := range p.Hours.Off {
			holidays[d] = true
		}
		w.Holidays = holidays
	}
	pr := &Program{Sequence: sequence, HoldUntil: holdUntil, Working: w, plan: p, index: map[StepID]int32{}}
	for i, id := range order {
		pr.index[id] = int32(i)
		n := node{step: p.Step(id), id: id}
		n.rests.any, n.rests.email = p.RestsAfter(id)
		if t, ok := n.step.(timed); ok {
			n.does = t.does()
		}
		pr.nodes = append(pr.nodes, n)
	}
	for i := len(pr.nodes) - 1; i >= 0; i-- { // successors first
		n := &pr.nodes[i]
		if x, ok := n.step.(interface{ needs() Need }); ok {
			n.need = x.needs()
		}
		if x, ok := n.step.(interface{ events() []int64 }); ok && len(x.events()) > 0 {
			n.need |= NeedEvent
		}
		if t, ok := n.step.(reaching); ok {
			if n.need |= MayReach; p.Rest.asks(p.On(t)) {
				n.need |= NeedRest
			}
		}
		if p.LeaveIf != nil {
			n.need |= needsOf(p.LeaveIf)
		}
		for b := range n.after {
			if n.after[b], n.behind[b] = never, never; n.need&(1<<b) != 0 {
				n.after[b] = 0
			}
		}
		least := time.Duration(0)
		if x, ok := n.step.(interface{ least() time.Duration }); ok {
			least = x.least()
		}
		n.exits = n.step.Exits()
		for _, exit := range n.exits {
			to := pr.index[n.step.About().To[exit]]
			n.next = append(n.next, to)
			n.need |= pr.nodes[to].need
			for b, after := range pr.nodes[to].after {
				if after >= never-least {
					continue
				}
				n.after[b], n.behind[b] = min(n.after[b], after+least), min(n.behind[b], after+least)
			}
		}
	}
	return pr, nil
}

// NeedsBy says what facts Advance may ask for at an instant of somebody at s. What stands behind a pause that cannot be
// over by then is not asked for: with a long plan that is most of it.
func (p *Program) NeedsBy(s State, now time.Time) (n Need) {
	i, ok := p.index[s.Step]
	if !ok {
		return 0
	}
	passed := max(now.Sub(s.Reached), 0)
	for b, after := range p.nodes[i].after {
		if s.Phase == Out && onceOut&(1<<b) != 0 {
			after = p.nodes[i].behind[b]
		}
		if after <= passed {
			n |= 1 << b
		}
	}
	return n
}

// onceOut is what a step needs no more once its touch is out.
const onceOut = NeedRest | MayReach

// Needs says what facts Advance may ask for from step id on, sooner or later.
func (p *Program) Needs(id StepID) Need {
	if i, ok := p.index[id]; ok {
		return p.nodes[i].need
	}
	return 0
}

// RestsAfter is the plan's, answered at once.
func (p *Program) RestsAfter(id StepID) (any, email bool) {
	if i, ok := p.index[id]; ok {
		return p.nodes[i].rests.any, p.nodes[i].rests.email
	}
	return false, false
}

// Plan returns the plan that p was made from. It must not be changed.
func (p *Program) Plan() *Plan { return p.plan }

// Enter is the state of somebody who enters at an instant.
func (p *Program) Enter(at time.Time) State {
	return State{Step: p.plan.Start, Entered: at, Reached: at, Due: at, Look: at}
}

// verdict is how a step ends its look at somebody: it goes on by an exit (the
// place of it among the kind's) at an instant, ends the way, or waits.
type verdict struct {
	exit   int // ≥ 0: by that exit
	at     time.Time
	reason Reason // of an end, or why a touch was passed over
}

const (
	waits = -1
	ends  = -2
)

// run is what a step sees while it is asked.
type run struct {
	pattern signal.Pattern // room for the one a step asks with
	p       *Program
	n       *node // of the step
	st      *State
	f       Facts
	now     time.Time
	stale   bool         // what was asked for changes facts: whoever comes next is looked at anew
	touched [2]time.Time // the last email, and the last touch, that this look began
	closing bool         // they leave directly after now: what is over is passed, and nothing is begun
	d       *Decision
}

func (r *run) wait(until time.Time) verdict {
	r.st.Phase, r.st.Due = Waiting, until
	return verdict{exit: waits}
}

// out waits for whoever carries the touch to report, and is due at an instant if
// it is given up then.
func (r *run) out(due time.Time) verdict {
	r.st.Phase, r.st.Due = Out, due
	return verdict{exit: waits}
}

// tick is the least time there is between two instants: what holds at a limit is
// decided one tick after it.
const tick = time.Microsecond

// act asks for an act.
func (r *run) act(a act.Act) {
	r.d.Effects = append(r.d.Effects, Effect{a, r.st.Step, r.now, r.st.Visit})
}

// mine is what became of the touch of a step at this visit of it.
func (r *run) mine(id StepID) Touch {
	if t := r.f.Touch(id); max(t.Visit, 1) == max(r.st.Visit, 1) {
		return t
	}
	return Touch{}
}

// allowed moves an instant to the next at which a step may be done.
func (r *run) allowed(t *Timing, at time.Time) time.Time {
	if at.Before(r.p.HoldUntil) {
		at = r.p.HoldUntil
	}
	next, err := r.p.plan.hoursOf(t).Resting(r.f.Holidays()).Next(at, r.zoneOf(t))
	if err != nil { // Compile refuses such a plan
		return at
	}
	return next
}

// MayGoOut is the first instant, not before now, at which the email of a step may
// go out to a reader in a zone and with the holidays of their country. Whatever has moved an
// email later asks it again.
func (p *Plan) MayGoOut(
	id StepID, now time.Time, zone *time.Location, holidays calendar.Holidays,
) (time.Time, error) {
	t := &Timing{}
	if s, ok := p.Step(id).(reaching); ok {
		if _, request := s.reaches(); request {
			return now, nil
		}
		t = s.timing()
	}
	return p.hoursOf(t).Resting(holidays).Next(now, p.hoursIn(t, zone))
}

// workingFor says which dates are worked on for somebody: those of the plan, less the
// holidays of their country.
func (p *Program) workingFor(f Facts) calendar.Working {
	w := p.Working
	w.Also = f.Holidays()
	return w
}

// ready reports whether a step can begin now. Where it goes on at once instead, or
// waits, the verdict says how. A worker that comes late finds the hours over and waits
// for the next; an answer to one's own request waits for the launch hold alone. What
// reaches nobody, since they may not be reached or its date is over, is passed over, by
// an exit, or they leave.
func (r *run) ready(s timed, passed int) (v verdict, ok bool) {
	t := s.timing()
	if t.From != nil {
		if _, since, off := r.from(t.From); off && !since.After(r.now) {
			return verdict{exit: passed, at: since, reason: EventOff}, false
		}
	}
	if r.st.Phase == Arrived || t.From != nil { // an event can be moved while they wait
		due, late := t.due(r)
		switch {
		case late && t.Late == LateLeave:
			return verdict{exit: ends, at: r.known(t), reason: TooLate}, false
		case late && t.Late != LateNow:
			return verdict{exit: passed, at: r.known(t), reason: DateOver}, false
		case late:
			due = r.known(t)
		}
		r.st.Due = due
	}
	d := r.st.Due
	if d.Before(r.now) {
		d = r.now
	}
	reach, reaches := s.(reaching)
	var by contact.Channel
	var ground contact.Ground
	if reaches {
		by, ground = r.p.plan.On(reach)
	}
	_, work := s.(Work)
	if !ground.Request && (reaches || work || t.Own != nil) {
		d = r.allowed(t, d)
	} else if d.Before(r.p.HoldUntil) {
		d = r.p.HoldUntil
	}
	if reaches && r.p.plan.Rest.asks(by, ground) {
		var over bool
		if d, over = r.rested(t, d); over && !d.After(r.now) {
			return verdict{exit: passed, at: d, reason: TooLittleRest}, false
		}
	}
	if r.closing {
		return r.wait(r.st.Due), false
	}
	if d.After(r.now) {
		return r.wait(d), false
	}
	if reaches {
		if why := contact.Why(r.f.Reach(), by, ground); why != "" {
			if reason := leaves(why); reason != "" {
				return verdict{exit: ends, at: r.now, reason: reason}, false
			}
			return verdict{exit: passed, at: r.now, reason: PassedOver(why)}, false
		}
	}
	return verdict{}, true
}

// known is since when the date of a step stands: since they came to it, or since the event
// it is reckoned from was moved.
func (r *run) known(t *Timing) time.Time {
	if t.From == nil {
		return r.st.Reached
	}
	_, known, _ := r.from(t.From)
	return known
}

// begin begins the step by its acts.
func (r *run) begin() {
	if r.n.rests.any {
		r.touched[1] = r.now
	}
	if r.n.rests.email {
		r.touched[0] = r.now
	}
	for _, a := range r.n.does {
		r.act(a)
	}
}

// Advance walks st on as far as it can go at now: through every step that is
// done by then, to the next wait or the end. What it decides is appended to d.
// Behind a step that changes what later steps may ask, it stops, to be looked at
// again at once, with the facts as they are then.
//
// A wait that ends by itself ends at the instant it was due and not when a
// worker came by; a touch goes out when it is really looked at, and only if
// its hours are still open then.
//
// Somebody who must leave does so at the instant of what made them leave, or of
// the last thing done if that is later, whenever a worker comes by: the waits
// that were over before are passed first, and nothing is begun any more. What
// happens at that very instant comes after it, but for an email the mail server
// has taken and an outcome somebody recorded: those are done.
func (p *Program) Advance(st *State, f Facts, now time.Time, d *Decision) {
	i, ok := p.index[st.Step]
	if !ok || !st.Ended.IsZero() {
		return
	}
	reason, at, closing := f.Left()
	closing = closing && !at.After(now)
	var limit time.Time
	soonest := st.Entered.Add(p.plan.LongestStay.AtLeast()) // the limit is reckoned where it may matter
	if p.plan.LongestStay.N > 0 && !soonest.After(now) {
		limit = p.plan.LongestStay.After(st.Entered, f.Zone(), p.workingFor(f))
		if !limit.After(now) && (!closing || limit.Before(at)) {
			reason, at, closing = StayedTooLong, limit, true
		}
	}
	if !closing && p.plan.LeaveIf != nil && p.plan.LeaveIf.Asks() && p.plan.LeaveIf.Holds(f, now) {
		reason, at, closing = LeftByRule, now, true
	}
	r := &d.run
	*r = run{p: p, st: st, f: f, now: now, closing: closing, d: d}
	if closing {
		r.now = at.Add(-tick)
	}
	for {
		n := &p.nodes[i]
		r.n = n
		if closing && !st.Reached.Before(at) && !(st.Phase == Out && r.mine(n.id).Ended) {
			p.Leave(st, reason, st.Reached, d)
			return
		}
		v := n.step.advance(r)
		switch v.exit {
		case waits:
			if closing {
				p.Leave(st, reason, at, d)
				return
			}
			st.Look = st.Due
			if p.plan.LongestStay.N == 0 || !st.Due.IsZero() && !soonest.Before(st.Due) {
				return
			}
			limit = p.plan.LongestStay.After(st.Entered, f.Zone(), p.workingFor(f))
			if st.Due.IsZero() || limit.Before(st.Due) {
				st.Look = limit
			}
			return
		case ends:
			d.Logs = append(d.Logs, Log{st.Step, v.at, "", v.reason})
			st.end(v.reason, v.at)
			return
		}
		d.Logs = append(d.Logs, Log{Step: n.id, At: v.at, Exit: n.exits[v.exit], Reason: v.reason})
		i = n.next[v.exit]
		visit := int32(0)
		if p.nodes[i].id == st.Step {
			visit = max(st.Visit, 1) + 1
		}
		st.Step, st.Visit, st.Phase, st.Reached, st.Due = p.nodes[i].id, visit, Arrived, v.at, v.at
		if r.stale && !closing && p.nodes[i].need != 0 {
			st.Look = now
			return
		}
	}
}

// Leave ends the way where it stands, for a reason.
func (p *Program) Leave(st *State, reason Reason, at time.Time, d *Decision) {
	if !st.Ended.IsZero() {
		return
	}
	d.Logs = append(d.Logs, Log{Step: st.Step, At: at, Reason: reason})
	st.end(reason, at)
}

func (st *State) end(reason Reason, at time.Time) {
	st.Ended, st.Reason, st.Due, st.Look = at, reason, time.Time{}, time.Time{}
}
