package sequence

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"ombak/internal/core/act"
	"ombak/internal/core/calendar"
	"ombak/internal/core/contact"
	"ombak/internal/core/event"
	"ombak/internal/core/rule"
	"ombak/internal/core/signal"
)

// plain is a second reading of how somebody walks through a plan, written from
// the rules alone and for no speed at all: it knows everything that will happen
// and when a worker will look, and says what the log must be at the last look.
type plain struct {
	p        *Plan
	zone     *time.Location
	entered  time.Time
	looks    []time.Time // in their order
	leaves   time.Time   // zero: never
	why      Reason
	signals  []signal.Signal
	outcomes map[StepID]Outcome
	takes    map[StepID]time.Duration // from the begin of a touch to its end; missing: it never ends
	reach    contact.Facts
	rests    calendar.Holidays
	scores   float64
	barred   bool      // from the sequence they could go on to
	touched  time.Time // by another sequence; zero: never
	starts   time.Time // when the event begins, in UTC; it lasts two hours; zero: it is cancelled
	log      []Log
	begun    map[StepID]time.Time
	ended    map[StepID]time.Time
	takenOff []StepID
}

// works says which dates are worked on: from Monday to Friday, but the holidays.
func (x *plain) works() calendar.Working { return calendar.Working{Holidays: x.rests} }

func (x *plain) horizon() time.Time { return x.looks[len(x.looks)-1] }

// firstLook is the first look at or after an instant; false: there is none.
func (x *plain) firstLook(at time.Time) (time.Time, bool) {
	for _, l := range x.looks {
		if !l.Before(at) {
			return l, true
		}
	}
	return time.Time{}, false
}

func (x *plain) add(id StepID, at time.Time, e Exit, why Reason) {
	x.log = append(x.log, Log{Step: id, At: at, Exit: e, Reason: why})
}

// run walks from the start. What must leave leaves at its instant or that of
// the last thing done; what waited and was over before has been passed.
func (x *plain) run() {
	leaves, why := x.leaves, x.why
	if x.p.LongestStay.N > 0 {
		if stay := x.p.LongestStay.After(x.entered, x.zone, x.works()); leaves.IsZero() ||
			stay.Before(leaves) {
			leaves, why = stay, StayedTooLong
		}
	}
	if r := x.p.LeaveIf; r != nil && x.scores >= float64(r.If.N) && (leaves.IsZero() || leaves.After(x.looks[0])) {
		leaves, why = x.looks[0], LeftByRule
	}
	if leaves.After(x.horizon()) {
		leaves = time.Time{}
	}
	// over reports whether leaving comes before what happens at an instant.
	over := func(at time.Time) bool { return !leaves.IsZero() && !at.Before(leaves) }
	// What is decided directly after a limit ends at the limit, and is known then.
	id, at, known := x.p.Start, x.entered, x.entered
	for {
		leave := func() {
			if !leaves.IsZero() {
				x.add(id, later(leaves, at), "", why)
			}
		}
		if over(at) {
			leave()
			return
		}
		s := x.p.Step(id)
		var exit Exit
		var next time.Time
		switch s := s.(type) {
		case *End:
			x.add(id, at, "", Finished)
			return
		case *Pause:
			next = s.For.After(at, x.zone, x.works())
			if s.Until != nil {
				next = later(x.fromEvent(s.Until), at)
			}
			if over(next) || next.After(x.horizon()) {
				leave()
				return
			}
			exit = Next
		case *Check:
			exit, next = No, at
			if x.scores >= float64(s.Rule.If.N) {
				exit = Yes
			}
		case *Watch:
			from := x.entered
			if t, ok := x.ended[s.Of]; ok && s.Of != 0 {
				from = t
			}
			limit := s.For.After(at, x.zone, x.works())
			if s.Until != nil {
				limit = later(x.fromEvent(s.Until), at)
			}
			var seen []time.Time
			for _, g := range x.signals {
				if g.Kind == s.Signal && !g.At.Before(from) && !g.At.After(limit) && !g.Machine &&
					(s.Of == 0 || g.Step == int32(s.Of)) && (s.Signal != signal.Registered || g.Event == 5) {
					seen = append(seen, g.At)
				}
			}
			happened := len(seen) >= max(s.N, 1)
			decided := limit.Add(time.Microsecond)
			exit, next = NotInTime, limit
			if happened {
				exit = Happened
				if !s.AtEnd {
					next = later(seen[max(s.N, 1)-1], at)
					decided = next
				}
			}
			if over(decided) || decided.After(x.horizon()) {
				leave()
				return
			}
			known = later(known, decided)
		case *Sort:
			exit, next = Otherwise, at
			for i := len(s.Ways) - 1; i >= 0; i-- {
				if x.scores >= float64(s.Ways[i].Rule.If.N) {
					exit = Exit(fmt.Sprint("way ", s.Ways[i].Key))
				}
			}
		default:
			d := whatIs(s)
			due := d.timing.Wait.After(at, x.zone, x.works())
			day, from := d.timing.Date, d.timing.From
			if from != nil && x.starts.IsZero() {
				if len(s.Exits()) == 0 {
					x.add(id, at, "", TooLate)
					return
				}
				x.add(id, at, d.missed, EventOff)
				id = s.About().To[d.missed]
				continue
			}
			if day.Year > 0 || from != nil {
				if due = x.fromEvent(from); from == nil {
					due = time.Date(day.Year, day.Month, day.Day, 0, d.timing.Clock, 0, 0, x.zone)
				}
				if due.Before(at) {
					switch {
					case d.timing.Late == LateLeave, d.timing.Late == LatePass && len(s.Exits()) == 0:
						x.add(id, at, "", TooLate)
						return
					case d.timing.Late == LatePass:
						x.add(id, at, d.missed, DateOver)
						id = s.About().To[d.missed]
						continue
					}
					due = at
				}
			}
			isOpen := func(t time.Time) bool {
				return !d.hours || x.rests[calendar.DateOf(t, x.zone)] == false && (d.timing.Own == nil && open(t.In(x.zone)) ||
					d.timing.Own != nil && evening(t.In(x.zone)))
			}
			var began, givenUp time.Time
			rests := d.reaches && !d.request && x.p.Rest.Days > 0 && (x.p.Rest.Any || d.by == contact.Email)
			opens := func(t time.Time) time.Time { // the first instant from then on at which its hours are open
				for !isOpen(t) {
					t = t.Truncate(time.Minute).Add(time.Minute)
				}
				return t
			}
			// tired is whether they are to be left in peace at an instant, and given whether that would be too long.
			tired := func(l time.Time) (tired, given bool) {
				last := x.lastTouch(l, x.p.Rest.Any)
				free := last.Add(time.Duration(x.p.Rest.Days) * 24 * time.Hour)
				if !rests || last.IsZero() || !opens(l).Before(free) {
					return false, false
				}
				end := opens(due).Add(time.Duration(x.p.Rest.Most) * 24 * time.Hour)
				return true, opens(free).After(end) && !l.Before(end)
			}
			for _, l := range x.looks { // it is done at the first look at which its hours are open
				if l.Before(later(due, known)) {
					continue
				}
				leaving := over(l)
				if leaving { // they are looked at as they were the moment before
					l = leaves.Add(-time.Microsecond)
				}
				wait, given := tired(l)
				if given && !l.Before(later(due, known)) {
					givenUp = later(opens(due).Add(time.Duration(x.p.Rest.Most)*24*time.Hour),
						x.lastTouch(l, x.p.Rest.Any))
					if !leaving {
						known = l
					}
					break
				}
				if leaving {
					break
				}
				if isOpen(l) && !wait {
					began = l
					break
				}
			}
			if !givenUp.IsZero() {
				x.add(id, givenUp, d.missed, TooLittleRest)
				id, at = s.About().To[d.missed], givenUp
				continue
			}
			if began.IsZero() || over(began) {
				leave()
				return
			}
			g := x.p.Ground
			if d.request {
				g = contact.Ground{Request: true}
			}
			if e, is := s.(*Email); is && !d.request && e.Purpose > 0 {
				g = contact.Ground{Purpose: e.Purpose}
			}
			if !d.reaches {
				g = contact.Ground{Request: true}
			}
			if why := contact.Why(x.reach, d.by, g); !d.reaches {
			} else if why == contact.DoNotContact || why == contact.OptedOut {
				x.add(id, began, "", Reason(why))
				return
			} else if why != "" {
				x.add(id, began, d.missed, Reason("passed over: "+string(why)))
				id, at = s.About().To[d.missed], began
				continue
			}
			switch s := s.(type) {
			case *Handover:
				x.add(id, began, "", HandedOver)
				return
			case *GoOn:
				if x.barred {
					x.add(id, began, "", "could not go on: was on it")
					return
				}
				x.add(id, began, "", "went on")
				return
			case *Social:
				if s.What == SocialNote && !slices.ContainsFunc(x.signals, func(g signal.Signal) bool {
					return g.Kind == signal.Accepted && !g.Machine && !g.At.After(began)
				}) {
					x.add(id, began, NotPossible, NotConnected)
					id, at = s.About().To[NotPossible], began
					continue
				}
			}
			exit, next = Next, began
			if d.ends {
				x.begun[id] = began
			}
			if d.work {
				exit = wanted(s, x.outcomes[id])
			}
			if d.noWait {
				exit = IsDone
			}
			if d.noWait || !d.ends {
				break
			}
			took, ends := x.takes[id]
			done := began.Add(took)
			if !d.work {
				if !ends || over(done) || done.After(x.horizon()) {
					leave()
					return
				}
				next = done
			} else {
				last := d.limit.After(began, x.zone, x.works())
				switch {
				case ends && !done.After(last):
					if over(done) || done.After(x.horizon()) {
						leave()
						return
					}
					next = done
				default:
					// It is given up directly after the limit.
					if gone := last.Add(time.Microsecond); over(gone) || gone.After(x.horizon()) {
						leave()
						return
					}
					exit, next, known = Missed, last, last.Add(time.Microsecond)
				}
			}
			x.ended[id] = next
		}
		x.add(id, next, exit, "")
		id, at = s.About().To[exit], next
	}
}

// fromEvent is what a step says of an event that begins on a whole hour of UTC.
func (x *plain) fromEvent(f *FromEvent) time.Time {
	if f == nil || x.starts.IsZero() {
		return time.Time{}
	}
	from, sign := x.starts, -1
	if f.After {
		from, sign = x.starts.Add(2*time.Hour), 1
	}
	switch {
	case f.Span.N == 0:
		return from
	case f.Span.Unit == calendar.Hours:
		return from.Add(time.Duration(sign*f.Span.N) * time.Hour)
	}
	return time.Date(from.Year(), from.Month(), from.Day()+sign*f.Span.N, 0, f.Clock, 0, 0, time.UTC)
}

// doing is what the rules say of a step that does something.
type doing struct {
	timing  Timing
	by      contact.Channel
	reaches bool // the person, so that it asks whether it may
	request bool
	hours   bool // it waits for them
	work    bool // somebody says what came of it, within limit
	ends    bool // it is done when somebody reports, and not when it has begun
	limit   calendar.Span
	noWait  bool
	missed  Exit
}

func whatIs(s Step) doing {
	d := doing{missed: Next}
	toDo := func(t ToDo) {
		d.timing, d.work, d.ends, d.hours, d.limit, d.noWait, d.missed = t.Timing, true, true, true, t.Limit, t.NoWait,
			Missed
	}
	switch s := s.(type) {
	case *Email:
		d.timing, d.reaches, d.request, d.ends, d.hours = s.Timing, true, s.Request, true, !s.Request
	case *Call:
		toDo(s.ToDo)
		d.by, d.reaches = contact.Call, true
	case *Social:
		toDo(s.ToDo)
		d.by, d.reaches = contact.Social, true
	case *Post:
		toDo(s.ToDo)
		d.by, d.reaches, d.missed = contact.Post, true, NotPossible
	case *Task:
		toDo(s.ToDo)
	case *Change:
		d.timing, d.hours = s.Timing, s.Own != nil
	case *Alert:
		d.timing, d.hours = s.Timing, s.Own != nil
	case *Handover:
		d.timing, d.hours = s.Timing, s.Own != nil
	case *GoOn:
		d.timing, d.hours = s.Timing, s.Own != nil
	}
	return d
}

// lastTouch is the last touch from anywhere by an instant: of the other sequence, or of
// this one.
func (x *plain) lastTouch(by time.Time, any bool) (last time.Time) {
	if !x.touched.After(by) {
		last = x.touched
	}
	for id, b := range x.begun {
		d := whatIs(x.p.Step(id))
		if d.reaches && !d.request && (any || d.by == contact.Email) && !b.After(by) && b.After(last) {
			last = b
		}
	}
	return last
}

// evening is the hours of their own that some steps have: any day from 18:00 to 20:00.
func evening(t time.Time) bool { return t.Hour() >= 18 && t.Hour() < 20 }

// open is office hours as NewPlan sets them: Monday to Friday, 8:30 to 17:00.
func open(t time.Time) bool {
	m := t.Hour()*60 + t.Minute()
	return t.Weekday() != time.Saturday && t.Weekday() != time.Sunday && m >= 8*60+30 && m < 17*60
}

func later(a, b time.Time) time.Time {
	if a.After(b) {
		return a
	}
	return b
}

// seen is what the interpreter is told of the same person at one look.
type seen struct {
	facts
	x   *plain
	now time.Time
	out map[StepID]time.Time // touches begun

	need  Need // what Advance was said to need at this look
	asked Need // what it asked for all the same
}

// asks keeps that something was asked for that any of some needs would have loaded.
func (s *seen) asks(n Need) {
	if s.need&n == 0 {
		s.asked |= n
	}
}

func (s *seen) Score(of rule.Figure, at time.Time) float64 {
	s.asks(NeedScore)
	return s.facts.Score(of, at)
}

func (s *seen) Record() *rule.Record {
	s.asks(NeedRecord)
	if r := s.facts.Record(); r != nil && s.need&NeedAround == 0 {
		return &rule.Record{Values: r.Values}
	}
	return s.facts.Record()
}

func (s *seen) Event(id int64) (event.Event, bool) {
	s.asks(NeedEvent)
	return s.facts.Event(id)
}

func (s *seen) Touch(id StepID) Touch {
	s.asks(NeedTouch)
	began, ok := s.out[id]
	took, ends := s.x.takes[id]
	if at := began.Add(took); ok && ends && !at.After(s.now) {
		return Touch{At: at, Ended: true, What: s.x.outcomes[id]}
	}
	return Touch{}
}

// wanted is the exit by which an outcome goes on.
func wanted(s Step, o Outcome) Exit {
	if _, ok := s.(*Call); ok {
		return map[Outcome]Exit{NoAnswer: "not reached", LeftMessage: "not reached", WrongNumber: "not reached",
			TheyDoNotWantIt: "not interested", DoNotCall: "not interested", TheyTalked: "done"}[o]
	}
	return map[Outcome]Exit{DidIt: "done", DidNot: "not done", CouldNot: "not possible"}[o]
}

func (s *seen) Rested(any bool) time.Time {
	s.asks(NeedRest)
	as := plain{p: s.x.p, touched: s.x.touched, begun: s.out}
	return as.lastTouch(s.now, any)
}

func (s *seen) Bars(int64) string {
	s.asks(NeedEntry)
	if s.x.barred {
		return "was on it"
	}
	return ""
}

func (s *seen) Count(p *signal.Pattern, from, to time.Time) int {
	s.asks(NeedHistory)
	return signal.Count(s.x.signals, p, from, to)
}

func (s *seen) Left() (Reason, time.Time, bool) {
	return s.x.why, s.x.leaves, !s.x.leaves.IsZero() && !s.x.leaves.After(s.now)
}

func (s *seen) Nth(p *signal.Pattern, n int, from, to time.Time) (time.Time, bool) {
	s.asks(NeedSignals | NeedHistory)
	known := slices.DeleteFunc(slices.Clone(s.x.signals), func(g signal.Signal) bool { return g.At.After(s.now) })
	return signal.Nth(known, p, n, from, to)
}

// spared is what was not needed at some look, and would be later.
var spared Need

// walked is what the interpreter makes of somebody over all looks.
func walked(pr *Program, x *plain) ([]Log, map[StepID]time.Time) {
	st := pr.Enter(x.entered)
	w := &seen{facts: facts{zone: x.zone, score: x.scores, reach: x.reach, rests: x.rests}, x: x, out: map[StepID]time.Time{}}
	e := event.Event{ID: 5, Zone: "UTC", Starts: x.starts, Ends: x.starts.Add(2 * time.Hour)}
	if x.starts.IsZero() {
		e.Cancelled = day0.AddDate(0, 0, -1)
	}
	w.events = map[int64]event.Event{5: e}
	var logs []Log
	var d Decision
	for _, now := range x.looks {
		w.now = now
		for again := true; again; { // a touch that is done at once has its person looked at once more
			d.Reset()
			w.need = pr.NeedsBy(st, now)
			spared |= pr.Needs(st.Step) &^ w.need
			at := st
			pr.Advance(&st, w, now, &d)
			if w.asked != 0 {
				panic(fmt.Sprintf("at step %d, reached %v, it asks at %v for %b, and is said to need %b", at.Step, at.Reached,
					now, w.asked, w.need))
			}
			logs = append(logs, d.Logs...)
			for _, e := range d.Effects {
				switch e.Act.(type) {
				case act.Send, act.Work:
					w.out[e.Step] = e.At
					if any, _ := x.p.RestsAfter(e.Step); any && w.need&MayReach == 0 {
						panic(fmt.Sprintf("at step %d, reached %v, it reaches them at %v, and is said not to", at.Step,
							at.Reached, now))
					}
				}
			}
			again = len(d.Effects) > 0
		}
	}
	return logs, w.out
}

// somePlan makes a plan of a few steps whose lengths meet each other now and then.
func somePlan(t *testing.T, r *rand.Rand) *Plan {
	p := newPlan()
	p.LongestStay = calendar.Span{N: []int{0, 0, 3, 5, 8}[r.IntN(5)], Unit: calendar.Days}
	if r.IntN(3) == 0 {
		p.Rest = Rest{Days: 1 + r.IntN(3), Any: r.IntN(2) == 0, Most: 1 + r.IntN(3)}
	}
	if r.IntN(12) == 0 {
		own := rule.ScoreAtLeast(12)
		p.LeaveIf = &own
	}
	p.Ground = []contact.Ground{{Other: "customer"}, {Purpose: 1}}[r.IntN(2)]
	p.Event = 5
	fromEvent := func() *FromEvent {
		f := &FromEvent{Offset: event.Offset{After: r.IntN(2) == 0, Span: calendar.Span{N: r.IntN(3),
			Unit: []calendar.Unit{calendar.Days, calendar.Hours}[r.IntN(2)]}, Clock: 60 * r.IntN(24)}}
		if r.IntN(2) == 0 {
			f.Event = 5
		}
		return f
	}
	for range 2 + r.IntN(7) {
		days := calendar.Span{N: 1 + r.IntN(3), Unit: calendar.Days}
		at := Timing{Wait: calendar.Span{N: r.IntN(2), Unit: calendar.Days}}
		if r.IntN(6) == 0 {
			at = Timing{Date: calendar.DateOf(day0, time.UTC).Add(r.IntN(6)), Clock: 60 * r.IntN(24),
				Late: Lates()[r.IntN(3)]}
		}
		if r.IntN(8) == 0 {
			at = Timing{From: fromEvent(), Late: Lates()[r.IntN(3)]}
		}
		if r.IntN(8) == 0 {
			at.Own = &calendar.SendingHours{}
			for i := range at.Own.Days {
				at.Own.Days[i] = []calendar.Interval{{From: 18 * 60, To: 20 * 60}}
			}
		}
		toDo := ToDo{Timing: at, Limit: days, NoWait: r.IntN(4) == 0}
		var s Step
		switch r.IntN(14) {
		case 0, 1:
			s = &Email{Message: 1, Timing: at, Request: r.IntN(4) == 0, Purpose: []int64{0, 0, 0, 2}[r.IntN(4)]}
		case 2:
			s = &Call{ToDo: toDo}
		case 3:
			s = &Pause{For: days}
			if r.IntN(3) == 0 {
				s = &Pause{Until: fromEvent()}
			}
		case 4:
			s = &Check{Rule: rule.ScoreAtLeast(10)}
		case 5:
			s = &Task{ToDo: toDo, What: "look"}
		case 6:
			s = &Social{ToDo: toDo, What: SocialActs()[r.IntN(5)], Text: "hello"}
		case 7:
			s = &Sort{Ways: []Way{{Key: 1, Rule: rule.ScoreAtLeast(15)}, {Key: 3, Rule: rule.ScoreAtLeast(5)}}}
		case 8:
			s = &Change{Timing: at, Acts: []act.Kept{{Act: act.Tag{Name: "x"}}, {Act: act.Untag{Name: "y"}}}}
		case 10:
			s = &Post{ToDo: toDo, Card: "hello"}
		case 9:
			s = &Alert{Timing: at, Acts: []act.Kept{{Act: act.Alert{Words: "look"}}}}
		default:
			w := &Watch{Signal: []signal.Kind{signal.Open, signal.Click, signal.Registered}[r.IntN(3)], N: 1 + r.IntN(2),
				For: days, AtEnd: r.IntN(3) == 0}
			if r.IntN(4) == 0 {
				w.Until = fromEvent()
			}
			s = w
		}
		ids, _ := p.order()
		from := p.Step(ids[r.IntN(len(ids))])
		var err error
		if exits := from.Exits(); len(exits) == 0 || r.IntN(6) == 0 {
			_, err = p.Insert(s, 0, "")
		} else {
			_, err = p.Insert(s, from.About().ID, exits[r.IntN(len(exits))])
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	if r.IntN(3) == 0 {
		ids, _ := p.order()
		for _, id := range ids {
			if s := p.Step(id); len(s.Exits()) > 0 {
				var over Step = &Handover{}
				if r.IntN(3) == 0 {
					over = &GoOn{Sequence: 9}
				}
				if _, err := p.Insert(over, id, s.Exits()[0]); err == nil {
					break
				}
			}
		}
	}
	if len(p.Check()) > 0 {
		if _, err := p.Insert(&Email{Message: 1}, 0, ""); err != nil {
			t.Fatal(err)
		}
	}
	for _, s := range p.Steps {
		if w, ok := s.(*Watch); ok {
			if list := p.Touches(w.ID, "email"); len(list) > 0 && r.IntN(2) == 0 {
				w.Of = list[r.IntN(len(list))].About().ID
				if w.Signal.OfEvent() {
					w.Of = 0
				}
			}
		}
	}
	return p
}

// TestLateWorkers: whoever looks when, what happened is taken in the order of
// its instants. Thousands of plans and people, with looks at any time, against
// the plain reading; instants are whole hours and ticks beside them, so that
// they meet.
func TestLateWorkers(t *testing.T) {
	n := 20_000
	left := map[Reason]int{}
	var zones []*time.Location
	for _, name := range []string{"UTC", "Asia/Jakarta", "America/Anchorage"} {
		z, err := time.LoadLocation(name)
		if err != nil {
			t.Fatal(err)
		}
		zones = append(zones, z)
	}
	for seed := range n {
		r := rand.New(rand.NewPCG(uint64(seed), 10))
		p := somePlan(t, r)
		pr, err := Compile(p, 7, time.Time{}, calendar.Working{})
		if err != nil {
			t.Fatal(err)
		}
		some := func(days int) time.Time {
			at := day0.Add(time.Duration(r.IntN(days*8)) * 3 * time.Hour)
			if r.IntN(4) == 0 {
				at = at.Add(time.Duration(r.IntN(3)-1) * time.Microsecond)
			}
			return at
		}
		x := &plain{p: p, zone: zones[r.IntN(len(zones))], entered: day0, outcomes: map[StepID]Outcome{},
			takes: map[StepID]time.Duration{}, begun: map[StepID]time.Time{}, ended: map[StepID]time.Time{},
			reach: contact.Facts{Email: r.IntN(8) > 0, Phone: r.IntN(4) > 0, Profile: r.IntN(4) > 0,
				Postal: r.IntN(2) > 0, DoNotContact: r.IntN(20) == 0, OptedOut: r.IntN(20) == 0,
				NoCalls: r.IntN(10) == 0, Bounced: r.IntN(10) == 0, Consents: contact.Consents{{Purpose: 1, Is: contact.Consent(r.IntN(3))},
					{Purpose: 2, Is: contact.Consent(r.IntN(3))}}},
			scores: float64(r.IntN(20)), barred: r.IntN(2) == 0}
		for range r.IntN(3) {
			if x.rests == nil {
				x.rests = calendar.Holidays{}
			}
			x.rests[calendar.DateOf(day0, x.zone).Add(r.IntN(8))] = true
		}
		for range r.IntN(12) {
			g := signal.Signal{At: some(12), Machine: r.IntN(6) == 0,
				Kind: []signal.Kind{signal.Open, signal.Click, signal.Accepted, signal.Registered}[r.IntN(4)]}
			g.Sequence, g.Step = 7, int32(1+r.IntN(int(p.LastID)))
			g.Event = int64(4 + r.IntN(2))
			x.signals = append(x.signals, g)
		}
		slices.SortStableFunc(x.signals, func(a, b signal.Signal) int { return a.At.Compare(b.At) })
		for _, s := range p.Steps {
			if w, ok := s.(Work); ok {
				x.outcomes[s.About().ID] = w.Outcomes()[r.IntN(len(w.Outcomes()))]
			}
			if r.IntN(5) > 0 {
				x.takes[s.About().ID] = time.Duration(r.IntN(16)) * 6 * time.Hour
			}
		}
		if r.IntN(2) == 0 {
			x.leaves, x.why = later(some(10), day0.Add(time.Microsecond)), Answered
		}
		if r.IntN(2) == 0 {
			x.touched = some(8)
		}
		if r.IntN(6) > 0 {
			x.starts = day0.Truncate(time.Hour).Add(time.Duration(r.IntN(8*24)) * time.Hour)
		}
		for range 1 + r.IntN(30) {
			x.looks = append(x.looks, some(14))
		}
		x.looks = append(x.looks, day0.AddDate(0, 0, 15))
		x.looks = slices.DeleteFunc(x.looks, func(l time.Time) bool { return l.Before(x.entered) })
		slices.SortFunc(x.looks, time.Time.Compare)
		// A touch that ends is looked at then, as its carrier asks for, but only
		// where that carrier is on time; what is withdrawn never ends.
		x.run()
		for id := range x.takes {
			if _, ok := x.ended[id]; !ok && !x.leaves.IsZero() {
				if b, ok := x.begun[id]; ok && !b.Add(x.takes[id]).Before(x.leaves) {
					delete(x.takes, id)
				}
			}
		}
		if stay := p.LongestStay; stay.N > 0 {
			end := stay.After(day0, x.zone, x.works())
			for id, b := range x.begun {
				if took, ok := x.takes[id]; ok && !b.Add(took).Before(end) {
					if c, ok := p.Step(id).(Work); !ok || !c.toDo().NoWait {
						delete(x.takes, id)
					}
				}
			}
		}
		got, begun := walked(pr, x)
		if !slices.EqualFunc(got, x.log, sameLog) || !equalTimes(begun, x.begun) {
			t.Fatalf("seed %d: plan %s\nlooks %v\nsignals %v\nleaves %v (%v), stay %v, reach %+v, touched %v\ngot  %s, begun "+
				"%v\nwant %s, begun %v",
				seed, mustJSON(p), x.looks, x.signals, x.leaves, x.why, p.LongestStay, x.reach, x.touched, says(got), begun,
				says(x.log), x.begun)
		}
		for _, l := range got {
			if l.Reason == TooLittleRest || l.Reason == EventOff || l.Reason == DateOver {
				left[l.Reason]++
			}
		}
		if len(got) > 0 && got[len(got)-1].Exit == "" {
			left[got[len(got)-1].Reason]++
		}
	}
	for _, n := range []Need{NeedSignals, NeedHistory | NeedScore, NeedTouch, NeedEvent} {
		if spared&n == 0 {
			t.Errorf("%b was needed at every look: the cases show too little", n)
		}
	}
	for _, r := range []Reason{Finished, Answered, StayedTooLong, HandedOver, MustNotContact, TooLate, WentOn, TooLittleRest,
		LeftByRule, EventOff, DateOver} {
		if left[r] < n/300 {
			t.Errorf("only %d of %d ended as “%s”: the cases show too little", left[r], n, r)
		}
	}
}

func sameLog(a, b Log) bool {
	return a.Step == b.Step && a.Exit == b.Exit && a.Reason == b.Reason && a.At.Equal(b.At)
}

func equalTimes(a, b map[StepID]time.Time) bool {
	if len(a) != len(b) {
		return false
	}
	for id, t := range a {
		if !t.Equal(b[id]) {
			return false
		}
	}
	return true
}

func says(list []Log) (out string) {
	for _, l := range list {
		out += fmt.Sprintf("\n   step %d at %v by %q (%s)", l.Step, l.At.Sub(day0), l.Exit, l.Reason)
	}
	return out
}

func mustJSON(p *Plan) string {
	b, err := p.MarshalJSON()
	if err != nil {
		panic(err)
	}
	return string(b)
}
