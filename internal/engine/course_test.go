package engine

import (
	"errors"
	"math"
	"testing"
	"time"

	"ombak/internal/core/act"
	"ombak/internal/core/pipeline"
	"ombak/internal/engine/base"
	"ombak/internal/engine/flow"
	"ombak/internal/standin/mailserver"
	"ombak/internal/store"
)

// dealOf hands somebody over to rep1, who accepts; it answers the deal.
func (w *world) dealOf(name string) int64 {
	w.t.Helper()
	p := w.caller(name, "NO", w.rep1)
	w.must(w.e.HandOver(w.ctx, p))
	id, err := w.e.Accept(w.ctx, w.handoffOf(p).ID, w.rep1)
	w.must(err)
	return id
}

// Stages learn from how deals moved; what is ahead is drawn from that and from what is planned; a deal that stays longer
// than those that were won did is marked.
func TestWhatLiesAhead(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	var won, lost int64
	w.must(w.s.DB().QueryRowContext(w.ctx,
		"insert into stage (name, position, won, pipeline_id) values ('Won', 8, true, 1) returning id").Scan(&won))
	w.must(w.s.DB().QueryRowContext(w.ctx,
		"insert into stage (name, position, lost, pipeline_id) values ('Lost', 9, true, 1) returning id").Scan(&lost))
	stages, err := w.s.Stages(w.ctx)
	w.must(err)
	first := stages[0]
	began := w.clock.Now()
	var deals []int64
	for _, name := range []string{"Ana", "Ben", "Cyn", "Dan"} {
		deals = append(deals, w.dealOf(name))
	}
	for i, d := range deals {
		w.must(w.e.SetAmount(w.ctx, d, int64(i+1)*100_00, "", w.rep1))
	}
	f, err := w.e.StageFigures(w.ctx)
	w.must(err)
	if f[0].Chance.Deals != 4 || f[0].Chance.Share != 20*0.1/24 || f[0].Slow != 0 {
		t.Errorf("at first %+v", f[0])
	}
	w.clock.set(began.Add(10 * dayLong))
	w.must(w.e.MoveDeal(w.ctx, deals[0], won, 0, w.rep1))
	w.clock.set(began.Add(20 * dayLong))
	w.must(w.e.MoveDeal(w.ctx, deals[1], lost, 0, w.rep1))
	f, err = w.e.StageFigures(w.ctx)
	w.must(err)
	// Of four one was won after ten days, one lost after twenty, two go on: a quarter, weighed in with 20 of 10 %.
	if got := f[0].Chance; math.Abs(got.Share-(20*0.1+4*0.25)/24) > 1e-9 || math.Abs(got.Known-0.25) > 1e-9 ||
		math.Abs(got.Open-0.5) > 1e-9 {
		t.Errorf("learned %+v", got)
	}
	if f[0].Slow != 10*dayLong || f[0].Median != 20*dayLong || len(f[0].Took) != 1 {
		t.Errorf("they stay %+v", f[0])
	}
	day := w.clock.Now().AddDate(0, 2, 0).Truncate(24 * time.Hour)
	w.must(w.e.PlanDeal(w.ctx, deals[2], store.DealPlan{Name: "Three pens", Expected: &day, Next: "call"}, w.rep1))
	a, err := w.e.AheadOf(w.ctx, w.pipe(), 0, 6, 10)
	w.must(err)
	share := f[0].Chance.Share
	if len(a.Deals) != 2 || len(a.Stages) != len(stages)-2 || !a.Slow[deals[2]] || !a.Slow[deals[3]] ||
		a.Months[2].Deals != 2 || math.Abs(float64(a.Months[2].Sum)-share*(300_00+400_00.0/6)) > 1 {
		t.Errorf("ahead: %+v of %v", a, first.Name)
	}
	if a, err = w.e.AheadOf(w.ctx, w.pipe(), w.rep2, 6, 10); err != nil || len(a.Deals) != 0 {
		t.Errorf("another's: %+v, %v", a, err)
	}
	// What is planned is the rep's to say, within bounds, and kept in the history.
	if err := w.e.PlanDeal(w.ctx, deals[2], store.DealPlan{Name: "x"}, w.rep2); !errors.Is(err, base.ErrNotYours) {
		t.Errorf("another plans it: %v", err)
	}
	far := day.AddDate(11, 0, 0)
	for _, bad := range []store.DealPlan{{}, {Name: "x", Expected: &far}} {
		if w.e.PlanDeal(w.ctx, deals[2], bad, w.rep1) == nil {
			t.Errorf("%+v was kept", bad)
		}
	}
	w.must(w.e.PlaceDeal(w.ctx, deals[2], stages[1].ID, day.AddDate(0, 1, 0), w.rep1))
	d, err := w.s.Deal(w.ctx, deals[2])
	w.must(err)
	changes, err := w.s.DealChanges(w.ctx, deals[2])
	w.must(err)
	moves, err := w.s.DealMoves(w.ctx, deals[2])
	w.must(err)
	if d.Stage != stages[1].ID || !d.Expected.Equal(day.AddDate(0, 1, 0)) || d.Next != "call" || len(moves) != 2 ||
		len(changes) != 5 || changes[0].What != "expected" {
		t.Errorf("placed: %+v\n%+v\n%+v", d, changes, moves)
	}
}

// Whoever is lost comes back to nurture after the time that the stage says, once; a deal that is not lost any more takes
// it back, and what comes too late is not taken back.
func TestLostDealsComeBack(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	q := w.running("Nurture", w.twoEmails())
	_, err := w.e.KeepStage(w.ctx, pipeline.Stage{Name: "Lost", Lost: true, Nurture: q, After: 30})
	w.must(err)
	stages, err := w.s.Stages(w.ctx)
	w.must(err)
	first, lost := stages[0].ID, stages[len(stages)-1].ID
	deal := w.dealOf("Ana")
	comebacks := func() int { return w.count("select count(*) from comeback where done_at is null") }
	w.must(w.e.MoveDeal(w.ctx, deal, lost, 0, w.rep1))
	w.must(w.e.MoveDeal(w.ctx, deal, lost, 0, w.rep1)) // within the stage
	d, err := w.s.Deal(w.ctx, deal)
	w.must(err)
	if comebacks() != 1 || d.Comeback == 0 {
		t.Errorf("lost, %d come back", comebacks())
	}
	w.must(w.e.MoveDeal(w.ctx, deal, first, 0, w.rep1))
	if comebacks() != 0 {
		t.Error("not lost any more, they still come back")
	}
	w.must(w.e.PlaceDeal(w.ctx, deal, lost, day0, w.rep1))
	w.must(w.e.PlanDeal(w.ctx, deal, store.DealPlan{Name: "x", Reason: "no budget"}, w.rep1))
	at := w.clock.Now().Sub(day0)
	w.to(at + 29*dayLong)
	on := func() int { return w.count("select count(*) from enrolment where sequence_id = $1", q) }
	if on() != 0 {
		t.Error("they came back early")
	}
	w.to(at + 31*dayLong)
	if on() != 1 || comebacks() != 0 {
		t.Errorf("after thirty days %d came back", on())
	}
	// An act that moves deals has the same follow.
	ben := w.dealOf("Ben")
	b, err := w.s.Deal(w.ctx, ben)
	w.must(err)
	w.tx(func(tx store.Tx) error {
		return w.e.Do(w.ctx, tx, []flow.Deed{{Act: act.MoveDeal{Stage: lost},
			Occasion: flow.Occasion{Person: b.Person, At: w.clock.Now(), By: "step"}}})
	})
	if comebacks() != 1 {
		t.Errorf("lost by a step, %d come back", comebacks())
	}
	if _, err := w.e.KeepStage(w.ctx, pipeline.Stage{Name: "Open", Nurture: q}); err == nil {
		t.Error("who is not lost comes back to nurture")
	}
}

// pipe is the first pipeline.
func (w *world) pipe() int64 {
	w.t.Helper()
	list, err := w.s.Pipelines(w.ctx)
	w.must(err)
	return list[0].ID
}
