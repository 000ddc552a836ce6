package store_test

import (
	"testing"
	"time"

	"ombak/internal/store"
)

// Of each kind of work it is told how much has come due and since when; what is held, over or not due yet does not
// wait.
func TestLags(t *testing.T) {
	k := open(t)
	rep := k.user("Tomas Vale", "rep")
	id, _ := k.meet(store.NewPerson{First: "Ana", Email: "ana@fjord.example"})
	other, _ := k.meet(store.NewPerson{First: "Bo", Email: "bo@fjord.example"})
	held, _ := k.meet(store.NewPerson{First: "Cato", Email: "cato@fjord.example"})
	k.run("update person set held_at = $2 where id = $1", held, at)
	k.run("delete from audience_stale")
	k.run("delete from kept")
	k.run("insert into sequence (id, name, state, created_at, updated_at) overriding system value values " +
		"(1, 'One', 'running', now(), now()), (2, 'Two', 'held', now(), now())")
	k.run("insert into sequence_version (id, sequence_id, number, plan, messages, entry, launched_at) " +
		"overriding system value values " +
		"(1, 1, 1, '{}', '{}', '{}', now()), (2, 2, 1, '{}', '{}', '{}', now())")
	for i, x := range []struct {
		sequence, person int64
		look             time.Time
		ended            any
	}{{1, id, at.Add(-time.Minute), nil}, {1, other, at.Add(-time.Hour), nil}, {1, held, at.Add(-2 * time.Hour), nil},
		{2, id, at.Add(-3 * time.Hour), nil}} {
		k.run("insert into enrolment (sequence_id, version_id, person_id, key, step, entered_at, reached_at, look, "+
			"ended_at) values ($1, $1, $2, $3, 1, $4, $4, $4, $5)", x.sequence, x.person, i, x.look, x.ended)
	}
	other2, _ := k.meet(store.NewPerson{First: "Dina", Email: "dina@fjord.example"})
	k.run("delete from audience_stale")
	k.run("insert into enrolment (sequence_id, version_id, person_id, key, step, entered_at, reached_at, look) "+
		"values (1, 1, $1, 9, 1, $2, $2, $3)", other2, at, at.Add(time.Second))
	k.run("insert into audience_stale (person_id, what, due) values ($1, 'x', null), ($1, 'y', $2), ($1, 'z', $3)", id,
		at.Add(-time.Minute), at.Add(time.Minute))
	k.run("insert into handoff (person_id, rep_id, state, made_by, how, brief, made_at, clock_from, clock_due) values "+
		"($1, $2, 'open', 'hand', '', '{}', $3, $3, $4), ($5, $2, 'open', 'hand', '', '{}', $3, $3, $6)", id, rep, at.Add(-time.Hour),
		at.Add(-7*time.Minute), other, at.Add(time.Minute))
	k.run("insert into batch (kind, title, state, made_at) values ('import', 'A list', 'running', $1), "+
		"('import', 'Another', 'done', $1)", at.Add(-time.Hour))
	k.run("delete from kept")
	k.run("insert into kept (of, id, n, fresh) values ('tag', 1, 1, true), ('tag', 1, 1, true), ('tag', 1, 1, false)")
	k.run("delete from audience_stale where what not in ('x', 'y', 'z')")

	list, err := k.Lags(k.ctx, at)
	k.must(err)
	want := map[string]struct {
		n     int64
		since time.Time
	}{"walking": {2, at.Add(-time.Hour)}, "following": {2, at.Add(-time.Minute)}, "clocks": {1, at.Add(-7 * time.Minute)},
		"lists": {1, at.Add(-time.Hour)}, "summing": {2, time.Time{}}}
	for _, l := range list {
		w := want[l.Work]
		if l.Waiting != w.n || w.since.IsZero() != (l.Since == nil) || l.Since != nil && !l.Since.Equal(w.since) {
			t.Errorf("%s: %d since %v, want %d since %s", l.Work, l.Waiting, l.Since, w.n, w.since)
		}
		if l.Words == "" {
			t.Errorf("%s: it is not said what waits", l.Work)
		}
		delete(want, l.Work)
	}
	if len(want) > 0 {
		t.Errorf("nothing is told of %v", want)
	}

	// Those who are at work are seen as long as they are.
	if w, err := k.Workers(k.ctx); err != nil || len(w) != 0 {
		t.Fatalf("workers %v: %v", w, err)
	}
	w, err := k.NewWorker(k.ctx, at)
	k.must(err)
	if list, err := k.Workers(k.ctx); err != nil || len(list) != 1 || !list[0].Equal(at) {
		t.Errorf("workers %v: %v", list, err)
	}
	w.Close()
	for range 100 {
		list, err := k.Workers(k.ctx)
		k.must(err)
		if len(list) == 0 {
			return
		}
		time.Sleep(10 * time.Millisecond)
	}
	t.Error("somebody who is gone is taken for at work")
}
