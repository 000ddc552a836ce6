package engine

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"ombak/internal/core/act"
	"ombak/internal/core/calendar"
	"ombak/internal/core/desk"
	"ombak/internal/core/sequence"
	"ombak/internal/core/signal"
	"ombak/internal/core/social"
	"ombak/internal/engine/base"
	"ombak/internal/engine/flow"
	"ombak/internal/engine/sales"
	"ombak/internal/standin/mailserver"
	"ombak/internal/store"
)

// works puts the step of work on desks for people, and answers its touches by person.
func (w *world) works(step sequence.Step, people ...int64) map[int64]int64 {
	w.t.Helper()
	p := sequence.NewPlan()
	p.LaunchHold, p.Ground.Other = false, "existing customers"
	_, err := p.Insert(step, 0, "")
	w.must(err)
	q := w.running(fmt.Sprint("Work ", w.count("select count(*) from sequence")), p)
	w.enters(q, people...)
	w.settle()
	out := map[int64]int64{}
	for _, id := range people {
		out[id] = int64(w.count("select coalesce(max(id), 0) from touch where sequence_id = $1 and person_id = $2", q, id))
	}
	return out
}

func (w *world) caller(first, country string, owner int64) int64 {
	w.t.Helper()
	id := w.meet(store.NewPerson{First: first, Email: strings.ToLower(first) + "@desk.example", Country: country,
		Phone: fmt.Sprintf("+4420794601%02d", w.count("select count(*) from person")%100)})
	_, err := w.s.DB().ExecContext(w.ctx, "update person set owner_id = nullif($2::bigint, 0) where id = $1", id, owner)
	w.must(err)
	return id
}

func (w *world) day(ask sales.Ask) *sales.Day {
	w.t.Helper()
	d, err := w.e.Day(w.ctx, ask)
	w.must(err)
	return d
}

func keys(d *sales.Day) (out []string) {
	for _, x := range d.Items {
		out = append(out, fmt.Sprint(x.Kind, " ", x.Face.First))
	}
	return out
}

// One list has all kinds in their order: the earliest due first, and below what cannot be done
// now with when it comes up. day0 is 14 April, 09:20 in UTC, a Tuesday.
func TestOneListOfTheDesk(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	ana, ben, chi, dan := w.caller("Ana", "NO", w.rep1), w.caller("Ben", "KE", w.rep1), w.caller("Chi", "NO", w.rep1),
		w.caller("Dan", "NO", w.rep1)
	short := sequence.ToDo{Limit: calendar.Span{N: 2, Unit: calendar.Hours}}
	calls := w.works(&sequence.Call{ToDo: short}, ana, ben)
	w.works(&sequence.Task{What: "look", ToDo: sequence.ToDo{Limit: calendar.Span{N: 30, Unit: calendar.Minutes}}}, chi)
	w.must(w.e.HandOver(w.ctx, dan))
	w.tx(func(tx store.Tx) error {
		return w.e.Do(w.ctx, tx, []flow.Deed{{Act: act.Task{Words: "some time", To: w.rep1},
			Occasion: flow.Occasion{Person: ana, At: day0, How: "a test"}}})
	})
	d := w.day(sales.Ask{User: w.rep1})
	if got, want := keys(d), []string{"task Chi", "call Ana", "handoff Dan", "task Ana", "call Ben"}; !slices.Equal(got, want) {
		t.Errorf("the list is %q, want %q", got, want)
	}
	ben1 := d.Items[4]
	// What it is picked by is when its step gives up.
	var apart int
	w.must(w.s.DB().QueryRow(`select count(*) from work w join touch t on t.id = w.touch_id
		join enrolment e on e.id = t.enrolment_id where w.kind <> t.kind or w.due_at is distinct from e.due`).Scan(&apart))
	if apart != 0 {
		t.Errorf("%d pieces of work have another due instant than their step", apart)
	}
	// In Nairobi it is 12:20: they are called from 13:00 on.
	if d.Able != 4 || ben1.Why != sales.NoHours || !ben1.From.Equal(time.Date(2026, 4, 14, 10, 0, 0, 0, time.UTC)) {
		t.Errorf("%d can be done now; Ben waits for %q until %v", d.Able, ben1.Why, ben1.From)
	}
	if want := day0.Add(2 * time.Hour); !d.Items[1].By.Truncate(time.Second).Equal(want.Truncate(time.Second)) {
		t.Errorf("Ana is to be called by %v, want %v", d.Items[1].By, want)
	}
	// Nothing is late: 10 + 12 + 10 minutes are done before each is due.
	if d.Late != 0 || d.Takes != desk.Usual(desk.Task)*2+desk.Usual(desk.Call)*2+desk.Usual(desk.Handoff) {
		t.Errorf("%d are late, and all takes %v", d.Late, d.Takes)
	}
	w.clock.set(day0.Add(25 * time.Minute))
	if d := w.day(sales.Ask{User: w.rep1}); d.Late != 1 || !d.Items[0].Late {
		t.Errorf("five minutes before a task of ten is due, %d are late", d.Late)
	}
	if d := w.day(sales.Ask{User: w.rep1, Kind: desk.Call}); len(d.Items) != 2 || d.Of[desk.Call] != 2 {
		t.Errorf("of calls alone there are %q", keys(d))
	}
	if d := w.day(sales.Ask{User: w.rep2}); len(d.Items) != 0 {
		t.Errorf("another has %q", keys(d))
	}
	if d := w.day(sales.Ask{}); len(d.Items) != 5 {
		t.Errorf("of everybody there are %q", keys(d))
	}
	// Put off, it comes up then; taken back, now. A call that was put off is one that was agreed.
	until, err := w.e.Postpone(w.ctx, store.CallWork, calls[ana], w.rep1, "at 10:30")
	w.must(err)
	d = w.day(sales.Ask{User: w.rep1})
	if i := slices.Index(keys(d), "call Ana"); d.Items[i].Why != sales.CallBack || !d.Items[i].From.Equal(until) ||
		!d.Items[i].By.Equal(until) || i < d.Able {
		t.Errorf("put off, it is %+v", d.Items[i])
	}
	if _, err := w.e.Postpone(w.ctx, store.CallWork, calls[ana], w.rep1, "yesterday"); !errors.Is(err, desk.ErrLater) {
		t.Errorf("it is put off to yesterday: %v", err)
	}
	if _, err := w.e.Postpone(w.ctx, store.CallWork, calls[ana], w.rep2, "tomorrow"); !errors.Is(err, base.ErrNotYours) {
		t.Errorf("another puts it off: %v", err)
	}
	_, err = w.e.Postpone(w.ctx, store.CallWork, calls[ana], w.rep1, "")
	w.must(err)
	if d = w.day(sales.Ask{User: w.rep1}); d.Able != 4 {
		t.Errorf("taken back, %d can be done now", d.Able)
	}
}

// An item is passed on with a note, and taken back by who passed it on alone.
func TestPassedOn(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	ana := w.caller("Ana", "NO", w.rep1)
	call := w.works(&sequence.Call{}, ana)[ana]
	if err := w.e.PassOn(w.ctx, store.CallWork, call, w.rep2, w.rep1, ""); !errors.Is(err, base.ErrNotYours) {
		t.Errorf("who does not have it passes it on: %v", err)
	}
	if err := w.e.PassOn(w.ctx, store.CallWork, call, w.rep1, 999, ""); err == nil {
		t.Error("it is passed on to nobody")
	}
	if err := w.e.PassOn(w.ctx, store.CallWork, call, w.rep1, w.marketer, ""); err == nil {
		t.Error("a marketer is given a call")
	}
	w.must(w.e.PassOn(w.ctx, store.CallWork, call, w.rep1, w.rep2, "she asked for you"))
	if a, b := w.day(sales.Ask{User: w.rep1}), w.day(sales.Ask{User: w.rep2}); len(a.Items) != 0 || len(b.Items) != 1 {
		t.Errorf("passed on, one has %q and the other %q", keys(a), keys(b))
	}
	said, err := w.s.DeskItem(w.ctx, store.CallWork, call)
	w.must(err)
	defer func() { // what was noted of somebody goes with them
		w.must(w.e.Erase(w.ctx, ana))
		if n := w.count("select count(*) from desk_item where note <> ''"); n != 0 {
			t.Error("erased, the note is still there")
		}
	}()
	if said.Note != "she asked for you" || said.Passed != "Tomas Vale" {
		t.Errorf("it says %+v", said)
	}
	if err := w.e.PassBack(w.ctx, store.CallWork, call, w.rep2); !errors.Is(err, base.ErrNotYours) {
		t.Errorf("who got it takes it back from themselves: %v", err)
	}
	w.must(w.e.PassBack(w.ctx, store.CallWork, call, w.rep1))
	if a := w.day(sales.Ask{User: w.rep1}); len(a.Items) != 1 {
		t.Errorf("taken back there is %q", keys(a))
	}
}

// A call without a talk is tried three times, each a working day later in another third of the
// day, and goes on after the last; talking ends it at once.
func TestAttempts(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	ana, ben, chi := w.caller("Ana", "NO", w.rep1), w.caller("Ben", "NO", w.rep1), w.caller("Chi", "NO", w.rep1)
	calls := w.works(&sequence.Call{}, ana, ben)
	once := w.works(&sequence.Call{Attempts: 1}, chi)
	open := func(id int64) bool { return w.count("select count(*) from work where touch_id = $1 and open", id) == 1 }
	w.must(w.e.FinishWork(w.ctx, once[chi], w.rep1, sequence.NoAnswer, ""))
	if open(once[chi]) {
		t.Error("tried once, it is tried again")
	}
	w.must(w.e.FinishWork(w.ctx, calls[ana], w.rep1, sequence.NoAnswer, "rang out"))
	next, err := w.e.NextTry(w.ctx, calls[ana])
	w.must(err)
	// 11:20 in Oslo is the first third of 9 to 17; the next begins at 11:40, a day later.
	if want := time.Date(2026, 4, 15, 9, 40, 0, 0, time.UTC); !open(calls[ana]) || !next.Equal(want) {
		t.Errorf("the next try is at %v, want %v", next, want)
	}
	d := w.day(sales.Ask{User: w.rep1, Kind: desk.Call})
	if last := d.Items[len(d.Items)-1]; last.Face.First != "Ana" || last.Why != sales.NextTry || !last.From.Equal(next) {
		t.Errorf("on the desk it is %+v", last)
	}
	w.clock.set(next)
	w.must(w.e.FinishWork(w.ctx, calls[ana], w.rep1, sequence.LeftMessage, ""))
	if next, err = w.e.NextTry(w.ctx, calls[ana]); err != nil || !open(calls[ana]) || next.Before(w.clock.Now().Add(20*time.Hour)) {
		t.Errorf("after the second the next is at %v, %v", next, err)
	}
	w.clock.set(next)
	w.must(w.e.FinishWork(w.ctx, calls[ana], w.rep1, sequence.NoAnswer, ""))
	w.settle()
	if open(calls[ana]) {
		t.Error("it is tried a fourth time")
	}
	if n := w.count("select count(*) from enrolment_log where exit = 'not reached'"); n != 2 {
		t.Errorf("%d went on as not reached", n)
	}
	touch, err := w.s.Touch(w.ctx, calls[ana])
	w.must(err)
	if touch.State != "done" || touch.Outcome != "no answer" {
		t.Errorf("the call is %+v", touch)
	}
	w.must(w.e.FinishWork(w.ctx, calls[ben], w.rep1, sequence.TheyTalked, ""))
	if open(calls[ben]) {
		t.Error("after a talk it is tried again")
	}
}

// Two reps work off a pool of 500 at the same time: each item is done by one, and none is lost.
// What one has in hand the other does not see, and cannot do until it goes back.
func TestTwoRepsOnOnePool(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	const n = 500
	var people []int64
	for i := range n {
		people = append(people, w.caller(fmt.Sprint("P", i), "NO", 0))
	}
	w.tx(func(tx store.Tx) error {
		var list []flow.Deed
		for _, p := range people {
			list = append(list, flow.Deed{Act: act.Task{Words: "look"}, Occasion: flow.Occasion{Person: p, At: day0, How: "a test"}})
		}
		return w.e.Do(w.ctx, tx, list)
	})
	var mu sync.Mutex
	did := map[int64][]int64{}
	var wg sync.WaitGroup
	for _, rep := range []int64{w.rep1, w.rep2} {
		wg.Go(func() {
			for {
				d, err := w.e.Day(w.ctx, sales.Ask{User: rep, Pool: true})
				if err != nil {
					t.Error(err)
					return
				}
				if len(d.Items) == 0 {
					return
				}
				for _, x := range d.Items[:min(len(d.Items), 25)] { // as many as one reads before looking again
					if err := w.e.Take(w.ctx, store.TaskWork, x.ID, rep); err != nil {
						if !errors.Is(err, sales.ErrTaken) && !errors.Is(err, base.ErrGone) {
							t.Error(err)
						}
						continue
					}
					if _, err := w.e.FinishTask(w.ctx, x.ID, rep, ""); err != nil {
						t.Errorf("what %d has taken is done by another: %v", rep, err)
						continue
					}
					mu.Lock()
					did[x.ID] = append(did[x.ID], rep)
					mu.Unlock()
				}
			}
		})
	}
	wg.Wait()
	by := map[int64]int{}
	for id, list := range did {
		if len(list) != 1 {
			t.Errorf("item %d was done by %v", id, list)
		}
		by[list[0]]++
	}
	if len(did) != n || by[w.rep1] == 0 || by[w.rep2] == 0 {
		t.Errorf("%d of %d were done, by %v", len(did), n, by)
	}

	w.tx(func(tx store.Tx) error {
		return w.e.Do(w.ctx, tx, []flow.Deed{{Act: act.Task{Words: "one more"},
			Occasion: flow.Occasion{Person: people[0], At: day0, How: "a test"}}})
	})
	one := w.day(sales.Ask{User: w.rep1}).Items[0].ID
	w.must(w.e.Take(w.ctx, store.TaskWork, one, w.rep1))
	if got := w.day(sales.Ask{User: w.rep2}); len(got.Items) != 0 {
		t.Error("what one has in hand, the other sees")
	}
	if _, err := w.e.FinishTask(w.ctx, one, w.rep2, ""); !errors.Is(err, sales.ErrTaken) {
		t.Errorf("the other does it: %v", err)
	}
	w.clock.set(w.clock.Now().Add(30 * time.Minute))
	if got := w.day(sales.Ask{User: w.rep2}); len(got.Items) != 1 {
		t.Error("after half an hour it has not gone back")
	}
	w.must(w.e.Take(w.ctx, store.TaskWork, one, w.rep2))
	w.must(w.e.UserLeaves(w.ctx, w.rep2, 0))
	if got := w.day(sales.Ask{User: w.rep1}); len(got.Items) != 1 {
		t.Error("what somebody had who has left has not gone back")
	}
}

// By hand a rep does each act of social touches so often on a day as they say: what is beyond
// comes up tomorrow, and other acts are not touched by it.
func TestSocialTouchesByHandHaveADay(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	var people []int64
	for i := range 3 {
		id := w.caller(fmt.Sprint("P", i), "NO", w.rep1)
		_, err := w.s.DB().ExecContext(w.ctx, "update person set profile = 'https://net.example/p' || id where id = $1", id)
		w.must(err)
		people = append(people, id)
	}
	asks := w.works(&sequence.Social{What: sequence.Connect, Text: "hello"}, people...)
	w.works(&sequence.Social{What: sequence.Visit}, people[0])
	w.must(w.e.SetSocial(w.ctx, w.rep1, social.Limits{sequence.Connect: 1, sequence.Visit: 5}, false))
	d := w.day(sales.Ask{User: w.rep1})
	if d.Able != 4 {
		t.Errorf("before any, %d can be done now", d.Able)
	}
	w.must(w.e.FinishWork(w.ctx, asks[people[0]], w.rep1, sequence.DidIt, ""))
	d = w.day(sales.Ask{User: w.rep1})
	tomorrow := time.Date(2026, 4, 15, 0, 0, 0, 0, time.UTC)
	if d.Able != 1 || d.Items[1].Why != sales.NoRoom || !d.Items[1].From.Equal(tomorrow) {
		t.Errorf("after one, %d can be done now; the next waits for %q until %v", d.Able, d.Items[1].Why, d.Items[1].From)
	}
	w.clock.set(tomorrow.Add(8 * time.Hour))
	if d = w.day(sales.Ask{User: w.rep1}); d.Able != 3 {
		t.Errorf("on the next day %d can be done", d.Able)
	}
	if w.e.SetSocial(w.ctx, w.rep1, social.Limits{sequence.Connect: 9999}, false) == nil {
		t.Error("a limit is too large")
	}
}

// How long items take somebody is kept where it says something of their pace.
func TestOnesOwnPace(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	took := func(k desk.Kind, d time.Duration) { w.must(w.e.Took(w.ctx, w.rep1, k, w.clock.Now().Add(-d))) }
	for range 10 {
		took(desk.Task, 3*time.Minute)
	}
	took(desk.Call, time.Minute)
	for _, d := range []time.Duration{time.Second, 3 * time.Hour, -time.Minute} {
		took(desk.Answer, d)
	}
	list, err := w.s.TookLately(w.ctx, w.rep1, 200)
	w.must(err)
	if len(list[desk.Task]) != 10 || len(list[desk.Call]) != 1 || len(list[desk.Answer]) != 0 {
		t.Errorf("kept is %v", list)
	}
	w.works(&sequence.Task{What: "look"}, w.caller("Ana", "NO", w.rep1))
	if d := w.day(sales.Ask{User: w.rep1}); d.Items[0].Takes != 3*time.Minute || d.Takes != 3*time.Minute {
		t.Errorf("a task takes %v", d.Items[0].Takes)
	}
}

// Who asks not to be called is called by nobody: the outcome is the exit, what waits is taken off,
// and the next call of a plan is passed over, until they may be called again.
func TestDoNotCall(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	ana := w.caller("Ana", "NO", w.rep1)
	call := w.works(&sequence.Call{}, ana)[ana]
	w.must(w.e.FinishWork(w.ctx, call, w.rep1, sequence.DoNotCall, "asked for it"))
	w.settle()
	if p, err := w.s.Person(w.ctx, ana); err != nil || p.NoCalls == nil {
		t.Errorf("it is not kept: %v", err)
	}
	if n := w.count("select count(*) from enrolment_log where exit = 'not interested'"); n != 1 {
		t.Error("the way does not go on as not interested")
	}
	w.works(&sequence.Call{}, ana)
	if n := w.count("select count(*) from work where open"); n != 0 {
		t.Error("they are to be called again")
	}
	w.must(w.e.MayBeCalled(w.ctx, ana, true))
	w.works(&sequence.Call{}, ana)
	if n := w.count("select count(*) from work where open"); n != 1 {
		t.Error("they may be called again, and are not")
	}
	if got := w.did(ana, signal.CallAnswered); got != 1 {
		t.Errorf("%d calls were taken", got)
	}
}
