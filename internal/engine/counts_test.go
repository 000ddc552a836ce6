package engine

import (
	"testing"
	"time"

	"ombak/internal/core/rule"
	"ombak/internal/standin/mailserver"
	"ombak/internal/store"
)

// large has the database reckon with so many people as nobody should wait for.
func (w *world) large() {
	w.t.Helper()
	_, err := w.s.DB().ExecContext(w.ctx, "update pg_class set reltuples = 50000 where oid = 'person'::regclass")
	w.must(err)
}

// Where there are few people, they are counted at each look; where there are many, nobody waits: they are reckoned at
// first, then counted, and that stands for a minute.
func TestHowManyPeople(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	norway := store.PeopleQuery{Rule: rule.Rule{All: []rule.Rule{rule.FieldIs("country", "NO")}}, Now: day0}
	meet := func(email string) {
		t.Helper()
		w.tx(func(tx store.Tx) error {
			_, _, err := tx.MeetPerson(w.ctx, store.NewPerson{Email: email, Country: "NO"}, day0)
			return err
		})
	}
	many := func() int64 {
		t.Helper()
		n, err := w.e.HowMany(w.ctx, norway)
		w.must(err)
		return n
	}
	roughly := func() (n int64, about bool) {
		t.Helper()
		x, err := w.e.Roughly(w.ctx, norway)
		w.must(err)
		return x.N, x.About
	}
	meet("ana@fjord.example")
	if n := many(); n != 1 {
		t.Fatalf("%d of 1", n)
	}
	meet("bo@fjord.example")
	if n, about := roughly(); n != 2 || about || many() != 2 {
		t.Fatalf("%d of 2, reckoned: %v", n, about)
	}

	w.large()
	w.restart()
	if n, about := roughly(); !about || n < 0 || n > 50000 {
		t.Fatalf("they are counted while somebody waits: %d", n)
	}
	if n := many(); n != 2 {
		t.Fatalf("%d of 2", n)
	}
	meet("cato@fjord.example")
	if n, about := roughly(); n != 2 || about || many() != 2 {
		t.Errorf("%d, reckoned: %v, where 2 were counted", n, about)
	}
	other := norway
	other.Rule = rule.Rule{All: []rule.Rule{rule.FieldIs("country", "GB")}}
	if n, err := w.e.HowMany(w.ctx, other); err != nil || n != 0 {
		t.Errorf("%d of another country: %v", n, err)
	}
	w.clock.set(day0.Add(2 * time.Minute))
	for deadline := time.Now().Add(10 * time.Second); many() != 3; time.Sleep(5 * time.Millisecond) {
		if time.Now().After(deadline) {
			t.Fatal("they are not counted again")
		}
	}
}

// Where there are many people, duplicates are looked for once a minute; whoever was said to be somebody else, or was
// merged, is not suggested any more all the same.
func TestDuplicatesOfMany(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	w.large()
	var ids []int64
	for _, p := range []store.NewPerson{{First: "Ana", Last: "Berg", Email: "ana.berg@fjord.example"},
		{First: "Ana", Last: "Berg", Email: "anaberg@fjord.example"}, {First: "Bo", Last: "Lind", Email: "bo@x.example",
			Phone: "+4722555001"}, {First: "Bo", Last: "Lind", Email: "bo@y.example", Phone: "+4722555001"}} {
		w.tx(func(tx store.Tx) error {
			id, _, err := tx.MeetPerson(w.ctx, p, day0)
			ids = append(ids, id)
			return err
		})
	}
	pairs := func() int {
		t.Helper()
		list, err := w.e.Doubles(w.ctx, 50)
		w.must(err)
		return len(list)
	}
	if n := pairs(); n != 2 {
		t.Fatalf("%d pairs of 2", n)
	}
	w.tx(func(tx store.Tx) error { return tx.NotDouble(w.ctx, ids[1], ids[0]) })
	if n := pairs(); n != 1 {
		t.Errorf("%d pairs though one was said to be two people", n)
	}
	_, err := w.e.Merge(w.ctx, ids[2], ids[3], nil, w.marketer)
	w.must(err)
	if n := pairs(); n != 0 {
		t.Errorf("%d pairs though both were decided about", n)
	}
}
