package engine

import (
	"errors"
	"testing"
	"time"

	"ombak/internal/engine/base"
	"ombak/internal/engine/sales"
	"ombak/internal/standin/mailserver"
	"ombak/internal/store"
)

// Nobody does what is another's; whoever leads may, and what changed of a deal is kept with who did it.
func TestAnothersWork(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	lead, err := w.s.AddUser(w.ctx,
		store.User{Name: "Lea", Email: "lea@karang.example", Role: "lead", PasswordHash: "x"}, day0)
	w.must(err)
	ana, ben, cy := w.norwegian("Ana"), w.norwegian("Ben"), w.norwegian("Cy")
	for _, p := range []int64{ana, ben, cy} {
		_, err := w.s.DB().ExecContext(w.ctx, "update person set owner_id = $2 where id = $1", p, w.rep1)
		w.must(err)
		w.must(w.e.HandOver(w.ctx, p))
	}
	open, err := w.s.OpenHandoffs(w.ctx, 0, store.MostHandoffs)
	w.must(err)
	if len(open) != 3 {
		t.Fatalf("%d handoffs", len(open))
	}
	if _, err := w.e.Accept(w.ctx, open[0].ID, w.rep2); !errors.Is(err, base.ErrNotYours) {
		t.Errorf("another's handoff accepted: %v", err)
	}
	if err := w.e.SendBack(w.ctx, open[0].ID, w.rep2, sales.Back{Reason: "no"}); !errors.Is(err, base.ErrNotYours) {
		t.Errorf("another's handoff sent back: %v", err)
	}
	w.must(w.e.SendBack(w.ctx, open[1].ID, lead, sales.Back{Reason: "too early"}))
	deal, err := w.e.Accept(w.ctx, open[0].ID, w.rep1)
	w.must(err)
	if err := w.e.SetAmount(w.ctx, deal, 100, "", w.rep2); !errors.Is(err, base.ErrNotYours) {
		t.Errorf("another's deal priced: %v", err)
	}
	if err := w.e.MoveDeal(w.ctx, deal, 1, 0, w.rep2); !errors.Is(err, base.ErrNotYours) {
		t.Errorf("another's deal moved: %v", err)
	}
	if err := w.e.GiveDeal(w.ctx, deal, w.rep2, w.rep2); !errors.Is(err, base.ErrNotYours) {
		t.Errorf("another's deal taken: %v", err)
	}
	w.must(w.e.SetAmount(w.ctx, deal, 1_250_050, "", w.rep1))
	w.must(w.e.SetAmount(w.ctx, deal, 1_250_050, "", w.rep1)) // nothing changed, nothing kept
	w.must(w.e.GiveDeal(w.ctx, deal, w.rep2, lead))
	w.must(w.e.SetAmount(w.ctx, deal, 0, "", w.rep2))
	if err := w.e.GiveDeal(w.ctx, deal, w.marketer, lead); err == nil {
		t.Error("a marketer was given a deal")
	}
	h, err := w.s.PersonDealChanges(w.ctx, open[0].Person)
	w.must(err)
	if len(h) != 3 || h[2].Became != "EUR\u00a012,500.50" || h[2].Was != "EUR\u00a00" || h[1].What != "owner" ||
		h[1].User != "Lea" ||
		h[0].Became != "EUR\u00a00" {
		t.Errorf("the history: %+v", h)
	}
	w.must(w.s.InTx(w.ctx, func(tx store.Tx) error {
		return tx.AddTasks(w.ctx,
			[]store.NewTask{{Person: ana, To: w.rep1, Words: "Send a price", How: "by hand", At: day0}}, time.UTC)
	}))
	tasks, err := w.s.OpenTasks(w.ctx, w.rep1, false, w.clock.Now())
	w.must(err)
	if _, err := w.e.FinishTask(w.ctx, tasks[0].ID, w.rep2, ""); !errors.Is(err, base.ErrNotYours) {
		t.Errorf("another's task done: %v", err)
	}
	_, err = w.e.FinishTask(w.ctx, tasks[0].ID, w.rep1, "")
	w.must(err)
}
