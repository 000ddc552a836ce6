package engine

import (
	"bytes"
	"encoding/csv"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"ombak/internal/core/pipeline"
	"ombak/internal/roster"
	"ombak/internal/standin/mailserver"
	"ombak/internal/store"
)

// A list of deals asks for what it says, page by page; what is done with many is done with those that are one's own,
// and can be taken back.
func TestManyDealsAtOnce(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	lead := w.lead()
	stages, err := w.s.Stages(w.ctx)
	w.must(err)
	won, err := w.e.KeepStage(w.ctx, pipeline.Stage{Name: "Won", Share: 100, Won: true})
	w.must(err)
	var deals []int64
	for i := range 7 {
		id := w.dealOf(fmt.Sprint("P", i))
		w.must(w.e.SetAmount(w.ctx, id, int64(1+i%3)*100_00, "", w.rep1))
		deals = append(deals, id)
	}
	w.must(w.e.GiveDeal(w.ctx, deals[6], w.rep2, lead))
	w.must(w.e.SetPart(w.ctx, deals[0], w.caller("Zoe", "NO", w.rep1), pipeline.Uses, w.rep1))
	for _, order := range store.DealOrders() {
		var seen []int64
		q := store.DealQuery{Order: order}
		for {
			page, err := w.s.Deals(w.ctx, q, 3)
			w.must(err)
			for _, d := range page {
				seen = append(seen, d.ID)
			}
			if len(page) < 3 {
				break
			}
			q.After = page[2].ID
		}
		if len(seen) != 7 || len(distinct(seen)) != 7 {
			t.Errorf("%s: %v", order, seen)
		}
	}
	sum, err := w.s.SumDeals(w.ctx, store.DealQuery{Rep: w.rep1})
	w.must(err)
	if sum.Deals != 6 || sum.Worth != (1+2+3)*2*100_00 {
		t.Errorf("the sum: %+v", sum)
	}
	did, err := w.e.BulkDeals(w.ctx, store.DealQuery{}, "stage", won, w.rep1)
	w.must(err)
	if did.Did != 6 || did.NotOf != 1 {
		t.Errorf("moved: %+v", did)
	}
	if _, _, err := w.e.UndoBulk(w.ctx, did.Bulk, w.rep2); !store.IsNotFound(err) {
		t.Errorf("another takes it back: %v", err)
	}
	w.must(w.e.MoveDeal(w.ctx, deals[1], stages[1].ID, 0, w.rep1))
	back, since, err := w.e.UndoBulk(w.ctx, did.Bulk, w.rep1)
	w.must(err)
	if back != 5 || since != 1 {
		t.Errorf("back %d, changed since %d", back, since)
	}
	if _, _, err := w.e.UndoBulk(w.ctx, did.Bulk, w.rep1); err == nil {
		t.Error("taken back twice")
	}
	if open, _ := w.s.SumDeals(w.ctx, store.DealQuery{}); open.Deals != 7 {
		t.Errorf("%d are open again", open.Deals)
	}
	// Nobody has two open deals: of those that would be open again, one stays closed where there is another.
	two, err := w.s.Deal(w.ctx, deals[2])
	w.must(err)
	w.must(w.e.MoveDeal(w.ctx, deals[2], won, 0, w.rep1))
	newer, err := w.e.OpenByHand(w.ctx, store.NewDeal{Person: two.Person, Rep: w.rep1}, w.rep1)
	w.must(err)
	w.must(w.e.MoveDeal(w.ctx, deals[3], won, 0, w.rep1))
	did, err = w.e.BulkDeals(w.ctx, store.DealQuery{State: store.EveryDeal, IDs: deals[2:4]}, "stage", stages[0].ID, lead)
	w.must(err)
	if did.Did != 1 || did.Twice != 1 {
		t.Errorf("open again: %+v", did)
	}
	w.must(w.e.MoveDeal(w.ctx, newer, won, 0, w.rep1))
	did, err = w.e.BulkDeals(w.ctx, store.DealQuery{State: store.EveryDeal, IDs: []int64{newer, deals[2]}}, "stage",
		stages[0].ID, lead)
	w.must(err)
	if did.Did != 1 || did.Twice != 1 {
		t.Errorf("both of one person: %+v", did)
	}
	did, err = w.e.BulkDeals(w.ctx, store.DealQuery{IDs: deals[:3]}, "owner", w.rep2, lead)
	w.must(err)
	if did.Did != 3 {
		t.Errorf("given: %+v", did)
	}
	if _, _, err = w.e.UndoBulk(w.ctx, did.Bulk, lead); err != nil {
		t.Error(err)
	}
	if mine, _ := w.s.SumDeals(w.ctx, store.DealQuery{Rep: w.rep1}); mine.Deals != 6 {
		t.Errorf("%d are rep1's again", mine.Deals)
	}
	// An email to everybody behind them is to whom they are about and who takes part, deals or not.
	email, err := w.e.EmailBehind(w.ctx, store.DealQuery{IDs: deals[:2]}, w.marketer)
	w.must(err)
	m, err := w.s.Mailing(w.ctx, email)
	w.must(err)
	a, err := w.s.Audience(w.ctx, *m.Audience)
	w.must(err)
	if a.Members != 3 || !m.Plan.V.WithDeals {
		t.Errorf("behind two deals: %+v of %+v", a, m)
	}
	var out bytes.Buffer
	w.must(w.e.ExportDeals(w.ctx, store.DealQuery{Order: "by name"}, roster.CSV, &out))
	rows, err := csv.NewReader(&out).ReadAll()
	w.must(err)
	if len(rows) != 8 || strings.TrimPrefix(rows[0][0], "\ufeff") != "deal" || rows[1][9] != "100.00" ||
		rows[1][10] != "EUR" {
		t.Errorf("the file: %v", rows)
	}
}

func distinct(list []int64) map[int64]bool {
	out := map[int64]bool{}
	for _, x := range list {
		out[x] = true
	}
	return out
}

// TestDealsAsAsked holds lists of deals against a plain look at each, on generated deals and questions.
func TestDealsAsAsked(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	rnd := rand.New(rand.NewPCG(15, 2))
	won, err := w.e.KeepStage(w.ctx, pipeline.Stage{Name: "Won", Won: true})
	w.must(err)
	lost, err := w.e.KeepStage(w.ctx, pipeline.Stage{Name: "Lost", Lost: true})
	w.must(err)
	stages, err := w.s.Stages(w.ctx)
	w.must(err)
	today := w.clock.Now().UTC().Truncate(24 * time.Hour)
	for i := range 80 {
		p := w.meet(store.NewPerson{First: fmt.Sprintf("P%d%%", i), Email: fmt.Sprintf("p%d@n.example", i)})
		day := func() *time.Time {
			if rnd.IntN(3) == 0 {
				return nil
			}
			d := today.AddDate(0, 0, []int{-1, 0, 1, 29, 30, 31}[rnd.IntN(6)])
			return &d
		}
		_, err := w.s.DB().ExecContext(w.ctx, `
			insert into deal (person_id, stage_id, name, amount, currency, worth, opened_at, moved_at, closed_at,
				expected_on, next_step, next_on, rep_id)
			select $1, st.id, $3, $4, 'EUR', $4, $5, $5, case when st.won or st.lost then $5::timestamptz end,
				$6, $7, $8, $9
			from stage st where st.id = $2`, p, stages[rnd.IntN(len(stages))].ID, []string{"Pens_", "pens", "Sluice%"}[i%3],
			rnd.Int64N(5)*100, today.Add(-time.Duration(rnd.IntN(4))*24*time.Hour), day(), []string{"",
				"call"}[rnd.IntN(2)],
			day(), []*int64{nil, &w.rep1, &w.rep2}[rnd.IntN(3)])
		w.must(err)
	}
	every, err := w.s.Deals(w.ctx, store.DealQuery{State: store.EveryDeal}, 100)
	w.must(err)
	slow := map[int64]time.Time{stages[0].ID: today.Add(-36 * time.Hour), stages[1].ID: today.Add(-60 * time.Hour)}
	fits := func(q store.DealQuery, d store.Deal) bool {
		switch q.State {
		case store.WonDeals:
			if d.Stage != won {
				return false
			}
		case store.LostDeals:
			if d.Stage != lost {
				return false
			}
		case store.ClosedDeals:
			if d.Closed == nil {
				return false
			}
		case store.EveryDeal:
		default:
			if d.Closed != nil {
				return false
			}
		}
		if q.Rep > 0 && (d.Rep == nil || *d.Rep != q.Rep) || q.Rep == store.NobodysDeals && d.Rep != nil ||
			q.Stage != 0 && d.Stage != q.Stage {
			return false
		}
		switch q.Planned {
		case store.NoNext:
			return d.Next == ""
		case store.NextOverdue:
			return d.Next != "" && d.NextOn != nil && d.NextOn.Before(today)
		case store.NoDay:
			return d.Expected == nil
		case store.DayPast:
			return d.Expected != nil && d.Expected.Before(today)
		case store.DayInMonth:
			return d.Expected != nil && !d.Expected.Before(today) && !d.Expected.After(today.AddDate(0, 0, 30))
		case store.TooLong:
			return d.Closed == nil && !slow[d.Stage].IsZero() && d.Moved.Before(slow[d.Stage])
		}
		return true
	}
	found := 0
	for range 400 {
		states, plans := store.DealStates(), store.DealPlans()
		q := store.DealQuery{State: states[rnd.IntN(len(states))], Planned: plans[rnd.IntN(len(plans))],
			Rep: []int64{0, w.rep1, store.NobodysDeals}[rnd.IntN(3)], Today: today, Slow: slow,
			Text: []string{"", "", "PENS", "_", "%", "p1%"}[rnd.IntN(6)]}
		if rnd.IntN(4) == 0 {
			q.Stage = stages[rnd.IntN(len(stages))].ID
		}
		want, worth := 0, int64(0)
		for _, d := range every {
			text := strings.ToLower(q.Text)
			if fits(q, d) && (strings.Contains(strings.ToLower(d.Name), text) ||
				strings.Contains(strings.ToLower(d.First+" "+d.Last), text)) {
				want++
				worth += d.Worth
			}
		}
		got, err := w.s.Deals(w.ctx, q, 100)
		w.must(err)
		sum, err := w.s.SumDeals(w.ctx, q)
		w.must(err)
		if len(got) != want || sum.Deals != want || sum.Worth != worth {
			t.Fatalf("%+v: %d and %+v, want %d worth %d", q, len(got), sum, want, worth)
		}
		found += want
	}
	if found < 1000 {
		t.Errorf("only %d were found", found)
	}
}
