package store_test

import (
	"testing"
	"time"

	"ombak/internal/store"
)

// Whoever waits for a way that another worker has sees it as that worker leaves it, and not as it was before.
func TestClaimedAsTheyAre(t *testing.T) {
	k := open(t)
	p, _ := k.meet(store.NewPerson{First: "Ana", Email: "ana@fjord.example"})
	now := time.Date(2026, 4, 14, 9, 0, 0, 0, time.UTC)
	k.run("insert into sequence (name, state, created_at, updated_at, entry) values ('s', 'running', now(), now(), '{}')")
	k.run("insert into sequence_version (sequence_id, number, plan, messages, entry, launched_at) values (1, 1, '{}', '{}', " +
		"'{}', now())")
	k.run("insert into enrolment (sequence_id, version_id, person_id, key, step, phase, entered_at, reached_at, look) values "+
		"(1, 1, $1, $1, 8, 1, $2, $2, $2)", p, now)
	got := make(chan []store.Claimed)
	k.must(k.InTx(k.ctx, func(tx store.Tx) error {
		mine, err := tx.ClaimDue(k.ctx, now, 9, nil)
		if err != nil || len(mine) != 1 || mine[0].State.Step != 8 {
			t.Errorf("claimed are %+v: %v", mine, err)
		}
		go func() {
			var list []store.Claimed
			err := k.InTx(k.ctx, func(tx store.Tx) (err error) {
				list, err = tx.ClaimOpen(k.ctx, p, now)
				return err
			})
			if err != nil {
				t.Error(err)
			}
			got <- list
		}()
		for waiting := 0; waiting == 0; time.Sleep(5 * time.Millisecond) { // until the other stands behind this one
			k.must(k.DB().QueryRow("select count(*) from pg_locks where not granted").Scan(&waiting))
		}
		var on store.Progress
		mine[0].State.Step, mine[0].State.Look = 10, now
		on.Add(&mine[0], nil)
		return tx.KeepProgress(k.ctx, &on)
	}))
	if list := <-got; len(list) != 1 || list[0].State.Step != 10 {
		t.Errorf("who waited sees %+v", list)
	}
}
