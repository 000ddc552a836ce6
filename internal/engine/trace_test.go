package engine

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"ombak/internal/core/act"
	"ombak/internal/core/calendar"
	"ombak/internal/core/contact"
	"ombak/internal/core/person"
	"ombak/internal/core/rule"
	"ombak/internal/core/sequence"
	"ombak/internal/core/signal"
	"ombak/internal/core/trace"
	"ombak/internal/standin/mailserver"
	"ombak/internal/store"
)

// The live engine, over a real database and a real mail server, and the trace take the
// same steps at the same instants: generated plans, people and signals, with a worker that
// comes when there is something to look at.
func TestLiveAgainstTraced(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	rnd := rand.New(rand.NewPCG(13, 13))
	reasons := map[string]int{}
	for round := range 12 {
		plan := w.somePlan(rnd)
		start := w.clock.Now().Add(time.Hour).Truncate(time.Minute)
		w.clock.set(start)
		q := w.running(fmt.Sprintf("Plan %d", round), plan)
		var people []*trace.Person
		var ids []int64
		zones := []string{"Europe/Oslo", "Asia/Kathmandu", "America/St_Johns", "Australia/Lord_Howe"}
		countries := []string{"NO", "NP", "CA", "AU"}
		for i := range 4 {
			id := w.meet(store.NewPerson{First: fmt.Sprint("P", i), Email: fmt.Sprintf("p%d.%d@n.example", round, i),
				Country: countries[i], Phone: "+442079460" + fmt.Sprintf("%03d", round*4+i)})
			_, err := w.s.DB().ExecContext(w.ctx, "update person set zone = $2 where id = $1", id, zones[i])
			w.must(err)
			ids = append(ids, id)
			zone, err := calendar.Zone(zones[i])
			w.must(err)
			p, err := w.s.Person(w.ctx, id)
			w.must(err)
			people = append(people, &trace.Person{ID: fmt.Sprint(id), Entered: start, Zone: zone, Reach: p.Reach(),
				Record: rule.Record{Values: p.Values()}})
			if rnd.IntN(2) == 0 { // to what a single email may ask
				w.agrees(id, true)
				people[i].Reach.Consents = contact.Consents{{Purpose: 1, Is: contact.Agreed}}
			}
		}
		w.enters(q, ids...)
		until := start.AddDate(0, 0, 12)
		for _, p := range people {
			for range rnd.IntN(6) {
				at := start.Add(time.Duration(1+rnd.IntN(12*24*4)) * 15 * time.Minute)
				s := signal.Signal{At: at, Kind: []signal.Kind{signal.Open, signal.Click, signal.Click, signal.PageView,
					signal.Reply}[min(rnd.IntN(24), 4)%5]}
				if rnd.IntN(2) == 0 {
					s.Sequence, s.Step = q, int32(1+rnd.IntN(int(plan.LastID)))
				}
				p.Signals = append(p.Signals, s)
			}
			signal.Sort(p.Signals)
			for _, s := range plan.Steps {
				if work, ok := s.(sequence.Work); ok && rnd.IntN(3) > 0 {
					list := work.Outcomes()
					p.Work = append(p.Work, trace.Outcome{Step: s.About().ID, What: list[rnd.IntN(len(list))],
						At: start.Add(time.Duration(rnd.IntN(12*24)) * time.Hour)})
				}
			}
		}
		pr, err := sequence.Compile(plan, q, time.Time{}, calendar.Working{})
		w.must(err)
		w.live(q, ids, people, until)
		for i, p := range people {
			var want []string
			if plan.WhyNot(p.Reach) != "" { // they do not enter
				p.Entered = until.Add(time.Hour)
			}
			for _, l := range trace.Run(pr, p, until) {
				want = append(want, l.String())
				reasons[string(l.Reason)]++
			}
			if got := w.logged(q, ids[i]); !slices.Equal(got, want) {
				body, _ := plan.MarshalJSON()
				t.Fatalf("round %d, %s\nplan %s\nsignals %v\nwork %v\nlive  %q\ntrace %q", round, zones[i], body, p.Signals,
					p.Work, got, want)
			}
		}
		w.must(w.e.Hold(w.ctx, q))
	}
	w.figuresHold()
	if reasons["finished"] < 6 || reasons["answered"] < 1 {
		t.Errorf("the plans show too little: %v", reasons)
	}
}

// live lets the world go on until an instant: signals and outcomes at theirs, and a worker
// whenever there is something to look at.
func (w *world) live(q int64, ids []int64, people []*trace.Person, until time.Time) {
	w.t.Helper()
	signals, work := make([]int, len(people)), make([][]trace.Outcome, len(people))
	for i, p := range people {
		work[i] = slices.Clone(p.Work)
	}
	for {
		w.settle()
		now := w.clock.Now()
		// What is to be recorded by now, where the work is on the desk.
		again := false
		for i := range people {
			for j := range work[i] {
				o := &work[i][j]
				if o.What == "" || o.At.After(now) {
					continue
				}
				var touch int64
				err := w.s.DB().QueryRowContext(w.ctx, `select coalesce(max(t.id), 0) from touch t join work x
					on x.touch_id = t.id where t.sequence_id = $1 and t.person_id = $2 and t.step = $3 and x.open`, q, ids[i],
					int32(o.Step)).Scan(&touch)
				w.must(err)
				if touch != 0 {
					w.must(w.e.FinishWork(w.ctx, touch, w.marketer, o.What, ""))
					o.What, again = "", true
				}
			}
		}
		if again {
			continue
		}
		next, err := w.s.NextLook(w.ctx)
		w.must(err)
		if next.IsZero() || next.After(until) {
			next = until
		}
		for i, p := range people {
			if signals[i] < len(p.Signals) && p.Signals[signals[i]].At.Before(next) {
				next = p.Signals[signals[i]].At
			}
			for _, o := range work[i] {
				if o.What != "" && o.At.After(now) && o.At.Before(next) {
					next = o.At
				}
			}
		}
		if !next.After(now) {
			w.t.Fatalf("there is still something to look at, at %v", next)
		}
		w.clock.set(next)
		for i, p := range people {
			for signals[i] < len(p.Signals) && !p.Signals[signals[i]].At.After(next) {
				w.must(w.e.Record(w.ctx, store.Signal{Person: ids[i], Signal: p.Signals[signals[i]]}))
				signals[i]++
			}
		}
		if !next.Before(until) {
			w.settle()
			return
		}
	}
}

// logged is the log of somebody on a sequence, as a trace says it.
func (w *world) logged(q, who int64) (out []string) {
	w.t.Helper()
	list, err := w.s.PersonLogs(w.ctx, who)
	w.must(err)
	slices.Reverse(list)
	for _, l := range list {
		if l.Sequence == q {
			out = append(out, trace.Line{Person: fmt.Sprint(who), Log: sequence.Log{Step: sequence.StepID(l.Step), At: l.At,
				Exit: sequence.Exit(l.Exit), Reason: sequence.Reason(l.Reason)}}.String())
		}
	}
	return out
}

// somePlan is a plan of a few steps of all kinds.
func (w *world) somePlan(rnd *rand.Rand) *sequence.Plan {
	w.t.Helper()
	p := sequence.NewPlan()
	p.Ground.Other, p.LaunchHold = "existing customers", false
	p.LongestStay = calendar.Span{N: []int{0, 6, 9}[rnd.IntN(3)], Unit: calendar.Days}
	if rnd.IntN(2) == 0 {
		p.Rest = sequence.Rest{Days: 1 + rnd.IntN(3), Any: rnd.IntN(2) == 0, Most: 2 + rnd.IntN(4)}
	}
	today := calendar.DateOf(w.clock.Now(), time.UTC)
	for range 3 + rnd.IntN(6) {
		days := calendar.Span{N: 1 + rnd.IntN(3), Unit: []calendar.Unit{calendar.Days, calendar.WorkingDays}[rnd.IntN(2)]}
		at := sequence.Timing{Wait: calendar.Span{N: rnd.IntN(30), Unit: calendar.Hours}}
		if rnd.IntN(6) == 0 {
			at = sequence.Timing{Date: today.Add(rnd.IntN(8)), Clock: rnd.IntN(24 * 60), Late: sequence.Lates()[rnd.IntN(3)]}
		}
		toDo := sequence.ToDo{Timing: at, Limit: days}
		var s sequence.Step
		switch rnd.IntN(11) {
		case 0, 1:
			s = &sequence.Email{Message: w.first, Timing: at, Purpose: int64(rnd.IntN(2))}
		case 2:
			s = &sequence.Call{ToDo: toDo, Attempts: 1}
		case 3:
			s = &sequence.Task{ToDo: toDo, What: "look"}
		case 4:
			s = &sequence.Pause{For: days}
		case 5, 8:
			s = &sequence.Sort{Ways: []sequence.Way{{Key: 1, Rule: rule.FieldIs(person.City, "Bergen")},
				{Key: 2, Rule: rule.FieldIs(person.Country, "NO")}}}
		case 6, 7:
			s = &sequence.Change{Timing: at, Acts: []act.Kept{{Act: act.Set{Field: "city", Value: "Bergen"}}}}
		default:
			s = &sequence.Watch{Signal: []signal.Kind{signal.Open, signal.Click, signal.PageView}[rnd.IntN(3)],
				N: 1 + rnd.IntN(2), For: days, AtEnd: rnd.IntN(3) == 0}
		}
		s.About().Title = s.Kind().Word
		at2 := p.Steps[rnd.IntN(len(p.Steps))]
		var err error
		if exits := at2.Exits(); len(exits) == 0 || rnd.IntN(4) == 0 {
			_, err = p.Insert(s, 0, "")
		} else {
			_, err = p.Insert(s, at2.About().ID, exits[rnd.IntN(len(exits))])
		}
		w.must(err)
		if _, ok := s.(*sequence.Change); ok && rnd.IntN(2) == 0 { // what it changed decides
			_, err := p.Insert(&sequence.Check{Common: sequence.Common{Title: "check"},
				Rule: rule.FieldIs(person.City, "Bergen")}, s.About().ID, sequence.Next)
			w.must(err)
		}
	}
	for len(p.Check()) > 0 {
		_, err := p.Insert(&sequence.Email{Common: sequence.Common{Title: "Email"}, Message: w.first}, 0, "")
		w.must(err)
	}
	return p
}
