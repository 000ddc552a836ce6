package engine

import (
	"testing"
	"time"

	"ombak/internal/core/person"
	"ombak/internal/core/rule"
	"ombak/internal/core/sequence"
	"ombak/internal/core/signal"
	"ombak/internal/standin/mailserver"
	"ombak/internal/store"
)

// crowd makes n people in Norway, by one statement.
func (w *world) crowd(n int) {
	w.t.Helper()
	_, err := w.s.DB().ExecContext(w.ctx, "insert into person (first_name, email, country, created_at) select 'C' || i, "+
		"'c' || i || '@crowd.example', 'NO', $2 from generate_series(1, $1::int) i", n, w.clock.Now())
	w.must(err)
}

// While very many of one sequence are due, those who come due on others have their turn all the same.
func TestOthersHaveTheirTurn(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	look := func() sequence.Step {
		return &sequence.Task{Common: sequence.Common{Title: "T"}, What: "look", ToDo: sequence.ToDo{NoWait: true}}
	}
	many, few := w.running("Many", w.plan(look())), w.running("Few", w.plan(look()))
	w.crowd(600)
	enter := func(q int64, who string, at time.Time) {
		_, err := w.s.DB().ExecContext(w.ctx, "insert into enrolment (sequence_id, version_id, person_id, key, step, "+
			"entered_at, reached_at, due, look) select q.id, q.version_id, p.id, p.id, $2, $3, $3, $3, $3 from sequence q, "+
			"person p where q.id = $1 and p.email like $4", q, 1, at, who)
		w.must(err)
	}
	_, err := w.s.DB().ExecContext(w.ctx, "update sequence_version set plan = plan where sequence_id = $1", many)
	w.must(err)
	at := w.clock.Now()
	w.clock.set(at.Add(time.Hour))
	enter(many, "c%", at)
	enter(few, "c1%", at.Add(30*time.Minute))
	waiting := func(q int64) int {
		return w.count("select count(*) from enrolment where sequence_id = $1 and ended_at is null", q)
	}
	due := waiting(few)
	for i := range 3 { // the crowd shows itself; the others; the crowd again
		_, _, err := w.e.AdvanceBatch(w.ctx, 100)
		w.must(err)
		if left := waiting(few); i == 0 && left != due || i > 0 && left != max(due-100, 0) {
			t.Errorf("after %d batches %d of %d of the few wait", i+1, left, due)
		}
	}
	if left := waiting(many); left != 400 {
		t.Errorf("of the many %d wait, and 200 had their turn", left)
	}
	w.settle()
	if waiting(many)+waiting(few) != 0 {
		t.Errorf("in the end %d and %d wait", waiting(many), waiting(few))
	}
}

// More people than enter in one turn enter in several, each asked about once in a round; who is let in only when the
// round has passed them enters in the next.
func TestManyEnterInTurns(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	q := w.running("Many", w.plan(&sequence.Task{Common: sequence.Common{Title: "T"}, What: "look",
		ToDo: sequence.ToDo{NoWait: true}}))
	late := w.meet(store.NewPerson{First: "Late", Email: "late@n.example", Country: "CA"})
	w.crowd(4500)
	in := rule.FieldIs(person.Country, "NO")
	_, err := w.s.DB().ExecContext(w.ctx, "update sequence_version set entry = $2 where sequence_id = $1", q,
		store.JSON[store.Entry]{V: store.Entry{Rule: &in}})
	w.must(err)
	for i, want := range []struct {
		n    int64
		full bool
	}{{2000, true}, {2000, true}, {500, false}, {1, false}, {0, false}} {
		n, full, err := w.e.EnterByRules(w.ctx)
		w.must(err)
		if n != want.n || full != want.full {
			t.Errorf("in turn %d enter %d, and it goes on: %v; want %+v", i+1, n, full, want)
		}
		if i == 0 {
			w.must(w.e.ChangePerson(w.ctx, late, person.Values{person.Country: "NO"}, w.marketer))
		}
	}
}

// Whoever enters at the very instant at which something stopped them before gets what they entered for: it is older.
func TestStoppedAsTheyEnter(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	ana := w.norwegian("Ana")
	q := w.running("After it", w.plan(&sequence.Email{Common: sequence.Common{Title: "E"}, Message: w.first}))
	w.clock.set(time.Date(2026, 4, 15, 9, 0, 0, 0, time.UTC)) // in its hours
	w.must(w.e.Record(w.ctx, store.Signal{Person: ana, Signal: signal.Signal{At: w.clock.Now(), Kind: signal.Reply}}))
	w.must(w.s.InTx(w.ctx, func(tx store.Tx) error {
		running, err := tx.RunningSequence(w.ctx, q)
		if err == nil {
			err = w.e.Enter(w.ctx, tx, running, ana)
		}
		return err
	}))
	w.settle()
	if n := w.count("select count(*) from touch where sequence_id = $1 and state = 'sent'", q); n != 1 {
		t.Errorf("%d emails went out", n)
	}
}
