package engine

import (
	"context"
	"fmt"
	"math/rand/v2"
	"reflect"
	"testing"
	"time"

	"ombak/internal/core/person"
	"ombak/internal/core/rule"
	"ombak/internal/core/score"
	"ombak/internal/core/signal"
	"ombak/internal/standin/mailserver"
	"ombak/internal/store"
)

// many fills the workspace with people whose score is 11, and one of them more.
func (w *world) many(n int) {
	w.t.Helper()
	for _, q := range []string{
		`insert into person (first_name, email, created_at) select 'P', 'p' || i || '@many.example', $2
			from generate_series(1, $1::int) i`,
		`insert into signal (person_id, at, kind) select id, $2, k from person, unnest(array[1, 4]) k
			where email like 'p%@many.example' and $1::int > 0`,
		`insert into standing (model_id, person_id, score, armed, counted_at, ready)
			select 1, id, 11, true, $2::timestamptz + interval '1 minute', true from person
			where email like 'p%@many.example' and $1::int > 0`,
	} {
		_, err := w.s.DB().ExecContext(w.ctx, q, n, day0)
		w.must(err)
	}
}

// Of many scores a batch counts the earlier ones again: it can be watched and stopped,
// the earlier scores serve meanwhile, nobody crosses by the change alone, and whoever
// does something meanwhile is counted by the new rules at once.
func TestARecountIsWork(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	w.many(6001)
	w.clock.set(day0.Add(time.Hour))
	m, err := w.s.Model(w.ctx)
	w.must(err)
	m.Rules = []score.Rule{{On: signal.Pattern{Kind: signal.PageView}, Points: 20, Lasts: 30}}
	w.must(w.e.SaveModel(w.ctx, m))
	b, err := w.s.Recounting(w.ctx, m.ID)
	w.must(err)
	if b.Total < 6001 || b.State != "waiting" || b.Undoable() {
		t.Fatalf("the batch is %+v", b)
	}
	if n, err := w.e.CountBatch(w.ctx, 500); err != nil || n != 0 {
		t.Errorf("%d scores are counted by whoever looks next, %v", n, err)
	}
	if w.count("select count(*) from standing where score = 11") != 6001 {
		t.Error("the earlier scores do not serve meanwhile")
	}
	// One looks at another page meanwhile: 40 points, over the line of 15 before (20) and after.
	one := int64(w.count("select min(id) from person where email like 'p%@many.example'"))
	w.must(w.e.Record(w.ctx, store.Signal{Person: one,
		Signal: signal.Signal{At: w.clock.Now(), Kind: signal.PageView}}))
	_, err = w.e.CountBatch(w.ctx, 500)
	w.must(err)
	if w.count("select count(*) from standing where score = 40 and person_id = $1", one) != 1 {
		t.Error("who does something meanwhile is not counted by the new rules")
	}
	// Stopped half way, by whoever watches.
	ctx, cancel := context.WithCancel(w.ctx)
	w.must(w.e.StopBatch(ctx, b.ID))
	w.must(w.e.RunBatch(ctx, b.ID))
	cancel()
	if b, err = w.s.Batch(w.ctx, b.ID); err != nil || b.State != "stopped" || b.Done >= b.Total {
		t.Errorf("stopped: %+v, %v", b, err)
	}
	// Another change begins another recount, which comes to the end.
	m.Rules[0].Points = 30
	w.must(w.e.SaveModel(w.ctx, m))
	w.must(w.e.SaveModel(w.ctx, m))
	w.must(w.e.RunBatches(w.ctx))
	if n := w.count("select count(*) from standing where score = 30"); n != 6000 {
		t.Errorf("%d of 6000 scores are 30", n)
	}
	if n := w.count("select count(*) from handoff"); n != 0 {
		t.Errorf("%d crossed by the change alone", n)
	}
	if _, err := w.s.Recounting(w.ctx, m.ID); !store.IsNotFound(err) {
		t.Errorf("something is still counted: %v", err)
	}
	if n := w.count("select count(*) from standing s, score_model m where s.changes <> m.changes"); n != 0 {
		t.Errorf("%d scores are of earlier rules", n)
	}
	if n := w.count("select max((detail->>'changed')::int) from batch where kind = 'recount'"); n < 6000 {
		t.Errorf("%d scores are said to have changed", n)
	}
}

// What a recount reads at once of a span of people is what is read of each of them, by the other way.
func TestSpansAgainstEach(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	rnd := rand.New(rand.NewPCG(15, 7))
	pick := func(of ...string) string { return of[rnd.IntN(len(of))] }
	var met []int64
	for i := range 40 {
		id := w.meet(store.NewPerson{First: fmt.Sprint("P", i), Email: fmt.Sprintf("p%d@n%d.example", i, i%7),
			Country: pick("", "NO", "CA"), Title: pick("", "Biologist"), Company: pick("", "Pens", "Farms")})
		met = append(met, id)
		for range rnd.IntN(6) {
			_, err := w.s.DB().ExecContext(w.ctx, `
				insert into signal (person_id, at, kind, sequence_id, link, machine, worth)
				values ($1, $2, $3, nullif($4, 0), $5, $6, $7)`, id,
				w.clock.Now().Add(-time.Duration(rnd.IntN(3))*40*24*time.Hour), []int{1, 4, 5}[rnd.IntN(3)], rnd.IntN(2)*7,
				rnd.IntN(3), pick("", "robot"), rnd.IntN(2))
			w.must(err)
		}
	}
	w.tx(func(tx store.Tx) error {
		m, err := tx.Model(w.ctx)
		w.must(err)
		w.must(tx.MarkStandings(w.ctx, met, w.clock.Now()))
		spans, err := tx.Spans(w.ctx, m.ID, 0, 11, 100)
		w.must(err)
		seen := 0
		for i, s := range spans {
			if i > 0 && s.After != spans[i-1].Upto {
				t.Errorf("the span %+v does not follow %+v", s, spans[i-1])
			}
			list, err := tx.StandingsIn(w.ctx, m.ID, s)
			w.must(err)
			signals, err := tx.SignalsIn(w.ctx, s)
			w.must(err)
			var ids []int64
			var who []store.Since
			for _, x := range list {
				ids, who = append(ids, x.Person), append(who, store.Since{Person: x.Person})
			}
			each, err := tx.SignalsSince(w.ctx, who)
			w.must(err)
			whole, err := tx.Records(w.ctx, ids)
			w.must(err)
			norway, ofPens := rule.FieldIs(person.Country, "NO"), rule.FieldIs(person.Company, "Pens")
			some, err := tx.RecordsFor(w.ctx, ids, []*rule.Rule{{All: []rule.Rule{norway, ofPens}}})
			w.must(err)
			for _, id := range ids {
				seen++
				if len(signals[id]) != len(each[id]) {
					t.Fatalf("%d did %d and %d", id, len(signals[id]), len(each[id]))
				}
				for k := range each[id] {
					a, b := signals[id][k], each[id][k]
					if !a.At.Equal(b.At) {
						t.Errorf("%d did %+v and %+v", id, a, b)
					}
					if a.At = b.At; a != b {
						t.Errorf("%d did %+v and %+v", id, a, b)
					}
				}
				for _, f := range []person.Field{person.Country, person.Company} {
					if some[id].Values[f] != whole[id].Values[f] {
						t.Errorf("%s of %d is %q and %q", f, id, some[id].Values[f], whole[id].Values[f])
					}
				}
				if len(some[id].Values) > 2 {
					t.Errorf("%v was not asked for", some[id].Values)
				}
			}
			all, err := tx.RecordsFor(w.ctx, ids, []*rule.Rule{{If: &rule.Condition{About: rule.Tag, ID: 1}}})
			w.must(err)
			if !reflect.DeepEqual(all, whole) {
				t.Error("what is not one column is not read as a whole")
			}
		}
		if seen < 40 || len(spans) < 4 {
			t.Errorf("%d people in %d spans", seen, len(spans))
		}
		return nil
	})
}
