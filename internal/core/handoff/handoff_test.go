package handoff

import (
	"testing"
	"time"

	"ombak/internal/core/score"
	"ombak/internal/core/signal"
)

var t0 = time.Date(2026, 4, 14, 9, 20, 0, 0, time.UTC)

func TestRoute(t *testing.T) {
	reps := []Rep{{ID: 1, Capacity: 2, Open: 2, Last: t0}, {ID: 2, Capacity: 5, Last: t0.Add(time.Hour)},
		{ID: 3, Last: t0.Add(time.Hour)}, {ID: 4, Away: true}}
	for _, c := range []struct {
		name  string
		owner int64
		reps  []Rep
		want  int64
		how   How
	}{
		{"the owner, full or not", 1, reps, 1, ByOwner},
		{"an owner who is away gets nobody", 4, reps, 2, InTurn},
		{"no owner: the longest wait with room, the lower ID among equals", 0, reps, 2, InTurn},
		{"an owner who is no rep", 77, reps, 2, InTurn},
		{"nobody has room", 0, reps[:1], 0, Pool},
		{"no reps at all", 0, nil, 0, Pool},
	} {
		if got, how := Route(c.owner, c.reps); got != c.want || how != c.how {
			t.Errorf("%s: %d %s, want %d %s", c.name, got, how, c.want, c.how)
		}
	}
}

func TestTurnsAreEven(t *testing.T) {
	reps := []Rep{{ID: 1}, {ID: 2}, {ID: 3}}
	got := map[int64]int{}
	for n := range 30 {
		id, _ := Route(0, reps)
		got[id]++
		Given(reps, id, t0.Add(time.Duration(n)*time.Minute))
	}
	for id, n := range got {
		if n != 10 {
			t.Errorf("rep %d got %d of 30", id, n)
		}
	}
}

func TestBrief(t *testing.T) {
	m := score.Model{Line: 15, Rules: []score.Rule{
		{On: signal.Pattern{Kind: signal.Open}, Points: 1, Lasts: 30},
		{On: signal.Pattern{Kind: signal.PageView}, Points: 10, Lasts: 30}}}
	list := []signal.Signal{{At: t0.Add(-40 * 24 * time.Hour), Kind: signal.PageView}, {At: t0, Kind: signal.Open},
		{At: t0, Kind: signal.PageView}, {At: t0.Add(time.Hour), Kind: signal.Open}}
	at := t0.Add(2 * time.Hour)
	b := NewBrief(&m, m.Ledger(nil, list, nil, at), list, at)
	if b.Score != 12 || len(b.Reasons) != 2 {
		t.Fatalf("%+v", b)
	}
	if s := b.Reasons[0].String(); s != "+10 for 1 × page view" {
		t.Errorf("largest first, without what ran out: %q", s)
	}
	if r := b.Reasons[1]; r.Times != 2 || !r.Last.Equal(t0.Add(time.Hour)) {
		t.Errorf("%+v", r)
	}
}
