package sequence

import (
	"fmt"
	"math/rand/v2"
	"testing"

	"ombak/internal/core/calendar"
	"ombak/internal/core/rule"
)

// The busiest day of a plan is never below what really comes together: people who each take
// one way are counted by the day, in every combination of plans, waves and numbers.
func TestBusiest(t *testing.T) {
	rnd := rand.New(rand.NewPCG(5, 8))
	email := func(s Step) bool { return s.Kind() == kindEmail }
	for range 300 {
		p := newPlan()
		from, exit := StepID(0), Exit("")
		for range 1 + rnd.IntN(7) {
			s := []Step{&Email{Message: 1}, &Check{Rule: rule.ScoreAtLeast(5)},
				&Pause{For: days(1 + rnd.IntN(3))}, &Email{Message: 2, Timing: Timing{Wait: days(rnd.IntN(2))}}}[rnd.IntN(4)]
			id, err := p.Insert(s, from, exit)
			if err != nil {
				t.Fatal(err)
			}
			exits := s.Exits()
			from, exit = id, exits[rnd.IntN(len(exits))]
		}
		n, w := int64(1+rnd.IntN(30)), Wave{N: rnd.IntN(6), Per: Day}
		// Everybody takes any of the ways; where they go is drawn.
		at := p.Days()
		counted := map[int]int64{}
		for i := range n {
			entered := 0
			if w.N > 0 {
				entered = int(i) / w.N
			}
			for id := p.Start; ; {
				s := p.Step(id)
				if email(s) {
					counted[entered+int(at[id])]++
				}
				exits := s.Exits()
				if len(exits) == 0 {
					break
				}
				id = s.About().To[exits[rnd.IntN(len(exits))]]
			}
		}
		top := int64(0)
		for _, k := range counted {
			top = max(top, k)
		}
		if got := p.Busiest(n, w, email); got < top || w.N > 0 && got > int64(w.N)*int64(len(p.Steps)) ||
			got > n*int64(len(p.Steps)) {
			t.Fatalf("%d on the busiest day of %d people in waves of %d, and %d came together", got, n, w.N, top)
		}
	}
}

// Worked by hand: three emails over two weeks, of which a fork has one on either side.
func TestBusiestOfAPlan(t *testing.T) {
	p := newPlan()
	first, _ := p.Insert(&Email{Message: 1}, 0, "")
	check, _ := p.Insert(&Check{Rule: rule.ScoreAtLeast(5)}, first, Next)
	yes, _ := p.Insert(&Email{Message: 2, Timing: Timing{Wait: calendar.Span{N: 7, Unit: calendar.Days}}}, check, Yes)
	no, err := p.Insert(&Email{Message: 3, Timing: Timing{Wait: calendar.Span{N: 7, Unit: calendar.Days}}}, check, No)
	if err != nil || yes == no {
		t.Fatal(err)
	}
	email := func(s Step) bool { return s.Kind() == kindEmail }
	for _, c := range []struct {
		n    int64
		w    Wave
		want int64
	}{
		{588, Wave{}, 588}, {588, Wave{N: 50, Per: Day}, 100}, {588, Wave{N: 50, Per: Hour}, 588},
		{30, Wave{N: 50, Per: Day}, 30}, {0, Wave{}, 0},
	} {
		if got := p.Busiest(c.n, c.w, email); got != c.want {
			t.Errorf("%d in waves of %d a %s: %d, want %d", c.n, c.w.N, c.w.Per, got, c.want)
		}
	}
	var asked []string
	p.LeaveIf = &rule.Rule{}
	p.Asks(func(id StepID, _ *rule.Rule) { asked = append(asked, fmt.Sprint(id)) })
	if fmt.Sprint(asked) != fmt.Sprint([]StepID{0, check}) {
		t.Errorf("asked at %v", asked)
	}
}
