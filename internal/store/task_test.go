package store_test

import (
	"testing"
	"time"

	"ombak/internal/store"
)

// A task is the owner's, else anybody's; the same one twice, while the first is open, is one.
func TestWhoseTasks(t *testing.T) {
	k := open(t)
	tomas, signe := k.user("tomas", "rep"), k.user("signe", "rep")
	ana, _ := k.meet(store.NewPerson{First: "Ana", Email: "ana@fjord.example", Company: "Fjord"})
	ben, _ := k.meet(store.NewPerson{First: "Ben", Email: "ben@kelp.example"})
	if _, err := k.DB().Exec("update person set owner_id = $2 where id = $1", ana, tomas); err != nil {
		t.Fatal(err)
	}
	add := func(who, to int64, alert bool, words string) {
		k.tx(func(tx store.Tx) error {
			return tx.AddTasks(k.ctx,
				[]store.NewTask{{Person: who, To: to, Alert: alert, Words: words, How: "by a link", At: at}}, time.UTC)
		})
	}
	for range 2 {
		add(ana, 0, false, "Call")
		add(ben, 0, false, "Call")
		add(ana, signe, false, "Call her too") // hers by name
		add(ana, 0, true, "Called")
	}
	count := func(user int64, alerts bool) int {
		list, err := k.OpenTasks(k.ctx, user, alerts, at.AddDate(1, 0, 0))
		k.must(err)
		return len(list)
	}
	if a, b, all := count(tomas, false), count(signe, false), count(0, false); a != 2 || b != 2 || all != 3 {
		t.Errorf("Tomas has %d, Signe %d, all of them %d; want 2, 2, 3", a, b, all)
	}
	if a, b := count(tomas, true), count(signe, true); a != 1 || b != 0 {
		t.Errorf("Tomas is told %d, Signe %d", a, b)
	}
	list, err := k.OpenTasks(k.ctx, tomas, false, at.AddDate(1, 0, 0))
	k.must(err)
	if list[0].First != "Ana" || list[0].Company != "Fjord" || list[0].UserName != "tomas" ||
		list[0].How != "by a link" {
		t.Errorf("%+v", list[0])
	}
	finish := func(want bool) {
		t.Helper()
		err := k.InTx(k.ctx, func(tx store.Tx) error {
			_, err := tx.FinishTask(k.ctx, list[0].ID, tomas, "reached", at.Add(time.Hour))
			return err
		})
		if (err == nil) != want {
			t.Errorf("done: %v", err)
		}
	}
	finish(true)
	finish(false)
	add(ana, 0, false, "Call") // again, now that the first is done
	if n := count(tomas, false); n != 2 {
		t.Errorf("afterwards Tomas has %d", n)
	}
	k.tx(func(tx store.Tx) error {
		alerts, err := k.OpenTasks(k.ctx, tomas, true, at.AddDate(1, 0, 0))
		if err != nil {
			return err
		}
		ids := []int64{alerts[0].ID, list[0].ID, 999}
		if seen, err := tx.SeeAlerts(k.ctx, ids, signe, at); err != nil || len(seen) != 0 {
			t.Errorf("Signe sees what is told to Tomas: %v, %v", seen, err)
		}
		seen, err := tx.SeeAlerts(k.ctx, ids, tomas, at)
		if len(seen) != 1 {
			t.Errorf("seen: %v", seen)
		}
		return err
	})
	said, err := k.PersonTasks(k.ctx, ana)
	k.must(err)
	if len(said) != 4 || said[3].User != "tomas" || said[3].Notes != "reached" {
		t.Errorf("of Ana: %+v", said)
	}
}
