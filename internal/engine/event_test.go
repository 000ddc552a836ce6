package engine

import (
	"errors"
	"fmt"
	"strings"
	"sync"
	"testing"
	"time"

	"ombak/internal/core/calendar"
	"ombak/internal/core/event"
	"ombak/internal/core/rule"
	"ombak/internal/core/sequence"
	"ombak/internal/core/signal"
	"ombak/internal/engine/forms"
	"ombak/internal/standin/mailserver"
	"ombak/internal/store"
)

// clinicOn is an event on the sixth day, Monday, at 09:00 in Jakarta.
func (w *world) clinicOn(seats int, page int64) event.Event {
	w.t.Helper()
	x := event.Event{Name: "Calibration clinic", Starts: time.Date(2026, 4, 20, 2, 0, 0, 0, time.UTC), Zone: "Asia/Jakarta",
		Ends: time.Date(2026, 4, 20, 4, 0, 0, 0, time.UTC), Link: "https://karang.example/clinic", Seats: seats, Page: page}
	id, _, err := w.e.SaveEvent(w.ctx, x, forms.Word{}, w.marketer)
	w.must(err)
	x.ID = id
	return x
}

func (w *world) attend(x event.Event, to event.State, user int64, people ...int64) (int, error) {
	w.t.Helper()
	n, why, err := w.e.Attend(w.ctx, x.ID, people, to, store.Author{User: user, How: "a test"})
	w.must(err)
	return n, why
}

// Who registers, cancels, comes and stays away: each is a signal of the event, once; seats
// are counted; what cannot be is said.
func TestWhoComes(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	x := w.clinicOn(2, 0)
	var p [4]int64
	for i := range p {
		p[i] = w.norwegian(fmt.Sprint("P", i))
	}
	if n, why := w.attend(x, event.Registered, 0, p[0], p[1], p[0], p[2]); n != 2 || why != forms.ErrFull {
		t.Errorf("%d registered, %v", n, why)
	}
	if n, why := w.attend(x, event.Registered, 0, p[0]); n != 0 || why != nil {
		t.Errorf("again: %d, %v", n, why)
	}
	if n, _ := w.attend(x, event.Cancelled, 0, p[0]); n != 1 {
		t.Error("nobody cancelled")
	}
	if n, _ := w.attend(x, event.Registered, 0, p[2]); n != 1 {
		t.Error("the seat is not free again")
	}
	if n, why := w.attend(x, event.StayedAway, w.marketer, p[3]); n != 0 || why != forms.ErrStanding {
		t.Errorf("somebody who never registered stayed away: %d, %v", n, why)
	}
	if _, err := w.e.CloseList(w.ctx, x.ID, w.marketer); err == nil {
		t.Error("its list is closed before it is over")
	}
	w.clock.set(x.Ends.Add(time.Hour))
	if n, why := w.attend(x, event.Registered, 0, p[0]); n != 0 || why != forms.ErrIsOver {
		t.Errorf("when it is over: %d, %v", n, why)
	}
	if n, _ := w.attend(x, event.Came, w.marketer, p[1], p[3]); n != 2 {
		t.Error("who came is not noted afterwards")
	}
	n, err := w.e.CloseList(w.ctx, x.ID, w.marketer)
	w.must(err)
	got, err := w.s.Event(w.ctx, x.ID)
	w.must(err)
	if n != 1 || got.Registered != 3 || got.Came != 2 || got.Away != 1 || got.Withdrew != 1 {
		t.Errorf("%d stayed away: %+v", n, got)
	}
	for person, kinds := range map[int64][]signal.Kind{p[0]: {signal.Registered, signal.Cancelled},
		p[1]: {signal.Registered, signal.Came}, p[2]: {signal.Registered, signal.StayedAway}, p[3]: {signal.Came}} {
		did, err := w.s.PersonSignals(w.ctx, person)
		w.must(err)
		var of []signal.Kind
		for _, s := range did {
			if s.Event == x.ID {
				of = append(of, s.Kind)
			}
		}
		if fmt.Sprint(of) != fmt.Sprint(kinds) {
			t.Errorf("person %d did %v", person, of)
		}
	}
	came := w.audience("came", rule.Rule{If: &rule.Condition{About: rule.AtEvent, ID: x.ID, Op: rule.CameTo}})
	w.settle()
	if in := w.in(came); len(in) != 2 {
		t.Errorf("%v are in the audience of who came", in)
	}
	if err := w.e.RemoveEvent(w.ctx, x.ID); err != forms.ErrAttended {
		t.Errorf("an event with people is removed: %v", err)
	}
}

// The last seat goes to one, however many ask at once; a form that finds it full keeps
// nobody's hopes up.
func TestTheLastSeat(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	page := w.clinic(false)
	x := w.clinicOn(1, page.ID)
	var p [6]int64
	for i := range p {
		p[i] = w.norwegian(fmt.Sprint("P", i))
	}
	var g sync.WaitGroup
	var got [6]int
	for i := range p {
		g.Go(func() { got[i], _ = w.attend(x, event.Registered, 0, p[i]) })
	}
	g.Wait()
	sum := 0
	for _, n := range got {
		sum += n
	}
	if sum != 1 {
		t.Errorf("%d got the one seat", sum)
	}
	_, _, err := w.e.FormFilled(w.ctx, page, forms.Filled{Answers: answers("Zoe", "R", "zoe@fjord.example", "Fjord Farms")})
	if !errors.Is(err, forms.ErrFull) {
		t.Errorf("the form of a full event: %v", err)
	}
	w.must(w.s.DB().QueryRowContext(w.ctx, "update event set seats = 0 where id = $1 returning id", x.ID).Scan(&x.ID))
	zoe, _, err := w.e.FormFilled(w.ctx, page, forms.Filled{Answers: answers("Zoe", "R", "zoe@fjord.example", "Fjord Farms")})
	w.must(err)
	if states, err := w.s.StatesAt(w.ctx, x.ID, []int64{zoe}); err != nil || states[zoe] != event.Registered {
		t.Errorf("by its form: %v, %v", states, err)
	}
}

// An event is moved while people wait for the day before it: they get its reminder the day
// before the new one, with the new day in it, once; and whoever registered gets word of each
// change once. Cancelled, nobody is reminded.
func TestAnEventIsMoved(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	x := w.clinicOn(0, 0)
	w.tx(func(tx store.Tx) error {
		m, err := tx.MessageText(w.ctx, w.first)
		if err != nil {
			return err
		}
		m.Doc.V.Sections[0].For[0] = m.Doc.V.Sections[0].Kind.Tidy(m.Doc.V.Sections[0].For[0])
		m.Doc.V.Event = x.ID
		m.Doc.V.Subject[0] = "{{ event.title }} on {{ event.day }}, {{ event.time }}"
		w.first, err = tx.SaveMessage(w.ctx, store.Message{Name: "Reminder", Doc: m.Doc, SenderID: &w.marketer},
			w.marketer, w.clock.Now())
		return err
	})
	day := &sequence.FromEvent{Offset: event.Offset{Span: calendar.Span{N: 1, Unit: calendar.Days}, Clock: 9 * 60}}
	plan := w.plan(&sequence.Email{Common: sequence.Common{Title: "Reminder"}, Message: w.first, Request: true,
		Timing: sequence.Timing{From: day}},
		&sequence.Pause{Common: sequence.Common{Title: "Over"}, Until: &sequence.FromEvent{Offset: event.Offset{After: true}}})
	plan.Event = x.ID
	q := w.running("Clinic", plan)
	ana, bo := w.norwegian("Ana"), w.norwegian("Bo")
	for _, p := range []int64{ana, bo} {
		w.attend(x, event.Registered, 0, p)
	}
	w.enters(q, ana, bo)
	w.to(2 * dayLong)
	addr := func(p int64) string {
		who, err := w.s.Person(w.ctx, p)
		w.must(err)
		return who.Email
	}
	if n := len(w.letters(addr(ana))); n != 0 {
		t.Fatalf("%d letters before anything is due", n)
	}
	x.Starts, x.Ends = x.Starts.AddDate(0, 0, 2), x.Ends.AddDate(0, 0, 2)
	_, told, err := w.e.SaveEvent(w.ctx, x, forms.Word{Subject: "It is moved",
		Text: "It is on {{ event.day }} now.\n\nSee you there."}, w.marketer)
	w.must(err)
	w.settle()
	if l := w.letters(addr(bo)); told != 2 || len(l) != 1 || !strings.Contains(w.read(l[0]).Text, "22 April") {
		t.Fatalf("%d told, %d letters: %+v", told, len(l), l)
	}
	if _, told, err = w.e.SaveEvent(w.ctx, x, forms.Word{Subject: "Once more", Text: "The same."}, w.marketer); err != nil ||
		told != 0 {
		t.Errorf("without a change %d are told again, %v", told, err)
	}
	w.attend(x, event.Cancelled, 0, bo)
	w.to(6 * dayLong)
	if n := len(w.letters(addr(ana))); n != 1 {
		t.Errorf("the reminder of the first day went out: %d letters", n)
	}
	w.to(7*dayLong + time.Hour) // 21 April, 10:20 UTC: the day before in Jakarta at 09:00 was 02:00 UTC
	if l := w.letters(addr(ana)); len(l) != 2 || !strings.HasPrefix(l[0].Subject, "Calibration clinic on Wednesday 22 April") {
		t.Fatalf("the reminder: %+v", l)
	}
	if at := w.letters(addr(ana))[0].At; !at.Equal(time.Date(2026, 4, 21, 2, 0, 0, 0, time.UTC)) {
		t.Errorf("it went out %s", at)
	}
	told, err = w.e.CancelEvent(w.ctx, x.ID, true, forms.Word{Subject: "Cancelled", Text: "We are sorry."}, w.marketer)
	w.must(err)
	w.settle()
	if way := w.way(ana); told != 1 || way.Ended == nil {
		t.Errorf("%d told; who waited for its end: %+v", told, way)
	}
	if again, err := w.e.CancelEvent(w.ctx, x.ID, true, forms.Word{Subject: "Cancelled", Text: "Twice."}, w.marketer); err !=
		nil || again != 0 {
		t.Errorf("cancelled twice: %d told, %v", again, err)
	}
	if n := len(w.letters(addr(ana))); n != 3 {
		t.Errorf("%d letters", n)
	}
	if n, why := w.attend(x, event.Registered, 0, bo); n != 0 || why != forms.ErrIsOff {
		t.Errorf("for a cancelled one %d register, %v", n, why)
	}
}

// What changes nothing that people were told is no occasion for a word.
func TestNothingToTell(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	x := w.clinicOn(0, 0)
	w.attend(x, event.Registered, 0, w.norwegian("Ana"))
	x.Seats, x.Note = 9, "Another note."
	if _, told, err := w.e.SaveEvent(w.ctx, x, forms.Word{Subject: "Moved", Text: "It is not."}, w.marketer); err != nil ||
		told != 0 {
		t.Errorf("%d are told of a note, %v", told, err)
	}
}
