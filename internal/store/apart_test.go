package store_test

import (
	"context"
	"reflect"
	"testing"
	"time"

	"ombak/internal/core/signal"
	"ombak/internal/store"
	"ombak/internal/store/storetest"
)

// A month that is set apart is read, written, counted and erased as before, waits for nobody for long, and comes back.
func TestMonthsSetApart(t *testing.T) {
	k := open(t)
	now := time.Date(2026, 4, 14, 9, 0, 0, 0, time.UTC)
	k.must(k.EnsureMonths(k.ctx, now.AddDate(0, -5, 0), now))
	space, drop := storetest.Space(t, k.Store)
	ana, _ := k.meet(store.NewPerson{First: "Ana", Email: "ana@fjord.example"})
	bo, _ := k.meet(store.NewPerson{First: "Bo", Email: "bo@fjord.example"})
	for i := range 40 {
		k.run("insert into signal (person_id, at, kind) values ($1, $2, 5)", []int64{ana, bo}[i%2], now.AddDate(0, 0, -4*i))
	}
	read := func() map[int64][]signal.Signal {
		got, err := k.SignalsSince(k.ctx, []store.Since{{Person: ana}, {Person: bo}})
		k.must(err)
		return got
	}
	lies := func() (in map[string]string) {
		months, err := k.SignalMonths(k.ctx)
		k.must(err)
		in = map[string]string{}
		for i, m := range months {
			if m.Bytes < 8192 || m.Name != "signal_"+m.From.UTC().Format("2006_01") ||
				i > 0 && m.From.Before(months[i-1].To()) {
				t.Errorf("a month is %+v", m)
			}
			if m.Space != "" {
				in[m.Name] = m.Space
			}
		}
		return in
	}
	spaces, err := k.Spaces(k.ctx)
	if k.must(err); len(spaces) == 0 || len(lies()) != 0 {
		t.Fatalf("there are the tablespaces %q; apart lie %v", spaces, lies())
	}
	before := read()
	for _, m := range []string{"signal_2025_12", "signal_2026_01"} {
		moved, err := k.MoveMonth(k.ctx, m, space)
		if k.must(err); !moved {
			t.Errorf("%s was not moved", m)
		}
	}
	want := map[string]string{"signal_2025_12": space, "signal_2026_01": space}
	if got := lies(); !reflect.DeepEqual(got, want) {
		t.Errorf("apart lie %v, want %v", got, want)
	}
	var elsewhere int
	k.must(k.DB().QueryRow(`
		select count(*)
		from pg_index x
		join pg_class c on c.oid = x.indexrelid
		where x.indrelid in ('signal_2025_12'::regclass, 'signal_2026_01'::regclass) and c.reltablespace = 0`).Scan(&elsewhere))
	if elsewhere != 0 {
		t.Errorf("%d indexes stayed behind", elsewhere)
	}
	if got := read(); !reflect.DeepEqual(got, before) {
		t.Errorf("what they did is %v, was %v", got, before)
	}
	// What comes late comes to its month; what is known of it later is put there; who is erased is gone from it.
	k.run("insert into signal (person_id, at, kind) values ($1, '2026-01-05', 4)", ana)
	k.run("update signal set machine = 'found out' where at < '2026-01-10' and person_id = $1", ana)
	k.run("delete from signal where person_id = $1", bo)
	found := 0
	for _, s := range read()[ana] {
		if s.Machine != s.At.Before(time.Date(2026, 1, 10, 0, 0, 0, 0, time.UTC)) {
			t.Errorf("a signal is %+v", s)
		}
		if s.Kind == signal.Open {
			found++
		}
	}
	if got := read(); found != 1 || len(got[ana]) != 21 || len(got[bo]) != 0 {
		t.Errorf("they did %v", got)
	}
	// One that somebody reads stays.
	func() {
		defer store.MovePatience("50ms")()
		tx, err := k.DB().BeginTx(k.ctx, nil)
		k.must(err)
		defer tx.Rollback()
		_, err = tx.ExecContext(k.ctx, "select from signal_2026_01")
		k.must(err)
		if moved, err := k.MoveMonth(k.ctx, "signal_2026_01", ""); err != nil || moved {
			t.Errorf("a month that is read is moved: %v, %v", moved, err)
		}
	}()
	for m := range want {
		moved, err := k.MoveMonth(k.ctx, m, "")
		if k.must(err); !moved {
			t.Errorf("%s was not moved back", m)
		}
	}
	if got := lies(); len(got) != 0 {
		t.Errorf("apart lie %v", got)
	}
	drop()
	for _, name := range []string{"signal", "person", "signal_1999_01", "x; drop table person"} {
		if moved, err := k.MoveMonth(context.Background(), name, "pg_default"); err != nil || moved {
			t.Errorf("%q is no month of signals: %v, %v", name, moved, err)
		}
	}
	if _, err := k.MoveMonth(k.ctx, "signal_2026_01", `no"where`); err == nil {
		t.Error("a month was moved to nowhere")
	}
}
