package store_test

import (
	"context"
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"ombak/internal/core/rule"
	"ombak/internal/core/score"
	"ombak/internal/core/signal"
	"ombak/internal/store"
	"ombak/internal/store/storetest"
)

// inMemory is a person as rule.Holds sees them.
type inMemory struct {
	store.Record
	signals []signal.Signal
	score   float64
}

func (p *inMemory) Score(time.Time) float64 { return p.score }
func (p *inMemory) Count(q *signal.Pattern, from, to time.Time) int {
	return signal.Count(p.signals, q, from, to)
}

// TestRulesMeanTheSameInSQL makes rules and people at random and holds what SQL finds against what Holds says.
func TestRulesMeanTheSameInSQL(t *testing.T) {
	ctx := context.Background()
	s := storetest.New(t)
	rnd := rand.New(rand.NewPCG(4, 12))
	now := time.Date(2026, 4, 14, 9, 20, 0, 0, time.UTC)
	countries := []string{"NO", " no", "CA", "", "  ", "Ca"}
	texts := []string{"Ana", "ÅSA", "a%b", "a_b", "", `back\slash`, "O'Neil", "ana maria"}
	pick := func(list []string) string { return list[rnd.IntN(len(list))] }
	people := map[int64]*inMemory{}
	err := s.InTx(ctx, func(tx store.Tx) error {
		model, err := store.SaveModel(ctx, tx, store.Model{Model: score.Model{Name: "x", Line: 15, Rules: []score.Rule{{On: signal.Pattern{Kind: signal.Open}, Points: 1}}}}, now)
		if err != nil {
			return err
		}
		for n := range 120 {
			p := store.NewPerson{First: pick(texts), Last: pick(texts), Email: fmt.Sprintf("p%d@x.example", n), Country: pick(countries), City: pick(texts), Title: pick(texts), Source: pick(texts)}
			if rnd.IntN(2) == 0 {
				p.Company, p.Domain = pick(texts[:3]), fmt.Sprintf("d%d.example", rnd.IntN(20))
			}
			id, _, err := store.MeetPerson(ctx, tx, p, now)
			if err != nil {
				return err
			}
			m := &inMemory{score: float64(rnd.IntN(30))}
			for range rnd.IntN(6) {
				// Half of them exactly on the edges of windows.
				at := now.Add(-time.Duration(rnd.IntN(40)) * 24 * time.Hour)
				if rnd.IntN(2) == 0 {
					at = at.Add(time.Duration(rnd.IntN(7)-3) * time.Microsecond)
				}
				x := signal.Signal{At: at, Kind: signal.Kind(1 + rnd.IntN(5)), Machine: rnd.IntN(4) == 0, Place: signal.Place{Sequence: int64(rnd.IntN(3)), Step: int32(rnd.IntN(2)), Page: int64(rnd.IntN(2))}}
				m.signals = append(m.signals, x)
				why := ""
				if x.Machine {
					why = "a test"
				}
				if err := store.AddSignals(ctx, tx, []store.Signal{{Person: id, Why: why, Signal: x}}); err != nil {
					return err
				}
			}
			signal.Sort(m.signals)
			if err := store.MarkStandings(ctx, tx, []int64{id}, now); err != nil {
				return err
			}
			if err := store.KeepStandings(ctx, tx, model, []store.Standing{{Person: id, Score: m.score, CountedAt: now}}); err != nil {
				return err
			}
			people[id] = m
		}
		var ids []int64
		for id := range people {
			ids = append(ids, id)
		}
		records, err := store.Records(ctx, tx, ids)
		for id, r := range records {
			people[id].Record = r
		}
		return err
	})
	if err != nil {
		t.Fatal(err)
	}

	var grow func(depth int) rule.Rule
	grow = func(depth int) rule.Rule {
		if depth > 0 && rnd.IntN(3) > 0 {
			var list []rule.Rule
			for range 1 + rnd.IntN(3) {
				list = append(list, grow(depth-1))
			}
			switch rnd.IntN(3) {
			case 0:
				return rule.Rule{All: list}
			case 1:
				return rule.Rule{Any: list}
			}
			return rule.Rule{None: list}
		}
		counts := []rule.Op{rule.AtLeast, rule.AtMost, rule.Exactly}
		switch rnd.IntN(4) {
		case 0:
			return rule.Rule{If: &rule.Condition{Score: true, Op: counts[rnd.IntN(3)], N: rnd.IntN(30)}}
		case 1:
			return rule.Rule{If: &rule.Condition{Signal: &signal.Pattern{Kind: signal.Kind(1 + rnd.IntN(5)), Machine: rnd.IntN(3) == 0, Place: signal.Place{Sequence: int64(rnd.IntN(3)), Step: int32(rnd.IntN(2)), Page: int64(rnd.IntN(2))}},
				Op: counts[rnd.IntN(3)], N: rnd.IntN(3), Days: rnd.IntN(40)}}
		}
		ops := []rule.Op{rule.Is, rule.IsNot, rule.Contains, rule.StartsWith, rule.OneOf, rule.Known, rule.NotKnown}
		c := &rule.Condition{Field: rule.Fields()[rnd.IntN(len(rule.Fields()))], Op: ops[rnd.IntN(len(ops))], Value: pick(append(texts, "no", "ca", "a", "%", "_")), Values: []string{pick(texts), pick(countries), ""}}
		return rule.Rule{If: c}
	}
	found := 0
	for range 1500 {
		r := grow(3)
		if rule.Fold(r.Words()) == "" {
			t.Fatalf("a rule without words: %+v", r)
		}
		got, err := s.People(ctx, store.PeopleQuery{Rule: r, Order: store.Newest, Limit: 1000, Now: now})
		if err != nil {
			t.Fatalf("%s: %v", r.Words(), err)
		}
		var sql, memory []int64
		for _, p := range got {
			sql = append(sql, p.ID)
		}
		for id, p := range people {
			if r.Holds(p, now) {
				memory = append(memory, id)
			}
		}
		slices.Sort(sql)
		slices.Sort(memory)
		found += len(sql)
		if !slices.Equal(sql, memory) {
			t.Fatalf("%s:\nSQL finds %v\nin memory %v", r.Words(), sql, memory)
		}
	}
	if found < 1500 {
		t.Errorf("the rules found %d people in all: the test proves little", found)
	}
}

func TestPagesOfPeopleMeetAndMissNobody(t *testing.T) {
	ctx := context.Background()
	s := storetest.New(t)
	now := time.Date(2026, 4, 14, 9, 20, 0, 0, time.UTC)
	err := s.InTx(ctx, func(tx store.Tx) error {
		for n := range 57 {
			if _, _, err := store.MeetPerson(ctx, tx, store.NewPerson{First: "A", Last: fmt.Sprintf("B%d", n%5), Email: fmt.Sprintf("p%d@x.example", n)}, now); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	for _, order := range []store.Order{store.ByScore, store.ByName, store.Newest} {
		seen := map[int64]bool{}
		after := int64(0)
		for range 10 {
			page, err := s.People(ctx, store.PeopleQuery{Order: order, After: after, Limit: 10, Now: now})
			if err != nil {
				t.Fatal(err)
			}
			for _, p := range page {
				if seen[p.ID] {
					t.Fatalf("%s: person %d is on two pages", order, p.ID)
				}
				seen[p.ID], after = true, p.ID
			}
		}
		if len(seen) != 57 {
			t.Errorf("%s: %d of 57 people", order, len(seen))
		}
	}
	if _, err := s.People(ctx, store.PeopleQuery{Order: "shoe size", Limit: 1}); err == nil {
		t.Error("an unknown order was taken")
	}
}
