package engine

import (
	"errors"
	"testing"
	"time"

	"ombak/internal/core/calendar"
	"ombak/internal/core/desk"
	"ombak/internal/core/sequence"
	"ombak/internal/engine/base"
	"ombak/internal/engine/sales"
	"ombak/internal/standin/mailserver"
	"ombak/internal/store"
)

// A lead sees what waits by desk and kind, how long and what is late; moves work between desks and the
// pool, and takes that back as far as it is still where it was moved to.
func TestLoadOfDesks(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	lead, err := w.s.AddUser(w.ctx, store.User{Name: "Lea", Email: "lea@karang.example", Role: "lead", PasswordHash: "x"}, day0)
	w.must(err)
	short := sequence.ToDo{Limit: calendar.Span{N: 2, Unit: calendar.Hours}}
	var people []int64
	for _, name := range []string{"Ana", "Ben", "Cyn", "Dan"} {
		people = append(people, w.caller(name, "NO", w.rep1))
	}
	calls := w.works(&sequence.Call{ToDo: short}, people...)
	w.works(&sequence.Task{What: "look"}, people[0])
	w.must(w.e.HandOver(w.ctx, people[3]))
	of := func(user int64) (l sales.DeskLoad) {
		t.Helper()
		load, err := w.e.LoadOf(w.ctx)
		w.must(err)
		for _, x := range load.Desks {
			if x.User.ID == user {
				return x
			}
		}
		t.Fatalf("user %d has no desk", user)
		return l
	}
	w.clock.set(day0.Add(110 * time.Minute))
	l := of(w.rep1)
	if l.Of[desk.Call].N != 4 || l.Of[desk.Task].N != 1 || l.Of[desk.Handoff].N != 1 || l.All.N != 6 || l.All.Overdue != 0 {
		t.Errorf("on the desk are %+v", l)
	}
	// Ten minutes are left for four calls of twelve.
	if l.Late != 4 || l.Of[desk.Call].Median != 110*time.Minute || l.Of[desk.Call].PerDay != 42 {
		t.Errorf("%d are late, they wait %v, %d a day", l.Late, l.Of[desk.Call].Median, l.Of[desk.Call].PerDay)
	}
	move := sales.MoveWork{From: w.rep1, To: w.rep2, Kind: desk.Call, Which: sales.TooLate, User: lead}
	for name, x := range map[string]sales.MoveWork{
		"to themselves": {From: w.rep1, To: w.rep1, Which: sales.Everything, User: lead},
		"meetings":      {From: w.rep1, To: w.rep2, Kind: desk.Meeting, Which: sales.Everything, User: lead},
		"of no kind":    {From: w.rep1, To: w.rep2, Kind: "nap", Which: sales.Everything, User: lead},
		"of no choice":  {From: w.rep1, To: w.rep2, Which: "some", User: lead},
		"none of it":    {From: w.rep1, To: w.rep2, Which: sales.DueLast, User: lead},
		"to a marketer": {From: w.rep1, To: w.marketer, Which: sales.Everything, User: lead},
	} {
		if _, _, err := w.e.MoveBetween(w.ctx, x); err == nil {
			t.Errorf("%s: is moved", name)
		}
	}
	other := move
	other.User = w.rep1
	if _, _, err := w.e.MoveBetween(w.ctx, other); !errors.Is(err, base.ErrNotYours) {
		t.Errorf("a rep moves work: %v", err)
	}
	n, id, err := w.e.MoveBetween(w.ctx, move)
	if w.must(err); n != 4 || of(w.rep1).Of[desk.Call].N != 0 || of(w.rep2).Of[desk.Call].N != 4 {
		t.Errorf("%d were moved: %d and %d calls", n, of(w.rep1).Of[desk.Call].N, of(w.rep2).Of[desk.Call].N)
	}
	// One is done meanwhile: the others come back.
	w.must(w.e.FinishWork(w.ctx, calls[people[0]], w.rep2, sequence.TheyTalked, ""))
	if n, err := w.e.MoveBack(w.ctx, id, lead); err != nil || n != 3 || of(w.rep1).Of[desk.Call].N != 3 {
		t.Errorf("%d are back, %v", n, err)
	}
	if _, err := w.e.MoveBack(w.ctx, id, lead); !errors.Is(err, sales.ErrMovedOn) {
		t.Errorf("it is taken back twice: %v", err)
	}
	// Two of what is due last go to the pool, where anybody takes them.
	n, _, err = w.e.MoveBetween(w.ctx, sales.MoveWork{From: w.rep1, To: 0, Which: sales.DueLast, N: 2, User: lead})
	if w.must(err); n != 2 || of(0).All.N != 2 || of(0).Of[desk.Task].N != 1 {
		t.Errorf("%d went to the pool, which has %+v", n, of(0))
	}
	if n, _, err = w.e.MoveBetween(w.ctx, sales.MoveWork{From: 0, To: w.rep2, Which: sales.Everything, User: lead}); err != nil || n != 2 {
		t.Errorf("%d came from the pool, %v", n, err)
	}
}

// On everybody's desk each has their own work to do in time: what two have, each of a quarter of an hour, is not late,
// and where one has both, one of them is. What nobody has in hand is late when its time is over.
func TestWhatIsLateOnEverybodysDesk(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	short := sequence.ToDo{Limit: calendar.Span{N: 2, Unit: calendar.Hours}}
	ana, ben := w.caller("Ana", "NO", w.rep1), w.caller("Ben", "NO", w.rep2)
	calls := w.works(&sequence.Call{ToDo: short}, ana, ben, w.caller("Cyn", "NO", 0))
	late := func(want int) {
		t.Helper()
		if d := w.day(sales.Ask{}); d.Late != want || len(d.Items) != 3 {
			t.Errorf("%d of %d are late, want %d", d.Late, len(d.Items), want)
		}
	}
	w.clock.set(day0.Add(105 * time.Minute)) // a call takes twelve
	late(0)
	w.must(w.e.PassOn(w.ctx, store.CallWork, calls[ben], w.rep2, w.rep1, ""))
	late(1)
	w.clock.set(day0.Add(119 * time.Minute))
	late(2)
	w.clock.set(day0.Add(121 * time.Minute))
	late(3)
}
