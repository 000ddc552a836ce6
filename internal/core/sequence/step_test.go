package sequence

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"ombak/internal/core/act"
	"ombak/internal/core/calendar"
	"ombak/internal/core/contact"
	"ombak/internal/core/rule"
	"ombak/internal/core/signal"
)

// at is an instant as people write it.
func at(t testing.TB, s string) time.Time {
	t.Helper()
	i, err := time.Parse(time.RFC3339, s)
	if err != nil {
		t.Fatal(err)
	}
	return i
}

// TestPause is when a pause ends: at its own instant on the reader's clock, whenever
// a worker comes by, and not a moment before. Day 0 is a Tuesday.
func TestPause(t *testing.T) {
	berlin, err := time.LoadLocation("Europe/Berlin")
	if err != nil {
		t.Fatal(err)
	}
	working := calendar.Working{Holidays: map[calendar.Date]bool{{Year: 2026, Month: 5, Day: 1}: true}}
	for _, c := range []struct {
		name    string
		zone    *time.Location
		span    calendar.Span
		from    string
		now     string
		over    bool
		instant string // of its end, or the one at which it is looked at next
	}{
		{"an hour", time.UTC, calendar.Span{N: 1, Unit: calendar.Hours}, "2026-04-14T09:20:00Z",
			"2026-04-14T10:19:59Z", false, "2026-04-14T10:20:00Z"},
		{"at its end it is over", time.UTC, calendar.Span{N: 1, Unit: calendar.Hours}, "2026-04-14T09:20:00Z",
			"2026-04-14T10:20:00Z", true, "2026-04-14T10:20:00Z"},
		{"a late worker finds it over at its own instant", time.UTC, calendar.Span{N: 90, Unit: calendar.Minutes},
			"2026-04-14T09:20:00Z", "2026-04-20T00:00:00Z", true, "2026-04-14T10:50:00Z"},
		{"days keep the reader's clock when it is put forward", berlin, calendar.Span{N: 2, Unit: calendar.Days},
			"2026-03-28T09:20:00+01:00", "2026-03-30T09:19:59+02:00", false, "2026-03-30T09:20:00+02:00"},
		{"and when it is put back", berlin, calendar.Span{N: 1, Unit: calendar.Days},
			"2026-10-24T09:20:00+02:00", "2026-10-25T09:20:00+01:00", true, "2026-10-25T09:20:00+01:00"},
		{"hours are elapsed time", berlin, calendar.Span{N: 24, Unit: calendar.Hours},
			"2026-03-28T09:20:00+01:00", "2026-03-29T10:20:00+02:00", true, "2026-03-29T10:20:00+02:00"},
		{"working days pass over a weekend", time.UTC, calendar.Span{N: 1, Unit: calendar.WorkingDays},
			"2026-04-17T09:20:00Z", "2026-04-18T09:20:00Z", false, "2026-04-20T09:20:00Z"},
		{"and over a holiday", time.UTC, calendar.Span{N: 1, Unit: calendar.WorkingDays},
			"2026-04-30T09:20:00Z", "2026-05-04T09:20:00Z", true, "2026-05-04T09:20:00Z"},
	} {
		p := newPlan()
		p.LongestStay = calendar.Span{}
		if _, err := p.Insert(&Email{Message: 1}, 0, ""); err != nil { // a plan is to reach somebody
			t.Fatal(err)
		}
		id, err := p.Insert(&Pause{Common: Common{Title: c.name}, For: c.span}, 0, "")
		if err != nil {
			t.Fatal(err)
		}
		pr, err := Compile(p, 7, time.Time{}, working)
		if err != nil {
			t.Fatal(err)
		}
		f, st, d := someone(), pr.Enter(at(t, c.from)), Decision{}
		f.zone = c.zone
		pr.Advance(&st, f, at(t, c.now), &d)
		if !c.over {
			if st.Step != id || st.Phase != Waiting || !st.Due.Equal(at(t, c.instant)) || len(d.Logs) > 0 {
				t.Errorf("%s: %+v, %+v; it is to wait", c.name, st, d.Logs)
			}
			continue
		}
		if len(d.Logs) == 0 || d.Logs[0].Step != id || d.Logs[0].Exit != Next || !d.Logs[0].At.Equal(at(t, c.instant)) {
			t.Errorf("%s: %+v, %+v; it is over at %s", c.name, st, d.Logs, c.instant)
		}
	}
}

// TestCall is what a call promises: it comes to the desk in hours and for those a call may
// reach; what came of it decides the way; at its limit an outcome is in time, after it is not.
// It has a day to wait and three to be made in. Day 0 is a Tuesday, 09:20.
func TestCall(t *testing.T) {
	day1 := calendar.Span{N: 1, Unit: calendar.Days}
	days3 := calendar.Span{N: 3, Unit: calendar.Days}
	usual := Call{ToDo: ToDo{Timing: Timing{Wait: day1}, Limit: days3}}
	none := calendar.Span{}
	begun := State{Phase: Out, Reached: day0, Due: day(4).Add(tick)}
	ended := func(d float64, what Outcome) Touch { return Touch{At: day(d), Ended: true, What: what} }
	phone := contact.Facts{Phone: true}
	for _, c := range []struct {
		name  string
		call  Call
		st    State // zero: they arrive on day 0
		touch Touch
		reach contact.Facts
		now   float64
		exit  Exit    // empty: it waits, or ends
		when  float64 // instant of the exit or the end, or the day on which it is due
		ends  Reason
		asks  []act.Act // what is asked for
	}{
		{"it waits its day", usual, State{}, Touch{}, phone, 0.5, "", 1, "", nil},
		{"then it comes to the desk, for three days", usual, State{}, Touch{}, phone, 1, "", 4, "",
			[]act.Act{act.Work{Of: "call"}}},
		{"at night it waits for the morning", Call{ToDo: ToDo{Limit: days3}}, State{}, Touch{}, phone, 0.5, "",
			1 - 50./60/24, "", nil},
		{"without a limit of its own it has five working days", Call{}, State{}, Touch{}, phone, 0, "", 7, "",
			[]act.Act{act.Work{Of: "call"}}},
		{"one that nothing waits for goes on at once", Call{ToDo: ToDo{NoWait: true}}, State{}, Touch{}, phone, 0,
			IsDone, 0, "",
			[]act.Act{act.Work{Of: "call"}}},
		{"nobody without a number is called", Call{}, State{}, Touch{}, contact.Facts{Email: true}, 0, Missed, 0, "",
			nil},
		{"nobody who must not be contacted stays", Call{}, State{}, Touch{},
			contact.Facts{Phone: true, DoNotContact: true}, 0, "", 0, MustNotContact, nil},
		{"on the desk it waits", usual, begun, Touch{}, phone, 3, "", 4, "", nil},
		{"they talked", usual, begun, ended(2, TheyTalked), phone, 3, IsDone, 2, "", nil},
		{"an outcome from before there were several", usual, begun, ended(2, ""), phone, 3, IsDone, 2, "", nil},
		{"nobody answered", usual, begun, ended(2, NoAnswer), phone, 3, NotReached, 2, "", nil},
		{"a message was left", usual, begun, ended(2, LeftMessage), phone, 3, NotReached, 2, "", nil},
		{"the number is wrong", usual, begun, ended(2, WrongNumber), phone, 3, NotReached, 2, "", nil},
		{"they do not want it", usual, begun, ended(2, TheyDoNotWantIt), phone, 3, NotInterested, 2, "", nil},
		{"they are not to be called", usual, begun, ended(2, DoNotCall), phone, 3, NotInterested, 2, "", nil},
		{"at the limit it is in time", usual, begun, ended(4, TheyTalked), phone, 9, IsDone, 4, "", nil},
		{"at the limit it still waits", usual, begun, Touch{}, phone, 4, "", 4, "", nil},
		{"then it is missed, and comes off the desk", usual, begun, Touch{}, phone, 9, Missed, 4, "",
			[]act.Act{act.Withdraw{}}},
		{"an outcome after it is too late, and is kept", usual, begun, ended(5, TheyTalked), phone, 9, Missed, 4, "",
			nil},
		{"passed over", usual, begun, Touch{At: day(2), Ended: true, Why: contact.NoNumber}, phone, 3, Missed, 2, "",
			nil},
	} {
		p := newPlan()
		p.LongestStay, p.LaunchHold = none, false
		call := c.call
		id, err := p.Insert(&call, 0, "")
		if err != nil {
			t.Fatal(err)
		}
		pr := compile(t, p)
		st, d := c.st, Decision{}
		if st.Phase == Arrived {
			st = pr.Enter(day0)
		}
		st.Step, st.Entered = id, day0
		f := someone()
		f.reach = c.reach
		pr.Advance(&st, &again{f, c.touch}, day(c.now), &d)
		var asked []act.Act
		for _, e := range d.Effects {
			asked = append(asked, e.Act)
		}
		if !slices.Equal(asked, c.asks) {
			t.Errorf("%s: it asks for %v, want %v", c.name, asked, c.asks)
		}
		near := func(i time.Time) bool { return i.Sub(day(c.when)).Abs() <= tick }
		switch {
		case c.exit == "" && c.ends == "":
			if st.Step != id || len(d.Logs) > 0 || !near(st.Due) {
				t.Errorf("%s: %+v, %+v; it is to wait for %v", c.name, st, d.Logs, day(c.when))
			}
		case len(d.Logs) == 0 || d.Logs[0].Exit != c.exit || !d.Logs[0].At.Equal(day(c.when)) || st.Reason != c.ends &&
			c.ends != "":
			t.Errorf("%s: %+v, %+v; want %q %q at %v", c.name, st, d.Logs, c.exit, c.ends, day(c.when))
		}
	}
}

// Whoever leaves is out of every step, at any of its phases, from the instant of the
// reason on; what a step before had over by then stands.
func TestLeavingFromEveryStep(t *testing.T) {
	for _, k := range Kinds() {
		p := newPlan()
		p.LongestStay = calendar.Span{}
		s := k.make()
		switch s := s.(type) { // what it goes without
		case *Watch:
			s.Of = 0
		case *Email:
			s.Message = 1
		case *Task:
			s.What = "look"
		case *Post:
			s.Card = "hello"
		case *Change:
			s.Acts = []act.Kept{{Act: act.Note{Words: "looked"}}}
		case *Alert:
			s.Acts = []act.Kept{{Act: act.Alert{Words: "look"}}}
		case *GoOn:
			s.Sequence = 8
		}
		email, err := p.Insert(&Email{Message: 1}, 0, "") // a plan is to reach somebody
		if err != nil {
			t.Fatal(err)
		}
		id := p.Step(email).About().To[Next] // an end
		if len(s.Exits()) > 0 {
			if id, err = p.Insert(s, 0, ""); err != nil {
				t.Fatal(err)
			}
		} else { // a way ends with it: in the place of the end
			s.About().ID = id
			p.Steps[slices.Index(p.Steps, p.Step(id))] = s
		}
		pr := compile(t, p)
		for _, phase := range []Phase{Arrived, Waiting, Out} {
			f, d := someone(), Decision{}
			f.left, f.leftAt = Answered, day(1)
			st := State{Step: id, Entered: day0, Reached: day(1), Phase: phase, Due: day(2)}
			pr.Advance(&st, f, day(3), &d)
			if st.Reason != Answered || !st.Ended.Equal(day(1)) || len(d.Effects) > 0 {
				t.Errorf("%s, phase %d: %+v, %v", k.Word, phase, st, d.Effects)
			}
			before := st
			pr.Leave(&st, TakenOut, day(3), &d)
			pr.Advance(&st, f, day(4), &d)
			if st != before || len(d.Logs) != 1 {
				t.Errorf("%s, phase %d: who has left leaves again: %+v", k.Word, phase, d.Logs)
			}
		}
	}
}

// Whoever stops is named with a reason, and no other signal takes anybody out.
func TestWhatTakesPeopleOut(t *testing.T) {
	want := map[signal.Kind]Reason{signal.Reply: Answered, signal.OptOut: OptedOut, signal.Bounce: Bounced,
		signal.Complaint: Complained, signal.Meeting: MetUs, signal.SaidInterested: SaidYes, signal.SaidNotNow: SaidLater,
		signal.SaidNotInterested: SaidNo, signal.SaidWrongPerson: NotTheOne}
	for _, k := range signal.Kinds() {
		if got, ok := LeaveFor(k); got != want[k] || ok != (want[k] != "") {
			t.Errorf("%v: %q, %v", k, got, ok)
		}
	}
	stays := []contact.Reason{contact.NoNumber, contact.NoCalls, contact.Bounced, contact.TookBack, contact.NoConsent, contact.NoGround,
		contact.NoAddress, contact.NoProfile, contact.NoPostal}
	for _, why := range contact.Reasons() {
		if got := leaves(why); (got == "") != slices.Contains(stays, why) {
			t.Errorf("%s: leaves for %q", why, got)
		}
		if got := PassedOver(why); got != Reason("passed over: "+string(why)) {
			t.Errorf("%s passed over says %q", why, got)
		}
	}
	if got := PassedOver("asleep"); got != "passed over: asleep" {
		t.Errorf("a reason of another version: %q", got)
	}
}

// An email that was moved goes out in the hours of its plan, in the plan's zone or the
// reader's, and one that was asked for at any hour.
func TestWhenAnEmailMayGoOut(t *testing.T) {
	p := newPlan()
	email, err := p.Insert(&Email{Message: 1}, 0, "")
	if err != nil {
		t.Fatal(err)
	}
	request, err := p.Insert(&Email{Message: 2, Request: true}, email, Next)
	if err != nil {
		t.Fatal(err)
	}
	jakarta, err := time.LoadLocation("Asia/Jakarta") // UTC+7, where no clock changes
	if err != nil {
		t.Fatal(err)
	}
	saturday := at(t, "2026-04-18T12:00:00Z")
	for _, c := range []struct {
		name string
		step StepID
		zone string // of the plan
		want string
	}{
		{"in the reader's hours", email, "", "2026-04-20T01:30:00Z"},
		{"in those of the plan's zone", email, "UTC", "2026-04-20T08:30:00Z"},
		{"what they asked for, now", request, "UTC", "2026-04-18T12:00:00Z"},
	} {
		p.Hours.Zone = c.zone
		got, err := p.MayGoOut(c.step, saturday, jakarta, nil)
		if err != nil || !got.Equal(at(t, c.want)) {
			t.Errorf("%s: %v, %v; want %s", c.name, got, err, c.want)
		}
		// and a plan that runs says the same
		st, d := State{Step: c.step, Entered: saturday, Reached: saturday}, Decision{}
		f := someone()
		f.zone = jakarta
		if compile(t, p).Advance(&st, f, saturday, &d); st.Phase == Out != (c.step == request) ||
			st.Phase == Waiting && !st.Due.Equal(got) {
			t.Errorf("%s: a running plan has %+v", c.name, st)
		}
	}
	if g := p.GroundOf(request); !g.Request {
		t.Error("what they asked for has no ground")
	}
	if g := p.GroundOf(email); g != p.Ground {
		t.Errorf("an email's ground is %+v, the plan's %+v", g, p.Ground)
	}
	if g := p.GroundOf(p.Step(request).About().To[Next]); g != (contact.Ground{}) {
		t.Errorf("the end has the ground %+v", g)
	}
}

// Somebody may enter a plan where one of its touches may reach them; else the reason is
// that of the first way. Held against asking each touch by itself.
func TestWhyNotAgainstEachTouch(t *testing.T) {
	steps := []Step{&Call{}, &Email{Message: 1}, &Email{Message: 2, Request: true}, &Pause{For: usualLimit},
		&Email{Message: 3, Purpose: 7}}
	for mask := range 1 << len(steps) {
		p := newPlan()
		for i, s := range steps {
			if mask>>i&1 == 1 {
				if _, err := p.Insert(CloneStep(s), 0, ""); err != nil {
					t.Fatal(err)
				}
			}
		}
		for bits := range 1 << 6 {
			f := contact.Facts{Email: bits&1 > 0, Phone: bits&2 > 0, OptedOut: bits&4 > 0, DoNotContact: bits&8 > 0,
				Bounced: bits&16 > 0}
			if bits&32 > 0 {
				f.Consents = contact.Consents{{Purpose: 7, Is: contact.Agreed}}
			}
			some, may := false, false
			whys := map[contact.Reason]bool{}
			for _, s := range p.Steps {
				switch s := s.(type) {
				case *Call:
					why := contact.Why(f, contact.Call, p.Ground)
					some, may, whys[why] = true, may || why == "", true
				case *Email:
					g := p.Ground
					if s.Purpose != 0 {
						g = contact.Ground{Purpose: 7}
					}
					if s.Request {
						g = contact.Ground{Request: true}
					}
					why := contact.Why(f, contact.Email, g)
					some, may, whys[why] = true, may || why == "", true
				}
			}
			got := p.WhyNot(f)
			if want := !some || may; (got == "") != want || !want && !whys[got] {
				t.Fatalf("%v with steps %04b: %q; of its touches %v", f, mask, got, whys)
			}
		}
	}
}

// What each kind says of itself stands on the map and in the panel; a step that is not
// whole says what it lacks.
func TestWhatStepsSay(t *testing.T) {
	days5 := calendar.Span{N: 5, Unit: calendar.Days}
	names := Names{Rules: &rule.Catalogue{}, Messages: map[int64]string{3: "Field guide"}, Acts: numbers{}}
	usually := Setting{"The sequence waits", "until it is done, at most 5 working days"}
	evenings := calendar.OfficeHours(18*60, 20*60)
	onDate := Timing{Date: calendar.Date{Year: 2026, Month: 5, Day: 14}, Clock: 9*60 + 5, Late: LateLeave, Own: &evenings}
	for _, c := range []struct {
		step     Step
		says     string
		settings []Setting
		lacks    []string
	}{
		{&Email{Message: 3, Timing: Timing{Wait: days5}}, "after 5 days", []Setting{{"Message", "Field guide"}}, nil},
		{&Email{Message: 3, Sender: 4, Purpose: 5}, "at once", []Setting{{"Message", "Field guide"},
			{"By the account of", "user 4"}, {"Goes to who agreed to", "purpose 5"}}, nil},
		{&Call{Attempts: 1, Team: 6}, "at once", []Setting{{"Guide", ""}, {"By", "the team team 6"}, {"Tried", "once"},
			usually}, nil},
		{&Call{Attempts: 21, For: 7}, "at once", []Setting{{"Guide", ""}, {"By", "user 7"}, {"Tried", "21 times at most"},
			usually}, []string{"is tried at most 20 times"}},
		{&Email{}, "at once", []Setting{{"Message", ""}}, []string{"has no message yet"}},
		{&Email{Message: 3, Thread: 99}, "at once", []Setting{{"Message", "Field guide"}},
			[]string{"answers in the thread of an email that does not come before it"}},
		{&Email{Message: 3, Timing: Timing{Wait: calendar.Span{N: -1, Unit: calendar.Days}}}, "after -1 days",
			[]Setting{{"Message", "Field guide"}}, []string{"a length of time cannot be negative"}},
		{&Email{Message: 3, Timing: onDate}, "on 14 May 2026 at 09:05", []Setting{{"Message", "Field guide"},
			{"When its date is over", "ends their way"}, {"Its own hours", "Mon–Fri 18:00–20:00 in the reader’s own time"}},
			nil},
		{&Email{Message: 3, Timing: Timing{Date: calendar.Date{Year: 2026, Month: 2, Day: 29}, Late: "never"}},
			"on 29 February 2026 at 00:00",
			[]Setting{{"Message", "Field guide"}, {"When its date is over", "is passed over"}},
			[]string{"its date is no day of the calendar"}},
		{&Email{Message: 3, Timing: Timing{Date: onDate.Date, Clock: 24 * 60}}, "on 14 May 2026 at 24:00",
			[]Setting{{"Message", "Field guide"}, {"When its date is over", "is passed over"}},
			[]string{"its time is none of the day"}},
		{&Email{Message: 3, Timing: Timing{Date: onDate.Date, Late: "never", Own: &calendar.SendingHours{}}},
			"on 14 May 2026 at 00:00", []Setting{{"Message", "Field guide"}, {"When its date is over", "is passed over"},
				{"Its own hours", "never"}},
			[]string{"says in no known way what is done when its date is over",
				"its own the sending hours have no interval"}},
		{&Call{Guide: "Ask for the depth."}, "at once", []Setting{{"Guide", "Ask for the depth."}, usually}, nil},
		{&Call{ToDo: ToDo{Limit: calendar.Span{N: 1}}}, "at once",
			[]Setting{{"Guide", ""}, {"The sequence waits", "until it is done, at most 1 "}},
			[]string{"a length of time needs a unit"}},
		{&Call{ToDo: ToDo{NoWait: true}}, "at once", []Setting{{"Guide", ""}, {"The sequence waits", "not at all"}}, nil},
		{&Task{What: "Send the loan form", ToDo: ToDo{Timing: Timing{Wait: days5}}}, "after 5 days",
			[]Setting{{"To do", "Send the loan form"}, {"For", "the owner"}, usually}, nil},
		{&Task{For: 3}, "at once", []Setting{{"To do", ""}, {"For", "user 3"}, usually},
			[]string{"says nothing of what is to be done"}},
		{&Social{What: Connect, Text: "Hello", After: 21}, "ask to connect, at once", []Setting{{"Words", "Hello"},
			{"Withdrawn", "after 21 days, if it is not accepted"}, usually}, nil},
		{&Social{What: Connect, Text: strings.Repeat("å", 301)}, "ask to connect, at once",
			[]Setting{{"Words", strings.Repeat("å", 301)}, usually},
			[]string{"its note has 301 letters, and the network takes 300"}},
		{&Social{What: SocialNote}, "write to them, at once", []Setting{usually}, []string{"says nothing yet"}},
		{&Social{What: React, N: 3}, "react to 3 posts, at once", []Setting{usually}, nil},
		{&Social{What: Vouch, N: 4}, "vouch for 4 skills, at once", []Setting{usually},
			[]string{"is done at most 3 times at once"}},
		{&Social{What: Visit}, "visit their profile, at once", []Setting{usually}, nil},
		{&Social{What: "poke", After: -1}, "vouch for a skill, at once", []Setting{usually},
			[]string{"a request stands for at most a year", "does something that the network does not know"}},
		{&Social{What: SocialNote, Text: strings.Repeat("x", 5001)}, "write to them, at once",
			[]Setting{{"Words", strings.Repeat("x", 5001)}, usually}, []string{"its message has more than 5000 letters"}},
		{&Sort{Ways: []Way{{1, "Hot", rule.ScoreAtLeast(30)}, {2, "", rule.ScoreAtLeast(15)}}}, "by 2 rules",
			[]Setting{{"Hot", "a score of 30 or more"}, {"Rule 2", "a score of 15 or more"}}, nil},
		{&Sort{}, "by 0 rules", nil, []string{"parts by one to 10 rules"}},
		{&Sort{Ways: []Way{{0, "", rule.ScoreAtLeast(30)}, {2, "", rule.Rule{}}, {2, "", rule.ScoreAtLeast(1)}}},
			"by 3 rules", []Setting{{"Rule 1", "a score of 30 or more"}, {"Rule 2", "everybody"},
				{"Rule 2", "a score of 1 or more"}},
			[]string{"rule 1 has the key of another", "rule 2 asks nothing yet", "rule 3 has the key of another"}},
		{&Change{Acts: []act.Kept{{Act: act.Untag{Name: "oxygen"}}}}, "take the tag “oxygen” off",
			[]Setting{{"Change", "take the tag “oxygen” off"}}, nil},
		{&Change{Acts: []act.Kept{{Act: act.Note{}}, {Act: act.HandOver{}}}}, "2 changes",
			[]Setting{{"Change", "note: "}, {"Change", "hand over"}},
			[]string{"say what the note says", "this cannot be done here"}},
		{&Change{}, "0 changes", nil, []string{"changes nothing yet"}},
		{&Alert{Acts: []act.Kept{{Act: act.Alert{Words: "look"}}}}, "tell the owner: look", []Setting{{"When", "at once"}},
			nil},
		{&Alert{}, "at once", []Setting{{"When", "at once"}}, []string{"tells nobody yet"}},
		{&GoOn{Sequence: 4}, "to “sequence 4”", []Setting{{"When", "at once"}}, nil},
		{&GoOn{}, "to another sequence", []Setting{{"When", "at once"}}, []string{"goes on to no sequence yet"}},
		{&Handover{Timing: Timing{Wait: days5}}, "to the owner, else in turn", []Setting{{"When", "after 5 days"}}, nil},
		{&Post{Card: "Thank you.", ToDo: ToDo{Limit: days5, NoWait: true}}, "at once",
			[]Setting{{"Words", "Thank you."}, {"The sequence waits", "not at all"}}, nil},
		{&Post{}, "at once", []Setting{{"Words", ""}, {"The sequence waits", "until it is done, at most 5 working days"}},
			[]string{"says nothing yet"}},
		{&Post{Card: strings.Repeat("a", MaxCard+1), ToDo: ToDo{NoWait: true}}, "at once",
			[]Setting{{"Words", strings.Repeat("a", MaxCard+1)}, {"The sequence waits", "not at all"}},
			[]string{"its card has more than 2000 letters"}},
		{&Pause{For: days5}, "5 days", nil, nil},
		{&Pause{}, "at once", nil, []string{"pauses for no time at all"}},
		{&Pause{For: calendar.Span{N: 800, Unit: calendar.Days}}, "800 days", nil,
			[]string{"a length of time can be at most 731 days"}},
		{&Watch{Signal: signal.Click, For: days5}, "5 days for a click", nil, nil},
		{&Watch{Signal: signal.Open, N: 3, For: days5}, "5 days for 3 opens", nil, nil},
		{&Watch{Signal: signal.Open, For: days5}, "5 days for an open", nil, nil},
		{&Watch{Signal: signal.Click, Of: 99, N: 1001}, "at once for 1001 clicks", nil,
			[]string{"watches for no time at all", "waits for a number of signals that cannot be",
				"watches an email that does not come before it"}},
		{&Watch{Signal: 99, For: calendar.Span{N: 1, Unit: "moons"}}, "1 moon for a signal 99", nil,
			[]string{"waits for an unknown signal", `unknown unit of time "moons"`}},
		{&Check{Rule: rule.ScoreAtLeast(15)}, "a score of 15 or more", nil, nil},
		{&Check{}, "everybody", nil, []string{"asks nothing yet"}},
		{&Handover{}, "to the owner, else in turn", nil, nil},
		{&End{}, "", nil, nil},
	} {
		if got := c.step.Says(names); got != c.says {
			t.Errorf("%s says %q, want %q", c.step.Kind().Word, got, c.says)
		}
		if got := c.step.Settings(names); !slices.Equal(got, c.settings) {
			t.Errorf("%s has the settings %v, want %v", c.step.Kind().Word, got, c.settings)
		}
		var lacks []string
		c.step.check(NewPlan(), func(s string) { lacks = append(lacks, s) })
		if !slices.Equal(lacks, c.lacks) {
			t.Errorf("%s %q lacks %q, want %q", c.step.Kind().Word, c.says, lacks, c.lacks)
		}
	}
}

// numbers names what acts refer to by their numbers.
type numbers struct{}

func (numbers) Audience(id int64) string { return fmt.Sprint("audience ", id) }
func (numbers) Sequence(id int64) string { return fmt.Sprint("sequence ", id) }
func (numbers) User(id int64) string     { return fmt.Sprint("user ", id) }
func (numbers) Stage(id int64) string    { return fmt.Sprint("stage ", id) }
func (numbers) Team(id int64) string     { return fmt.Sprint("team ", id) }
func (numbers) Purpose(id int64) string  { return fmt.Sprint("purpose ", id) }
func (numbers) Message(id int64) string  { return fmt.Sprint("message ", id) }
func (numbers) Field(name string) string { return name }

// Whoever does the work of a step is told what it is, and whatever came of it is a
// signal of the person or none.
func TestWorkTells(t *testing.T) {
	for _, c := range []struct {
		s     Work
		tells string
		told  map[Outcome]signal.Kind
	}{
		{&Call{Guide: "Ask for the depth."}, "Ask for the depth.",
			map[Outcome]signal.Kind{TheyTalked: signal.CallAnswered, TheyDoNotWantIt: signal.CallAnswered,
				DoNotCall: signal.CallAnswered}},
		{&Task{What: "Send the form"}, "Send the form", map[Outcome]signal.Kind{DidIt: signal.TaskDone}},
		{&Social{What: Connect}, "ask to connect", nil},
	} {
		if c.s.Tells() != c.tells {
			t.Errorf("%s tells %q", c.s.Kind().Word, c.s.Tells())
		}
		for _, o := range append(c.s.Outcomes(), "sang") {
			if got := c.s.Told(o); got != c.told[o] {
				t.Errorf("%s: %q is the signal %v, want %v", c.s.Kind().Word, o, got, c.told[o])
			}
		}
	}
}

// An email answers in the thread of those before it, the nearest first; the parts of a
// plan are what its steps are made of.
func TestThreadsAndParts(t *testing.T) {
	p := newPlan()
	put := func(s Step, from StepID, e Exit) StepID {
		id, err := p.Insert(s, from, e)
		if err != nil {
			t.Fatal(err)
		}
		return id
	}
	first := put(&Email{Message: 3}, 0, "")
	second := put(&Email{Message: 4, Thread: first}, first, Next)
	pause := put(&Pause{For: usualLimit}, second, Next)
	third := put(&Email{Thread: second}, pause, Next)
	for id, want := range map[StepID][]StepID{first: nil, second: {first}, third: {second, first}, pause: nil, 99: nil} {
		if got := p.ThreadOf(id); !slices.Equal(got, want) {
			t.Errorf("step %d is in the thread of %v, want %v", id, got, want)
		}
	}
	p.Step(first).(*Email).Thread = third // which no check lets through
	if got := p.ThreadOf(third); len(got) > len(p.Steps) {
		t.Errorf("a thread that runs in a circle has %d emails", len(got))
	}
	want := []Part{{first, MessagePart, 3}, {second, MessagePart, 4}, {third, MessagePart, 0}}
	got := p.Parts()
	slices.SortFunc(got, func(a, b Part) int { return int(a.Step - b.Step) })
	if !slices.Equal(got, want) {
		t.Errorf("the parts are %v, want %v", got, want)
	}
	p.Step(first).(*Email).Thread, p.Step(third).(*Email).Message = 0, 5
	pr := compile(t, p)
	if pr.Plan() != p || pr.Needs(99) != 0 {
		t.Errorf("a program has the plan %v and needs %v of a step it has not", pr.Plan(), pr.Needs(99))
	}
}

// Whoever asks nothing of names is told in general; a plan knows who asks which consent, and by
// whose account an email goes out.
func TestWhoseAndWhatIsAsked(t *testing.T) {
	var none Names
	if a, b, c, d := none.whose(3, 0), none.whose(3, 4), none.whose(0, 0), none.purpose(5); a != "a user" || b != "a team" ||
		c != "the owner" || d != "a purpose" {
		t.Errorf("%q, %q, %q, %q", a, b, c, d)
	}
	p := newPlan()
	p.Sender = 9
	own, _ := p.Insert(&Email{Message: 1, Purpose: 5, Sender: 8}, 0, "")
	asked, _ := p.Insert(&Email{Message: 1, Purpose: 6, Request: true}, 0, "")
	if p.Asking(5) != own || p.Asking(6) != 0 || !slices.Equal(p.OwnPurposes(), []int64{5}) {
		t.Errorf("the consent is asked by %d and %d, of all %v", p.Asking(5), p.Asking(6), p.OwnPurposes())
	}
	if p.SenderOf(own) != 8 || p.SenderOf(asked) != 9 {
		t.Errorf("they go out by %d and %d", p.SenderOf(own), p.SenderOf(asked))
	}
	if any, email := p.RestsAfter(own); !any || !email {
		t.Error("rests do not count an email")
	}
	f := File{Holidays: map[string][]calendar.Date{"NO": {{Year: 2026, Month: 5, Day: 17}}}}
	if got, err := f.HolidaysOf("NO"); err != nil || !got[calendar.Date{Year: 2026, Month: 5, Day: 17}] {
		t.Errorf("holidays: %v, %v", got, err)
	}
	if got, err := f.HolidaysOf("SE"); err != nil || got != nil {
		t.Errorf("of another country: %v, %v", got, err)
	}
}

// An email whose consent cannot be found in another workspace goes to nobody until somebody
// has chosen: it does not fall back to the ground of its plan.
func TestALostConsentOpensNothing(t *testing.T) {
	p := newPlan()
	id, _ := p.Insert(&Email{Message: 1, Purpose: 5}, 0, "")
	p.Refer(func(what PartKind, id int64) int64 {
		if what == PurposePart {
			return 0
		}
		return id
	})
	g := p.GroundOf(id)
	if why := contact.Why(contact.Facts{Email: true}, contact.Email, g); why != contact.NoConsent {
		t.Errorf("on %+v: %q", g, why)
	}
	if !slices.ContainsFunc(p.Check(), func(x Problem) bool { return x.Step == id }) {
		t.Error("the checks do not name it")
	}
}
