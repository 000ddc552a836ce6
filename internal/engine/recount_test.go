package engine

import (
	"context"
	"testing"
	"time"

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
	b, err := w.s.Recounting(w.ctx)
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
	if _, err := w.s.Recounting(w.ctx); !store.IsNotFound(err) {
		t.Errorf("something is still counted: %v", err)
	}
	if n := w.count("select count(*) from standing s, score_model m where s.changes <> m.changes"); n != 0 {
		t.Errorf("%d scores are of earlier rules", n)
	}
	if n := w.count("select max((detail->>'changed')::int) from batch where kind = 'recount'"); n < 6000 {
		t.Errorf("%d scores are said to have changed", n)
	}
}
