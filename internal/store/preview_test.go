package store_test

import (
	"maps"
	"math/rand/v2"
	"testing"

	"ombak/internal/store"
)

// Whoever adds up to whom people would come part by part has what one look at all of them has, in the order of how many.
func TestRepsAddUp(t *testing.T) {
	rnd := rand.New(rand.NewPCG(3, 9))
	for range 200 {
		var p store.Preview
		want := map[int64]int64{}
		for range rnd.IntN(6) {
			var part []store.RepLoad
			for _, rep := range rnd.Perm(5)[:rnd.IntN(5)] {
				part = append(part, store.RepLoad{Rep: int64(rep), N: int64(1 + rnd.IntN(9)), Open: 2})
				want[int64(rep)] += part[len(part)-1].N
			}
			p.AddReps(part)
		}
		got := map[int64]int64{}
		for _, r := range p.Reps {
			got[r.Rep] = r.N
		}
		if !maps.Equal(got, want) || len(p.Reps) != len(want) {
			t.Fatalf("they add up to %+v, want %v", p.Reps, want)
		}
		for i := 1; i < len(p.Reps); i++ {
			if a, b := p.Reps[i-1], p.Reps[i]; a.Rep == 0 || b.Rep != 0 && a.N < b.N {
				t.Fatalf("in the order %+v", p.Reps)
			}
		}
	}
}
