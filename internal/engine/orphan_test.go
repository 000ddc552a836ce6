package engine

import (
	"testing"

	"ombak/internal/standin/mailserver"
	"ombak/internal/store"
)

// A worker dies while its last transaction is still under way: what that does is seen
// once it is through, and not lost because its worker was looked after before.
func TestAWorkerDiesInTheMiddle(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	w.launch()
	w.e.Unregister()
	for _, name := range []string{"ana", "bo"} {
		w.meet(store.NewPerson{First: name, Email: name + "@fjord.example"})
	}
	w.tx(func(tx store.Tx) error {
		q, err := tx.RunningSequence(w.ctx, w.seq)
		if err != nil {
			return err
		}
		return w.e.Enter(w.ctx, tx, q, 1, 2)
	})
	_, _, err := w.e.AdvanceBatch(w.ctx, 10)
	w.must(err)
	worker, err := w.s.NewWorker(w.ctx, w.clock.Now())
	w.must(err)
	list, err := w.s.ClaimEmails(w.ctx, worker.ID, "mail.karang.example", w.clock.Now(), 10, nil)
	w.must(err)
	if len(list) != 2 {
		t.Fatalf("%d emails are claimed", len(list))
	}
	w.tx(func(tx store.Tx) error {
		begun, err := tx.BeginSending(w.ctx, worker.ID, []store.Begin{{ID: list[0].ID}})
		if len(begun) != 1 {
			t.Errorf("%d are begun", len(begun))
		}
		worker.Close() // it dies here, and its transaction goes through nevertheless
		for range 3 {
			if held, err := w.s.HoldOrphans(w.ctx, "perhaps sent"); err != nil || held != 0 {
				t.Errorf("%d are held before anybody can see it, %v", held, err)
			}
		}
		return err
	})
	held, err := w.s.HoldOrphans(w.ctx, "perhaps sent")
	if err != nil || held != 1 || w.count("select count(*) from worker where id = $1", worker.ID) != 0 {
		t.Errorf("%d are held afterwards, %v", held, err)
	}
	if n := w.count("select count(*) from letter where phase = 'waiting' and worker is null"); n != 1 {
		t.Errorf("%d of those only claimed wait again", n)
	}
	// Who was taken for dead does nothing more.
	if _, err := w.s.ClaimEmails(w.ctx, worker.ID, "mail.karang.example", w.clock.Now(), 10, nil); err == nil {
		t.Error("who was looked after claims on")
	}
	if begun, err := w.s.BeginSending(w.ctx, worker.ID, []store.Begin{{ID: list[1].ID}}); err != nil ||
		len(begun) != 0 {
		t.Errorf("who was looked after begins %v, %v", begun, err)
	}
	// What was lost by an earlier version is found by the next worker that starts.
	_, err = w.s.DB().ExecContext(w.ctx, "update letter set phase = 'sending', worker = 4711 where phase = 'waiting'")
	w.must(err)
	w.must(w.e.Register(w.ctx))
	if n := w.count("select count(*) from touch where state = 'held'"); n != 2 {
		t.Errorf("%d of 2 are held", n)
	}
}
