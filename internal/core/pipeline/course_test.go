package pipeline

import (
	"math"
	"math/rand/v2"
	"slices"
	"testing"
	"time"
)

func canvas() Canvas {
	return Canvas{Left: 100, Top: 30, Month: 120, Lane: 90, From: Month{2026, 4}, Months: 6, Aside: 80, Small: 4, Big: 16}
}

func TestDaysOfTheCourse(t *testing.T) {
	c := canvas()
	day := func(y int, m time.Month, d int) *time.Time { x := time.Date(y, m, d, 0, 0, 0, 0, time.UTC); return &x }
	for _, x := range []struct {
		day  *time.Time
		want float64
	}{{day(2026, 4, 1), 100}, {day(2026, 4, 16), 160}, {day(2026, 5, 1), 220}, {day(2026, 2, 1), 100}, {day(2027, 9, 1), 820},
		{nil, 860}} {
		if got := c.X(x.day); math.Abs(got-x.want) > 1e-9 {
			t.Errorf("%v stands at %v, want %v", x.day, got, x.want)
		}
	}
	// Where a mark is put is the day it stands for.
	for d := range 180 {
		at := day(2026, 4, 1).AddDate(0, 0, d)
		if at.Month() > 9 {
			break
		}
		got, ok := c.Day(c.X(&at) + 0.01)
		if !ok || !got.Equal(at) {
			t.Fatalf("%v came back as %v", at, got)
		}
	}
	if _, ok := c.Day(99); ok {
		t.Error("a day left of the months")
	}
	if _, ok := c.Day(821); ok {
		t.Error("a day right of the months")
	}
}

// Marks stay in their lanes and at their days, are as large as their amounts, do not cover each other where there is
// room, and are laid equally however they come.
func TestLay(t *testing.T) {
	rnd := rand.New(rand.NewPCG(4, 82))
	c := canvas()
	for range 100 {
		var marks []Mark
		for i := range rnd.IntN(40) {
			d := time.Date(2026, 4, 1+rnd.IntN(180), 0, 0, 0, 0, time.UTC)
			m := Mark{Deal: int64(i + 1), Lane: rnd.IntN(4), Amount: int64(rnd.IntN(9)) * 100, Day: &d}
			if rnd.IntN(8) == 0 {
				m.Day = nil
			}
			marks = append(marks, m)
		}
		other := slices.Clone(marks)
		rnd.Shuffle(len(other), func(i, j int) { other[i], other[j] = other[j], other[i] })
		c.Lay(marks)
		c.Lay(other)
		for i, m := range marks {
			top := c.Top + c.Lane*float64(m.Lane)
			if m.Y-m.R < top-1e-9 || m.Y+m.R > top+c.Lane+1e-9 || m.X != c.X(m.Day) || m.R < c.Small || m.R > c.Big {
				t.Fatalf("%+v lies outside", m)
			}
			j := slices.IndexFunc(other, func(o Mark) bool { return o.Deal == m.Deal })
			if other[j].Y != m.Y || other[j].R != m.R {
				t.Fatalf("laid at %v, and in another order at %v", m.Y, other[j].Y)
			}
			for _, o := range marks[:i] {
				if (o.Amount > m.Amount) != (o.R > m.R) && o.Amount != m.Amount {
					t.Fatalf("of %d and %d the larger is smaller", o.Amount, m.Amount)
				}
			}
		}
	}
	day := time.Date(2026, 5, 10, 0, 0, 0, 0, time.UTC)
	few := []Mark{{Deal: 1, Amount: 100, Day: &day}, {Deal: 2, Amount: 100, Day: &day}, {Deal: 3, Amount: 25, Day: &day}}
	c.Big = 10
	c.Lay(few)
	for i := range few {
		for _, o := range few[:i] {
			if math.Hypot(few[i].X-o.X, few[i].Y-o.Y) < few[i].R+o.R {
				t.Errorf("%+v covers %+v", few[i], o)
			}
		}
	}
}
