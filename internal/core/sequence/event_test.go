package sequence

import (
	"strings"
	"testing"
	"time"

	"ombak/internal/core/calendar"
	"ombak/internal/core/contact"
	"ombak/internal/core/event"
	"ombak/internal/core/signal"
)

// TestAnEventMoves is what becomes of somebody who waits for an instant that is reckoned
// from an event, when the event is moved or cancelled: they are looked at on day 1, and
// wait; it changes on day 2; then they are looked at on the day that is said. Day 0 is a
// Tuesday, 09:20; the event begins on day 6, a Monday.
func TestAnEventMoves(t *testing.T) {
	before := &FromEvent{Offset: event.Offset{Span: calendar.Span{N: 1, Unit: calendar.Days}, Clock: 9*60 + 20}}
	hour := &FromEvent{Offset: event.Offset{Span: calendar.Span{N: 1, Unit: calendar.Hours}, After: true}}
	reminder := func(late Late) Step {
		return &Email{Message: 1, Request: true, Timing: Timing{From: before, Late: late}}
	}
	pause := func() Step { return &Pause{Until: hour} }
	watch := func() Step { return &Watch{Signal: signal.Registered, Until: before} }
	off := -1.0
	for _, c := range []struct {
		name   string
		step   Step
		begins float64 // the day to which it is moved; off: it is cancelled
		now    float64
		exit   Exit    // empty: it waits, is out, or has ended
		when   float64 // of the exit or the end; else when it is due
		reason Reason
	}{
		{"a reminder waits", reminder(LatePass), 6, 4, "", 5, ""},
		{"and goes out", reminder(LatePass), 6, 5, "", 0, ""},
		{"it follows to a later day", reminder(LatePass), 9, 5, "", 8, ""},
		{"and to an earlier one", reminder(LatePass), 4, 3, "", 0, ""},
		{"one that would have been before the move is passed over", reminder(LatePass), 2, 2, Next, 2, DateOver},
		{"at the instant of the move", reminder(LatePass), 2, 5, Next, 2, DateOver},
		{"or goes out now, if it is set so", reminder(LateNow), 2, 2, "", 0, ""},
		{"or ends their way", reminder(LateLeave), 2, 2, "", 2, TooLate},
		{"one of a cancelled event is passed over", reminder(LateNow), off, 4, Next, 2, EventOff},
		{"a pause follows too", pause(), 9, 8, "", 9 + 3./24, ""},
		{"and ends after the event", pause(), 9, 9.5, Next, 9 + 3./24, ""},
		{"one that is over by the move ends with it", pause(), 1.5, 3, Next, 2, ""},
		{"or with the cancelling", pause(), off, 3, Next, 2, ""},
		{"a watch has until then", watch(), 9, 8, "", 8, ""},
		{"and not longer", watch(), 9, 9, NotInTime, 8, ""},
		{"nor after the cancelling", watch(), off, 9, NotInTime, 2, ""},
	} {
		p := newPlan()
		p.LongestStay, p.LaunchHold, p.Event = calendar.Span{}, false, 5
		p.Hours = calendar.SendingHours{}
		for i := range p.Hours.Days {
			p.Hours.Days[i] = []calendar.Interval{{To: 24 * 60}}
		}
		if _, err := p.Insert(&Email{Message: 1}, 0, ""); err != nil {
			t.Fatal(err)
		}
		id, err := p.Insert(c.step, 0, "")
		if err != nil {
			t.Fatal(err)
		}
		pr := compile(t, p)
		if pr.Needs(id)&NeedEvent == 0 {
			t.Errorf("%s: it does not ask for its event", c.name)
		}
		e := event.Event{ID: 5, Zone: "UTC", Starts: day(6), Ends: day(6).Add(2 * time.Hour)}
		f, st, d := someone(), pr.Enter(day0), Decision{}
		f.reach = contact.Facts{Email: true}
		f.events = map[int64]event.Event{5: e}
		pr.Advance(&st, f, day(1), &d)
		if st.Step != id || st.Phase != Waiting || len(d.Logs) > 0 {
			t.Fatalf("%s: %+v %+v", c.name, st, d.Logs)
		}
		if e.Moved = day(2); c.begins == off {
			e.Cancelled = day(2)
		} else if c.begins != 6 {
			e.Starts, e.Ends = day(c.begins), day(c.begins).Add(2*time.Hour)
		} else {
			e.Moved = time.Time{}
		}
		f.events[5] = e
		d.Reset()
		pr.Advance(&st, f, day(c.now), &d)
		switch {
		case c.exit != "" || c.reason != "":
			if len(d.Logs) == 0 || d.Logs[0].Exit != c.exit || !d.Logs[0].At.Equal(day(c.when)) ||
				d.Logs[0].Reason != c.reason {
				t.Errorf("%s: %+v %+v; it is on day %v", c.name, st, d.Logs, c.when)
			}
		case c.when == 0:
			if st.Phase != Out || len(d.Effects) != 1 {
				t.Errorf("%s: %+v %+v; it is to go out", c.name, st, d.Logs)
			}
		default:
			if st.Step != id || st.Phase != Waiting || st.Due.Sub(day(c.when)).Abs() > tick {
				t.Errorf("%s: %+v; it is due on day %v", c.name, st, c.when)
			}
		}
	}
}

// A plan that means an event and has none says so once, and asks for it in the parts list;
// a step may mean another event than the plan.
func TestAPlanAndItsEvent(t *testing.T) {
	p := newPlan()
	before := &FromEvent{Offset: event.Offset{Span: calendar.Span{N: 1, Unit: calendar.Days}, Clock: 9 * 60}}
	for _, s := range []Step{&Email{Message: 1, Timing: Timing{From: before}},
		&Watch{Signal: signal.Registered, For: calendar.Span{N: 5, Unit: calendar.Days}, Event: 9},
		&Pause{Until: &FromEvent{}}} {
		if _, err := p.Insert(s, 0, ""); err != nil {
			t.Fatal(err)
		}
	}
	missing := func() (n int) {
		for _, x := range p.Check() {
			if strings.Contains(x.Text, "the event is still") {
				n++
			}
		}
		return n
	}
	events, asks := p.Events()
	if missing() != 1 || len(events) != 1 || events[0] != 9 || p.Step(asks) == nil {
		t.Errorf("%d say so; events %v, asked for by %d", missing(), events, asks)
	}
	p.Event = 4
	if events, _ = p.Events(); missing() != 0 || len(events) != 2 || p.EventOf(0) != 4 || p.EventOf(9) != 9 {
		t.Errorf("events %v", events)
	}
	parts := 0
	for _, x := range p.Parts() {
		if x.What == EventPart && x.ID == 4 {
			parts++
		}
	}
	if parts != 1 {
		t.Errorf("%d parts are the event", parts)
	}
	p.Refer(func(what PartKind, id int64) int64 {
		if what == EventPart {
			return id + 100
		}
		return id
	})
	if events, _ = p.Events(); p.Event != 104 || len(events) != 2 || p.EventOf(109) != 109 {
		t.Errorf("referred to: %v", events)
	}
	for words, s := range map[string]Step{"until 1 hour after the event": &Pause{Until: &FromEvent{Offset: event.Offset{
		Span: calendar.Span{N: 1, Unit: calendar.Hours}, After: true}}},
		"until the event begins for a registration": &Watch{Signal: signal.Registered, Until: &FromEvent{}},
		"1 day before the event at 09:00":           &Email{Timing: Timing{From: before}}} {
		if got := s.Says(Names{}); got != words {
			t.Errorf("%q", got)
		}
	}
	for _, s := range []Step{&Pause{Until: &FromEvent{Offset: event.Offset{Clock: -1}}},
		&Watch{Signal: signal.Came, Until: &FromEvent{Offset: event.Offset{Clock: 9999}}},
		&Email{Message: 1, Timing: Timing{From: &FromEvent{Offset: event.Offset{Span: calendar.Span{N: 1}}}}}} {
		said := 0
		s.check(p, func(string) { said++ })
		if said != 1 {
			t.Errorf("%T says %d times that it cannot be", s, said)
		}
	}
}
