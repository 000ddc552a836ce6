package desk

import (
	"math/rand/v2"
	"testing"
	"time"

	"ombak/internal/core/calendar"
)

func TestPerDay(t *testing.T) {
	hours := calendar.OfficeHours(9*60, 17*60)
	tuesday, sunday := calendar.Date{Year: 2026, Month: time.April, Day: 14}, calendar.Date{Year: 2026, Month: time.April, Day: 12}
	for _, c := range []struct {
		name string
		w    Worker
		k    Kind
		d    calendar.Date
		want int
	}{
		{"eight hours of twelve minutes", Worker{}, Call, tuesday, 40},
		{"as they say", Worker{Most: map[Kind]int{Call: 15}}, Call, tuesday, 15},
		{"of another kind they say nothing", Worker{Most: map[Kind]int{Call: 15}}, Task, tuesday, 48},
		{"they do not work", Worker{Most: map[Kind]int{Call: 15}}, Call, sunday, 0},
	} {
		if got := c.w.PerDay(c.k, hours, c.d); got != c.want {
			t.Errorf("%s: %d, want %d", c.name, got, c.want)
		}
	}
}

func TestShare(t *testing.T) {
	got := Share(10, map[int64]int64{1: 30, 2: 10, 0: 3}, []int64{1, 2})
	if got[1] != 8 || got[2] != 3 { // 32 and 11 of 43
		t.Errorf("of ten come %v", got)
	}
	if got := Share(10, nil, []int64{1}); len(got) != 0 {
		t.Errorf("of nobody’s come %v", got)
	}
	if got := Share(10, map[int64]int64{0: 4}, nil); len(got) != 0 {
		t.Errorf("to nobody come %v", got)
	}
	// Never less than there is, and for each at most one more than their part.
	rnd := rand.New(rand.NewPCG(1, 4))
	for range 2000 {
		n, people := rnd.Int64N(500), []int64{1, 2, 3}
		owned := map[int64]int64{0: rnd.Int64N(50), 1: rnd.Int64N(50), 2: rnd.Int64N(50), 3: 1 + rnd.Int64N(50)}
		sum, all := int64(0), owned[0]+owned[1]+owned[2]+owned[3]
		for id, k := range Share(n, owned, people) {
			sum += k
			if part := float64(n) * (float64(owned[id]) + float64(owned[0])/3) / float64(all); float64(k) > part+1+float64(n)/float64(all) {
				t.Fatalf("of %d with %v to %d come %d, their part is %v", n, owned, id, k, part)
			}
		}
		if sum < n {
			t.Fatalf("of %d come %d", n, sum)
		}
	}
}
