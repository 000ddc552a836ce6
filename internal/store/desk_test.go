package store_test

import (
	"cmp"
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"ombak/internal/store"
)

// The first n of a desk are the n that are due first of all that is on it, whatever kinds they are, also where some come
// back at an instant of their own and others are taken by somebody else; and as many of each kind are counted.
func TestTheFirstOfADesk(t *testing.T) {
	k := open(t)
	rnd := rand.New(rand.NewPCG(16, 7))
	now := time.Date(2026, 4, 14, 9, 0, 0, 0, time.UTC)
	var users []int64
	for i := range 3 {
		var id int64
		k.must(k.DB().QueryRow("insert into app_user (name, email, role, password_hash, created_at) values ('U', $1, 'rep', "+
			"'x', now()) returning id", fmt.Sprintf("u%d@k.example", i)).Scan(&id))
		users = append(users, id)
	}
	somebody := func() *int64 {
		if i := rnd.IntN(4); i < 3 {
			return &users[i]
		}
		return nil
	}
	for i := range 150 {
		p, _ := k.meet(store.NewPerson{First: "Ana", Email: fmt.Sprintf("ana%d@fjord.example", i)})
		at := now.Add(-time.Duration(rnd.IntN(400)) * time.Hour)
		var of store.WorkKind
		var id int64
		if i%2 == 0 {
			of = store.HandoffWork
			k.must(k.DB().QueryRow("insert into handoff (person_id, rep_id, made_by, how, brief, made_at, clock_from) values "+
				"($1, $2, 'hand', '', '{}', $3, $3) returning id", p, somebody(), at).Scan(&id))
		} else {
			of = store.TaskWork
			k.must(k.DB().QueryRow("insert into task (person_id, user_id, alert, words, how, made_at, shown_at) values "+
				"($1, $2, false, 'x', '', $3, $3) returning id", p, somebody(), at).Scan(&id))
		}
		if rnd.IntN(3) == 0 {
			later := now.Add(time.Duration(rnd.IntN(400)-250) * time.Hour)
			k.run("insert into desk_item (kind, item_id, later_at, back, taken_by, taken_until) values ($1, $2, $3, $4, $5, $6)",
				of, id, later, rnd.IntN(2) == 0, somebody(), now.Add(time.Duration(rnd.IntN(3)-1)*time.Hour))
		}
	}
	due := func(r store.DeskRow) time.Time {
		switch {
		case r.Back:
			return *r.Later
		case r.Of == store.HandoffWork:
			return r.Made.Add(4 * time.Hour)
		}
		return r.Made.AddDate(0, 0, 7)
	}
	order := func(a, b store.DeskRow) int {
		return cmp.Or(due(a).Compare(due(b)), cmp.Compare(a.Of, b.Of), cmp.Compare(a.ID, b.ID))
	}
	read := func(q store.DeskQuery) []store.DeskRow {
		list, err := k.DeskRows(k.ctx, q)
		k.must(err)
		slices.SortFunc(list, order)
		return list
	}
	met := 0
	for _, q := range []store.DeskQuery{{}, {User: users[0]}, {User: users[1]}, {User: users[0], Pool: true},
		{User: users[2], Kind: "task"}, {Kind: "handoff"}} {
		q.Now, q.N = now, 1000
		all := read(q)
		counts, err := k.DeskCounts(k.ctx, q)
		k.must(err)
		n := 0
		for kind, c := range counts {
			if q.Kind == "" || kind == q.Kind {
				n += c
			}
		}
		if n != len(all) {
			t.Errorf("%+v: %d are counted, %d are there", q, n, len(all))
		}
		met += len(all)
		for q.N = 1; q.N < len(all); q.N += 1 + q.N/4 {
			if got := read(q); !slices.EqualFunc(got, all[:q.N], func(a, b store.DeskRow) bool {
				return a.Of == b.Of && a.ID == b.ID
			}) {
				t.Fatalf("%+v: the first are %+v\nof all %+v", q, got, all[:q.N])
			}
		}
	}
	if met < 300 {
		t.Errorf("only %d items are met", met)
	}
}
