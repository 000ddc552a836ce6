package store_test

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"testing"
	"time"

	"ombak/internal/store"
	"ombak/internal/store/storetest"
)

func TestMain(m *testing.M) { storetest.Main(m) }

func TestMigrateTwice(t *testing.T) {
	s := storetest.New(t)
	if err := s.Migrate(context.Background()); err != nil {
		t.Fatal(err)
	}
	if err := s.Ping(context.Background()); err != nil {
		t.Fatal(err)
	}
}

// A touch is made once for each visit of a step, and missed by itself; the key of
// an enrolment is its person's number as they entered.
func TestTouchesByVisit(t *testing.T) {
	k := open(t)
	ana, _ := k.meet(store.NewPerson{First: "Ana", Email: "ana@fjord.example"})
	var enrolment int64
	k.must(k.DB().QueryRowContext(k.ctx, `
		with q as (insert into sequence (name, created_at, updated_at) values ('S', $2, $2) returning id),
		v as (insert into sequence_version (sequence_id, number, plan, messages, entry, launched_at)
			select id, 1, '{}', '{}', '{}', $2 from q returning id, sequence_id)
		insert into enrolment (sequence_id, version_id, person_id, key, step, entered_at, reached_at, look)
		select sequence_id, id, $1, $1, 1, $2, $2, $2 from v returning id`, ana, at).Scan(&enrolment))
	k.tx(func(tx store.Tx) error {
		var list []store.NewTouch
		for _, visit := range []int{0, 1, 2, 2} {
			list = append(list,
				store.NewTouch{Enrolment: enrolment, Sequence: 1, Version: 1, Person: ana, Step: 1, Visit: visit,
					Kind: "call", At: at})
		}
		for i := range list { // each by itself: they come at different times
			if err := tx.MakeTouches(k.ctx, list[i:i+1]); err != nil {
				return err
			}
		}
		return tx.MissTouches(k.ctx, []store.MissedTouch{{Enrolment: enrolment, Step: 1, Visit: 2, At: at}})
	})
	var states string
	k.must(k.DB().QueryRow("select string_agg(t.visit || ' ' || t.state || ' ' || w.open, ', ' order by t.visit) " +
		"from touch t join work w on w.touch_id = t.id").Scan(&states))
	if states != "1 desk true, 2 missed false" {
		t.Errorf("made: %s", states)
	}
	k.tx(func(tx store.Tx) error {
		ended, err := tx.EndedTouches(k.ctx, []int64{enrolment})
		if len(ended) != 1 || ended[0].Visit != 2 {
			t.Errorf("ended: %+v", ended)
		}
		list, cerr := tx.ClaimOpen(k.ctx, ana, at)
		if len(list) != 1 || list[0].State.Key != ana || list[0].State.Visit != 1 {
			t.Errorf("claimed: %+v", list)
			return errors.Join(err, cerr)
		}
		list[0].State.Visit = 3
		var p store.Progress
		p.Add(&list[0], nil)
		return errors.Join(err, cerr, tx.KeepProgress(k.ctx, &p))
	})
	var visit int
	k.must(k.DB().QueryRow("select visit from enrolment").Scan(&visit))
	if visit != 3 {
		t.Errorf("kept visit %d", visit)
	}
}

// The last signals of several people are the same wherever they are looked for first.
func TestLastSignals(t *testing.T) {
	k := open(t)
	now := time.Date(2026, 4, 14, 9, 0, 0, 0, time.UTC)
	k.must(k.EnsureMonths(k.ctx, now.AddDate(0, -5, 0), now))
	var people []int64
	for i := range 6 {
		p, _ := k.meet(store.NewPerson{First: "Ana", Email: fmt.Sprintf("ana%d@fjord.example", i)})
		people = append(people, p)
		for n := range 7 { // some of them have none of late
			k.run("insert into signal (person_id, at, kind) values ($1, $2, 4)", p,
				now.AddDate(0, 0, -(n*(3+5*i))-4*i*i))
		}
	}
	for _, before := range []*time.Time{nil, new(now.AddDate(0, 0, -30))} {
		for most := 1; most < 50; most++ {
			of := store.Last{People: people, Most: most, Before: before}
			want, err := k.Timeline(k.ctx, of)
			k.must(err)
			for _, days := range []int{0, 10, 31, 62, 200} {
				of.First = now.AddDate(0, 0, -days)
				got, err := k.Timeline(k.ctx, of)
				if k.must(err); !slices.Equal(got, want) {
					t.Fatalf("%d of them, looked for in %d days first: %v\nelse %v", most, days, got, want)
				}
			}
			if before == nil && len(want) != min(most, 42) {
				t.Fatalf("there are %d of %d", len(want), most)
			}
		}
	}
}
