package engine

import (
	"testing"
	"time"

	"ombak/internal/core/calendar"
	"ombak/internal/core/sequence"
	"ombak/internal/core/signal"
	"ombak/internal/engine/flow"
	"ombak/internal/standin/mailserver"
	"ombak/internal/store"
)

// People are put in, held where they are, let go on, moved to another step and taken out, by
// hand; nothing goes out to whom is held, who still leaves by an answer, and nobody gets an
// email twice by being moved.
func TestWaysByHand(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	hours := calendar.Span{N: 2, Unit: calendar.Hours}
	plan := w.plan(&sequence.Pause{Common: sequence.Common{Title: "Wait"}, For: hours},
		&sequence.Email{Common: sequence.Common{Title: "One"}, Message: w.first},
		&sequence.Pause{Common: sequence.Common{Title: "Later"}, For: calendar.Span{N: 1, Unit: calendar.Days}},
		&sequence.Task{Common: sequence.Common{Title: "Look"}, What: "look"})
	q := w.running("By hand", plan)
	step := map[string]sequence.StepID{}
	for _, s := range plan.Steps {
		step[s.About().Title] = s.About().ID
	}
	ana := w.meet(store.NewPerson{First: "Ana", Email: "ana@n.example"})
	bo := w.meet(store.NewPerson{First: "Bo", Email: "bo@n.example"})
	cy := w.meet(store.NewPerson{First: "Cy", Email: "cy@n.example"})
	hand := func(do flow.HandDeed, to string, want int64, people ...int64) {
		t.Helper()
		n, err := w.e.Hand(w.ctx, flow.ByHand{Do: do, Sequence: q, Step: step[to]}, people...)
		if err != nil || n != want {
			t.Errorf("%s: for %d, %v; want %d", do, n, err, want)
		}
		w.settle()
	}
	got := func(to string) int { return len(w.letters(to + "@n.example")) }
	hand(flow.PutIn, "", 3, ana, bo, cy)
	hand(flow.PutIn, "", 0, ana)
	hand(flow.HoldBack, "", 2, ana, bo)
	hand(flow.HoldBack, "", 0, ana)
	w.to(3 * time.Hour)
	if got("ana") != 0 || got("bo") != 0 || got("cy") != 1 {
		t.Errorf("letters: %d to Ana, %d to Bo, who are held, %d to Cy", got("ana"), got("bo"), got("cy"))
	}
	// Whoever is held is not waked by what they do, and leaves when they answer.
	for _, k := range []signal.Kind{signal.Open, signal.Reply} {
		w.must(w.e.Record(w.ctx, store.Signal{Person: bo, Signal: signal.Signal{At: w.clock.Now(), Kind: k}}))
		w.settle()
	}
	if r := w.way(bo).Reason; r != "answered" || got("bo") != 0 {
		t.Errorf("Bo answered while held: %q, %d letters", r, got("bo"))
	}
	hand(flow.LetGo, "", 1, ana, bo)
	w.to(0)
	if got("ana") != 1 {
		t.Errorf("let go on, Ana has %d letters", got("ana"))
	}
	// Moved on at once, with a line of why; back to the email not, for she has it.
	hand(flow.MoveTo, "One", 0, ana)
	hand(flow.MoveTo, "Look", 1, ana)
	if w.count("select count(*) from enrolment_log where reason = $1", store.MovedByHand) != 1 ||
		w.count("select count(*) from work where open") != 1 {
		t.Error("Ana is not moved to the task, or the log does not say it")
	}
	// Taken out, what waits for her is gone.
	hand(flow.TakeOut, "", 1, ana)
	if w.way(ana).Reason != string(sequence.TakenOut) || w.count("select count(*) from work where open") != 0 {
		t.Errorf("taken out: %+v", w.way(ana))
	}
	// A letter that waits for the mail server is held, too.
	dee := w.meet(store.NewPerson{First: "Dee", Email: "dee@n.example"})
	q = w.running("Mail", w.plan(&sequence.Email{Common: sequence.Common{Title: "One"}, Message: w.first}))
	w.tx(func(tx store.Tx) error {
		r, err := tx.RunningSequence(w.ctx, q)
		if err != nil {
			return err
		}
		return w.e.Enter(w.ctx, tx, r, dee)
	})
	_, _, err := w.e.AdvanceBatch(w.ctx, 10) // the letter is written
	w.must(err)
	n, err := w.e.Hand(w.ctx, flow.ByHand{Do: flow.HoldBack, Sequence: q}, dee)
	w.must(err)
	w.settle()
	w.to(time.Hour)
	if n != 1 || got("dee") != 0 {
		t.Errorf("%d held, and Dee has %d letters", n, got("dee"))
	}
	hand(flow.LetGo, "", 1, dee)
	if got("dee") != 1 {
		t.Errorf("let go on, Dee has %d letters", got("dee"))
	}
	for _, x := range []flow.ByHand{{Do: "sing", Sequence: q}, {Do: flow.MoveTo, Sequence: q, Step: 99},
		{Do: flow.TakeOut, Sequence: 999}} {
		if _, err := w.e.Hand(w.ctx, x, dee); err == nil {
			t.Errorf("%+v is done", x)
		}
	}
	w.must(w.e.Hold(w.ctx, q))
	if _, err := w.e.Hand(w.ctx, flow.ByHand{Do: flow.PutIn, Sequence: q}, ana); err == nil {
		t.Error("put into a sequence that does not run")
	}
}
