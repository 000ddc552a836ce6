package engine

import (
	"fmt"
	"testing"
	"time"

	"ombak/internal/core/act"
	"ombak/internal/core/handoff"
	"ombak/internal/engine/flow"
	"ombak/internal/standin/mailserver"
	"ombak/internal/store"
)

// Each kind of act has who does it, and nothing else is done.
func TestEveryActIsDone(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	for _, k := range act.Kinds() {
		if w.e.Executor(k.Word) == nil {
			t.Errorf("nobody does %q", k.Word)
		}
	}
	if w.e.Executor("launch") != nil {
		t.Error("somebody does what is no act")
	}
}

// A batch is handed over as one after the other would be: in turn, by room, the
// owner first, nobody twice.
func TestHandedOverTogether(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	var people []int64
	for i := range 40 {
		people = append(people,
			w.meet(store.NewPerson{First: fmt.Sprint("P", i), Email: fmt.Sprintf("p%d@n.example", i)}))
	}
	_, err := w.s.DB().ExecContext(w.ctx, "update app_user set capacity = 3 where role = 'rep'")
	w.must(err)
	_, err = w.s.DB().ExecContext(w.ctx, "update person set owner_id = $1 where id = any ($2)", w.rep2, people[30:35])
	w.must(err)
	w.must(w.e.HandOver(w.ctx, people[0]))

	// What handing over each by itself would have come to.
	var reps []handoff.Rep
	w.tx(func(tx store.Tx) (err error) { reps, err = tx.RepsInTurn(w.ctx, day0, time.UTC); return err })
	want := map[int64]int64{}
	var deeds []flow.Deed
	for i, p := range append(people, people[:5]...) {
		at := w.clock.Now()
		deeds = append(deeds, flow.Deed{Act: act.HandOver{}, Occasion: flow.Occasion{Person: p, At: at, By: "step"}})
		if _, twice := want[p]; twice || p == people[0] {
			continue
		}
		owner := int64(0)
		if i >= 30 && i < 35 {
			owner = w.rep2
		}
		want[p] = handoff.Route(handoff.Case{Owner: owner}, reps).Rep
		handoff.Given(reps, want[p], at)
	}
	w.tx(func(tx store.Tx) error { return w.e.Do(w.ctx, tx, deeds) })
	if n := w.count("select count(*) from handoff"); n != 40 {
		t.Errorf("%d handoffs for 40 people", n)
	}
	pool := 0
	for p, rep := range want {
		if rep == 0 {
			pool++
		}
		if w.count("select count(*) from handoff where person_id = $1 and coalesce(rep_id, 0) = $2", p, rep) != 1 {
			t.Errorf("person %d did not go to rep %d", p, rep)
		}
		if rep != 0 && w.count("select count(*) from person where id = $1 and owner_id = $2", p, rep) != 1 {
			t.Errorf("rep %d does not own person %d", rep, p)
		}
	}
	if pool == 0 || pool == len(want) {
		t.Errorf("%d of %d wait in the pool: this shows nothing", pool, len(want))
	}
}

// What cannot be kept of one is looked for, set aside and named; the others go on.
func TestOneThatCannotBeKept(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	w.launch()
	var people []int64
	for i := range 30 {
		people = append(people,
			w.meet(store.NewPerson{First: fmt.Sprint("P", i), Email: fmt.Sprintf("p%d@n.example", i)}))
	}
	w.tx(func(tx store.Tx) error {
		q, err := tx.RunningSequence(w.ctx, w.seq)
		if err != nil {
			return err
		}
		return w.e.Enter(w.ctx, tx, q, people...)
	})
	_, err := w.s.DB().ExecContext(w.ctx, fmt.Sprintf(
		"alter table touch add constraint never check (person_id <> %d) not valid", people[17]))
	w.must(err)
	for range 20 {
		_, _, err := w.e.AdvanceBatch(w.ctx, flow.BatchSize)
		w.must(err)
	}
	if n := w.count("select count(*) from touch where sequence_id = $1", w.seq); n != 29 {
		t.Errorf("%d of 30 have their first email", n)
	}
	if w.count("select count(*) from enrolment where person_id = $1 and look > $2", people[17], w.clock.Now()) != 1 {
		t.Error("the one that cannot be kept is not put off")
	}
	_, err = w.s.DB().ExecContext(w.ctx, "alter table touch drop constraint never")
	w.must(err)
	w.clock.set(w.clock.Now().Add(2 * 60 * 60 * 1e9))
	_, _, err = w.e.AdvanceBatch(w.ctx, flow.BatchSize)
	w.must(err)
	if n := w.count("select count(*) from touch where sequence_id = $1", w.seq); n != 30 {
		t.Errorf("%d of 30 have it once the trouble is over", n)
	}
}
