package engine

import (
	"errors"
	"testing"
	"time"

	"ombak/internal/core/sequence"
	"ombak/internal/engine/base"
	"ombak/internal/engine/sales"
	"ombak/internal/standin/mailserver"
	"ombak/internal/store"
)

// Accepting is taken back whole: the deal goes, the handoff is open, and the
// person stands in their sequence where they stood and goes on from there.
func TestAcceptingIsTakenBack(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	w.launch()
	ana := w.fill("Ana", "ana@fjord.example")
	_, err := w.s.DB().ExecContext(w.ctx, "update person set phone = '+4755500100' where id = $1", ana)
	w.must(err)
	w.press("ana@", 1) // the sequence asks for a call, which waits on the desk
	before := w.way(ana)
	w.must(w.e.HandOver(w.ctx, ana))
	list, err := w.s.OpenHandoffs(w.ctx, 0, store.MostHandoffs)
	w.must(err)
	id, rep := list[0].ID, *list[0].Rep
	_, err = w.e.Accept(w.ctx, id, rep)
	w.must(err)
	if way := w.way(ana); way.Reason != string(sequence.DealOpened) {
		t.Fatalf("accepted, and on the way: %+v", way)
	}
	other := w.rep1 + w.rep2 - rep
	if err := w.e.TakeBack(w.ctx, id, other); !errors.Is(err, base.ErrNotYours) {
		t.Errorf("somebody else takes it back: %v", err)
	}
	w.must(w.e.TakeBack(w.ctx, id, rep))
	w.settle()
	if n := w.count("select count(*) from deal"); n != 0 {
		t.Errorf("%d deals are left", n)
	}
	if way := w.way(ana); way.Ended != nil || way.Step != before.Step || !way.Due.Equal(*before.Due) {
		t.Errorf("back on the way at %+v, before at %+v", way, before)
	}
	calls, err := w.s.DeskWork(w.ctx, 0)
	w.must(err)
	if len(calls) != 1 || w.count("select count(*) from enrolment_log where reason = 'deal opened'") != 0 {
		t.Errorf("%d calls, or the log still says that she left", len(calls))
	}
	w.must(w.e.FinishWork(w.ctx, calls[0].ID, rep, sequence.WrongNumber, ""))
	w.settle()
	if n := w.count("select count(*) from enrolment_log where step = $1 and exit = $2", w.call,
		sequence.NotReached); n != 1 {
		t.Error("nobody was reached, and it went on as if somebody had been")
	}
}

// What somebody has worked on since is not taken back.
func TestWhatHasGoneOnIsNotTakenBack(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	accepted := func(first string) (handoff, deal int64) {
		id := w.meet(store.NewPerson{First: first, Email: first + "@n.example"})
		w.must(w.e.HandOver(w.ctx, id))
		list, err := w.s.OpenHandoffs(w.ctx, 0, store.MostHandoffs)
		w.must(err)
		deal, err = w.e.Accept(w.ctx, list[0].ID, *list[0].Rep)
		w.must(err)
		return list[0].ID, deal
	}
	lead, err := w.s.AddUser(w.ctx,
		store.User{Name: "Lea", Email: "lea@karang.example", Role: "lead", PasswordHash: "x"}, day0)
	w.must(err)
	for name, work := range map[string]func(handoff, deal int64) error{
		"moved":      func(_, deal int64) error { return w.e.MoveDeal(w.ctx, deal, 2, 0, lead) },
		"priced":     func(_, deal int64) error { return w.e.SetAmount(w.ctx, deal, 100_00, "", lead) },
		"taken back": func(handoff, _ int64) error { return w.e.TakeBack(w.ctx, handoff, lead) },
		"never there": func(handoff, _ int64) error {
			_, err := w.s.DB().Exec("delete from accepted where handoff_id = $1", handoff)
			return err
		},
	} {
		w.clock.set(w.clock.Now().Add(time.Hour))
		h, deal := accepted(name)
		w.must(work(h, deal))
		deals := w.count("select count(*) from deal")
		if err := w.e.TakeBack(w.ctx, h, lead); !errors.Is(err, sales.ErrMovedOn) {
			t.Errorf("%s: %v", name, err)
		}
		if n := w.count("select count(*) from deal"); n != deals {
			t.Errorf("%s: the deal went though nothing was taken back", name)
		}
		_, err := w.s.DB().Exec("update handoff set state = 'sent back' where state = 'open'")
		w.must(err)
	}
}
