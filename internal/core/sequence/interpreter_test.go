package sequence

import (
	"slices"
	"testing"
	"time"

	"ombak/internal/core/act"
	"ombak/internal/core/calendar"
	"ombak/internal/core/contact"
	"ombak/internal/core/event"
	"ombak/internal/core/rule"
	"ombak/internal/core/signal"
	"ombak/internal/core/touch"
)

// day0 is a Tuesday morning.
var day0 = time.Date(2026, 4, 14, 9, 20, 0, 0, time.UTC)

func day(n float64) time.Time { return day0.Add(time.Duration(n * 24 * float64(time.Hour))) }

// facts is one person in memory.
type facts struct {
	zone    *time.Location
	signals []signal.Signal
	touches map[StepID]time.Time
	score   float64
	left    Reason
	leftAt  time.Time
	reach   contact.Facts
	rests   calendar.Holidays
	bars    string
	last    time.Time // touch from anywhere
	events  map[int64]event.Event
}

func (f *facts) Event(id int64) (event.Event, bool) { e, ok := f.events[id]; return e, ok }

func (f *facts) Rested(bool) time.Time                { return f.last }
func (f *facts) Bars(int64) string                    { return f.bars }
func (f *facts) Zone() *time.Location                 { return f.zone }
func (f *facts) Record() *rule.Record                 { return nil }
func (f *facts) Score(rule.Figure, time.Time) float64 { return f.score }
func (f *facts) Left() (Reason, time.Time, bool)      { return f.left, f.leftAt, f.left != "" }
func (f *facts) Holidays() calendar.Holidays          { return f.rests }
func (f *facts) Reach() contact.Facts                 { return f.reach }
func (f *facts) Touch(id StepID) Touch                { at, ok := f.touches[id]; return Touch{At: at, Ended: ok} }
func (f *facts) Count(p *signal.Pattern, from, to time.Time) int {
	return signal.Count(f.signals, p, from, to)
}
func (f *facts) Nth(p *signal.Pattern, n int, from, to time.Time) (time.Time, bool) {
	return signal.Nth(f.signals, p, n, from, to)
}

func someone() *facts {
	return &facts{zone: time.UTC, touches: map[StepID]time.Time{}, reach: contact.Facts{Email: true, Phone: true}}
}

// newPlan is a plan that may write to customers.
func newPlan() *Plan {
	p := NewPlan()
	p.Ground.Other = "customer"
	return p
}

func compile(t testing.TB, p *Plan) *Program {
	t.Helper()
	pr, err := Compile(p, 7, time.Time{}, calendar.Working{})
	if err != nil {
		t.Fatal(err)
	}
	return pr
}

// watching is a plan of an email and one watch.
func watching(t testing.TB, w *Watch) (*Program, StepID, StepID) {
	p := newPlan()
	p.LongestStay = calendar.Span{}
	email, err := p.Insert(&Email{Message: 1}, 0, "")
	if err != nil {
		t.Fatal(err)
	}
	if w.Of == 1 {
		w.Of = email
	}
	id, err := p.Insert(w, email, Next)
	if err != nil {
		t.Fatal(err)
	}
	return compile(t, p), email, id
}

// TestWatch is what a watch promises: which signals count, from when and until when, and when it goes on.
// The email is done at day 0; days of signals are counted from there.
func TestWatch(t *testing.T) {
	five := calendar.Span{N: 5, Unit: calendar.Days}
	const email = 2 // the id of the email in watching: 1 is the end it was put before
	at := func(d float64, s signal.Signal) signal.Signal { s.At = day(d); return s }
	click := signal.Signal{Kind: signal.Click, Place: signal.Place{Sequence: 7, Step: email, Link: 1}}
	open := signal.Signal{Kind: signal.Open, Place: signal.Place{Sequence: 7, Step: email}}
	other := click
	other.Step = 9
	machine := click
	machine.Machine = true
	form := signal.Signal{Kind: signal.Form, Place: signal.Place{Page: 3}}
	µs := time.Microsecond.Hours() / 24

	clickOf := Watch{Signal: signal.Click, Of: 1, For: five}
	opens := Watch{Signal: signal.Open, Of: 1, N: 4, For: five}
	forms := Watch{Signal: signal.Form, Page: 3, For: five}
	atEnd := Watch{Signal: signal.Click, Of: 1, For: five, AtEnd: true}
	link2 := Watch{Signal: signal.Click, Of: 1, Link: 2, For: five}
	anywhere := Watch{Signal: signal.Click, For: five}

	for _, c := range []struct {
		name string
		w    Watch
		list []signal.Signal
		now  float64
		exit Exit    // empty: still waiting
		when float64 // instant of the exit
	}{
		{"nothing yet", clickOf, nil, 3, "", 0},
		{"as soon as: at the instant of the click", clickOf, []signal.Signal{at(2, click)}, 3, Happened, 2},
		{"a click at exactly the limit counts", clickOf, []signal.Signal{at(5, click)}, 5 + 2*µs, Happened, 5},
		{"at exactly the limit it still waits", clickOf, nil, 5, "", 0},
		{"then it goes on, as of the limit", clickOf, nil, 5 + 2*µs, NotInTime, 5},
		{"a click after the limit is too late", clickOf, []signal.Signal{at(5.5, click)}, 6, NotInTime, 5},
		{"a click before the email was done", clickOf, []signal.Signal{at(-1, click)}, 6, NotInTime, 5},
		{"a click on another email", clickOf, []signal.Signal{at(2, other)}, 3, "", 0},
		{"from anywhere any click counts", anywhere, []signal.Signal{at(2, other)}, 3, Happened, 2},
		{"a machine's click", clickOf, []signal.Signal{at(2, machine)}, 3, "", 0},
		{"another link", link2, []signal.Signal{at(2, click)}, 3, "", 0},
		{"more than 3 opens: three are not enough", opens, []signal.Signal{at(1, open), at(1.1, open), at(1.2, open)},
			3, "", 0},
		{"the fourth is", opens, []signal.Signal{at(1, open), at(1.1, open), at(1.2, open), at(2, open)}, 3, Happened,
			2},
		{"a form counts from entry", forms, []signal.Signal{at(-0.5, form)}, 0, Happened, 0},
		{"a form before entry does not", forms, []signal.Signal{at(-2, form)}, 0, "", 0},
		{"at the end: it waits though it has happened", atEnd, []signal.Signal{at(1, click)}, 4, "", 0},
		{"at the end: and then decides", atEnd, []signal.Signal{at(1, click)}, 6, Happened, 5},
		{"at the end: nothing came", atEnd, nil, 6, NotInTime, 5},
	} {
		w := c.w
		pr, mail, id := watching(t, &w)
		if mail != email {
			t.Fatalf("the email is step %d", mail)
		}
		f := someone()
		f.signals, f.touches[mail] = c.list, day0
		st := State{Step: id, Entered: day(-1), Reached: day0, Due: day0}
		var d Decision
		pr.Advance(&st, f, day(c.now), &d)
		if c.exit == "" {
			if len(d.Logs) != 0 || !st.Due.Equal(day(5).Add(time.Microsecond)) {
				t.Errorf("%s: %v, due %v; want it to wait for day 5", c.name, d.Logs, st.Due)
			}
			continue
		}
		if len(d.Logs) == 0 || d.Logs[0].Exit != c.exit || !d.Logs[0].At.Equal(day(c.when)) {
			t.Errorf("%s: %+v, want %s at %v", c.name, d.Logs, c.exit, day(c.when))
		}
	}
}

// TestTheGuideEndToEnd walks people through the whole plan as an engine would.
func TestTheGuideEndToEnd(t *testing.T) {
	p, email, watch, check, second, hand, call := guide(t)
	pr := compile(t, p)

	t.Run("clicks, and is ready", func(t *testing.T) {
		f, st, d := someone(), pr.Enter(day0), Decision{}
		pr.Advance(&st, f, day0, &d)
		if !slices.Equal(d.Effects, []Effect{{Act: act.Send{Message: 1}, Step: email, At: day0}}) || st.Phase != Out {
			t.Fatalf("at entry: %+v, %+v", d.Effects, st)
		}
		pr.Advance(&st, f, day(0.01), &d)
		if len(d.Effects) != 1 {
			t.Fatal("asked for the same email twice")
		}
		d.Reset()
		f.touches[email] = day(0.02)
		pr.Advance(&st, f, day(0.02), &d)
		if st.Step != watch || !st.Reached.Equal(day(0.02)) {
			t.Fatalf("after the email: %+v", st)
		}
		d.Reset()
		f.score = 15
		f.signals = []signal.Signal{{At: day(1), Kind: signal.Click,
			Place: signal.Place{Sequence: 7, Step: int32(email)}}}
		pr.Advance(&st, f, day(1), &d)
		want := []Log{{watch, day(1), Happened, ""}, {check, day(1), Yes, ""}}
		if !slices.Equal(d.Logs, want) || d.Effects[0].Step != second {
			t.Fatalf("after the click: %+v, %+v", d.Logs, d.Effects)
		}
		d.Reset()
		f.touches[second] = day(1)
		pr.Advance(&st, f, day(1), &d)
		if st.Reason != HandedOver || d.Effects[0].Act != (act.HandOver{}) || d.Effects[0].Step != hand {
			t.Fatalf("at the end: %+v, %+v", st, d.Effects)
		}
	})

	t.Run("clicks, not ready, and the call is missed", func(t *testing.T) {
		f, d := someone(), Decision{}
		f.touches[email] = day0
		f.signals = []signal.Signal{{At: day(1), Kind: signal.Click,
			Place: signal.Place{Sequence: 7, Step: int32(email)}}}
		st := State{Step: watch, Entered: day0, Reached: day0}
		pr.Advance(&st, f, day(1), &d)
		if d.Effects[0].Act != (act.Work{Of: touch.Call}) || st.Step != call {
			t.Fatalf("%+v, %+v", d.Effects, st)
		}
		// Five working days from a Wednesday are the Wednesday after.
		if !st.Due.Equal(day(8).Add(tick)) {
			t.Fatalf("the call waits until %v", st.Due)
		}
		d.Reset()
		pr.Advance(&st, f, day(8), &d)
		if len(d.Effects)+len(d.Logs) > 0 {
			t.Fatalf("at the limit an outcome is still in time: %+v", d)
		}
		pr.Advance(&st, f, day(8).Add(tick), &d)
		if d.Effects[0].Act != (act.Withdraw{}) || d.Logs[0].Exit != Missed || st.Reason != Finished {
			t.Fatalf("%+v %+v %+v", d.Effects, d.Logs, st)
		}
	})
}

func TestTouchesKeepTheirHours(t *testing.T) {
	p := newPlan()
	p.Hours = calendar.OfficeHours(8*60+30, 11*60)
	email, _ := p.Insert(&Email{Message: 1, Timing: Timing{Wait: calendar.Span{N: 3, Unit: calendar.Days}}}, 0, "")
	jakarta, err := time.LoadLocation("Asia/Jakarta")
	if err != nil {
		t.Fatal(err)
	}
	pr := compile(t, p)
	f, st, d := someone(), pr.Enter(day0), Decision{}
	f.zone = jakarta
	pr.Advance(&st, f, day0, &d) // Tuesday 16:20 in Jakarta
	want := time.Date(2026, 4, 20, 8, 30, 0, 0, jakarta)
	if !st.Due.Equal(want) { // Friday 16:20 is after hours: Monday
		t.Fatalf("due %v, want %v", st.Due.In(jakarta), want)
	}
	// A worker that was down until after hours waits for the next morning.
	pr.Advance(&st, f, want.Add(4*time.Hour), &d)
	if len(d.Effects) != 0 || !st.Due.Equal(want.AddDate(0, 0, 1)) {
		t.Fatalf("late: %+v, due %v", d.Effects, st.Due.In(jakarta))
	}
	pr.Advance(&st, f, want.AddDate(0, 0, 1), &d)
	if len(d.Effects) != 1 || d.Effects[0].Step != email {
		t.Fatalf("in hours: %+v", d.Effects)
	}
}

// On the days off of a sequence nothing goes out, also by a step with hours of its own, and they are no working days.
func TestDaysOff(t *testing.T) {
	p := newPlan()
	p.Hours = calendar.OfficeHours(8*60+30, 17*60)
	p.Hours.Off = []calendar.Date{{Year: 2026, Month: 4, Day: 17}, {Year: 2026, Month: 4, Day: 20}}
	own := calendar.OfficeHours(14*60, 15*60)
	workday := calendar.Span{N: 1, Unit: calendar.WorkingDays}
	friday := time.Date(2026, 4, 17, 9, 20, 0, 0, time.UTC)
	for _, c := range []struct {
		name string
		step Step
		want time.Time
	}{
		{"by the sequence's hours", &Email{Message: 1}, time.Date(2026, 4, 21, 8, 30, 0, 0, time.UTC)},
		{"by its own", &Email{Message: 1, Timing: Timing{Own: &own}}, time.Date(2026, 4, 21, 14, 0, 0, 0, time.UTC)},
		{"a working day later", &Pause{For: workday}, friday.AddDate(0, 0, 4)},
		{"an email a working day later", &Email{Message: 1, Timing: Timing{Wait: workday}}, friday.AddDate(0, 0, 4)},
	} {
		q := p.Clone()
		if _, err := q.Insert(&Email{Message: 1}, 0, ""); err != nil {
			t.Fatal(err)
		}
		if _, err := q.Insert(c.step, 0, ""); err != nil {
			t.Fatal(err)
		}
		pr := compile(t, q)
		f, st, d := someone(), pr.Enter(friday), Decision{}
		f.zone = time.UTC
		pr.Advance(&st, f, friday, &d)
		if len(d.Effects) != 0 || !st.Due.Equal(c.want) {
			t.Errorf("%s: due %v, want %v", c.name, st.Due, c.want)
		}
	}
}

func TestAnAnswerToARequestGoesOutAtAnyHour(t *testing.T) {
	p := newPlan()
	p.Hours = calendar.OfficeHours(8*60+30, 9*60)
	email, _ := p.Insert(&Email{Message: 1, Request: true}, 0, "")
	f, d := someone(), Decision{}
	pr := compile(t, p)
	sunday := day0.AddDate(0, 0, 5)
	st := pr.Enter(sunday)
	pr.Advance(&st, f, sunday, &d)
	if len(d.Effects) != 1 || d.Effects[0].Step != email {
		t.Errorf("on a Sunday: %v, due %v", d.Effects, st.Due)
	}
}

func TestLaunchHold(t *testing.T) {
	p := newPlan()
	if _, err := p.Insert(&Email{Message: 1}, 0, ""); err != nil {
		t.Fatal(err)
	}
	pr, err := Compile(p, 7, day(1), calendar.Working{})
	if err != nil {
		t.Fatal(err)
	}
	f, st, d := someone(), pr.Enter(day0), Decision{}
	pr.Advance(&st, f, day0, &d)
	if len(d.Effects) != 0 || !st.Due.Equal(day(1)) {
		t.Errorf("held until %v with %v", st.Due, d.Effects)
	}
}

func TestLeaving(t *testing.T) {
	p, _, watch, _, _, _, _ := guide(t)
	p.LongestStay = calendar.Span{N: 3, Unit: calendar.Days}
	pr := compile(t, p)
	for _, c := range []struct {
		name string
		left Reason
		now  float64
		want Reason
		at   float64
	}{
		{"answered", Answered, 1, Answered, 1},
		{"the longest stay ends at its instant", "", 4, StayedTooLong, 3},
		{"until then it does not", "", 2.9, "", 0},
	} {
		f, d := someone(), Decision{}
		f.left, f.leftAt = c.left, day(1)
		st := State{Step: watch, Entered: day0, Reached: day0}
		pr.Advance(&st, f, day(c.now), &d)
		if st.Reason != c.want || (c.want != "" && !st.Ended.Equal(day(c.at))) {
			t.Errorf("%s: %+v", c.name, st)
		}
		if c.want == "" && !st.Look.Equal(day(3)) {
			t.Errorf("%s: looks again at %v", c.name, st.Look)
		}
		if len(d.Effects) > 0 {
			t.Errorf("%s: %v goes out", c.name, d.Effects)
		}
	}
}

// BenchmarkAdvance measures steps a second: a pause, a watch and a check are done in each round.
func BenchmarkAdvance(b *testing.B) {
	p, email, watch, _, _, _, _ := guide(b)
	pr := compile(b, p)
	f := someone()
	f.touches[email] = day0
	f.score = 20
	f.signals = []signal.Signal{{At: day(1), Kind: signal.Click, Place: signal.Place{Sequence: 7, Step: int32(email)}}}
	var d Decision
	var st State
	steps := 0
	b.ReportAllocs()
	for b.Loop() {
		d.Reset()
		st = State{Step: watch, Entered: day0, Reached: day0}
		pr.Advance(&st, f, day(1), &d)
		steps += len(d.Logs) + 1 // the two that are done and the email it stops at
	}
	b.ReportMetric(float64(steps)/b.Elapsed().Seconds(), "steps/s")
}

// again is somebody whose newest touch of a step is known with its visit.
type again struct {
	Facts
	newest Touch
}

func (a *again) Touch(StepID) Touch { return a.newest }

// A step that leads back to itself, as rounds will, has a touch at each visit, and
// is not done by that of an earlier one.
func TestVisits(t *testing.T) {
	p, email, _, _, _, _, _ := guide(t)
	pr := compile(t, p)
	i := pr.index[email]
	pr.nodes[i].next = []int32{i, i, i, i}
	f, st, d := &again{Facts: someone()}, pr.Enter(day0), Decision{}
	for visit := int32(1); visit <= 3; visit++ {
		at := day(float64(visit))
		for range 2 { // whoever looks how often
			pr.Advance(&st, f, at, &d)
		}
		if n := len(d.Effects); n != int(visit) || max(d.Effects[n-1].Visit, 1) != visit || st.Phase != Out ||
			max(st.Visit, 1) != visit {
			t.Fatalf("at visit %d: %+v, %+v", visit, d.Effects, st)
		}
		f.newest = Touch{At: at, Ended: true, Visit: visit}
	}
	if len(d.Logs) != 2 {
		t.Errorf("%+v", d.Logs)
	}
	// Somewhere else it counts anew.
	pr.nodes[i].next = []int32{i + 1, i + 1, i + 1, i + 1}
	if pr.Advance(&st, f, day(3.5), &d); st.Step == email || st.Visit > 1 {
		t.Errorf("gone on: %+v", st)
	}
}
