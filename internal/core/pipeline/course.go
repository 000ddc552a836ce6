package pipeline

import (
	"cmp"
	"math"
	"slices"
	"time"
)

// Mark is a deal on the course: months from left to right by expected closing, a lane for each stage from top to
// bottom, as large as its amount.
type Mark struct {
	Deal   int64
	Lane   int // of its stage, from 0
	Amount int64
	Day    *time.Time // expected, at midnight UTC; nil: nobody knows
	X, Y   float64    // of its middle
	R      float64
}

// Canvas is what a course is drawn on, in units of the picture.
type Canvas struct {
	Left, Top  float64 // of the first month, and the first lane
	Month      float64 // how wide a month is
	Lane       float64 // how high a lane is
	From       Month
	Months     int
	Aside      float64 // how wide the place of those that have no day is, right of the months
	Small, Big float64 // radius of the least and the largest amount
}

// Right is where the months end.
func (c Canvas) Right() float64 { return c.Left + c.Month*float64(c.Months) }

// X is where a day stands: what is past or beyond stands at the edge.
func (c Canvas) X(day *time.Time) float64 {
	if day == nil {
		return c.Right() + c.Aside/2
	}
	t := day.UTC()
	first := time.Date(t.Year(), t.Month(), 1, 0, 0, 0, 0, time.UTC)
	share := float64(t.Day()-1) / float64(first.AddDate(0, 1, -1).Day())
	m := float64(MonthOf(*day, time.UTC).Since(c.From)) + share
	return c.Left + c.Month*min(max(m, 0), float64(c.Months))
}

// Day is which day, at midnight UTC, stands at x; false: x lies beside the months.
func (c Canvas) Day(x float64) (time.Time, bool) {
	m := (x - c.Left) / c.Month
	if m < 0 || m >= float64(c.Months) {
		return time.Time{}, false
	}
	is := c.From.Add(int(m))
	first := time.Date(is.Year, is.Month, 1, 0, 0, 0, 0, time.UTC)
	return first.AddDate(0, 0, int((m-math.Floor(m))*float64(first.AddDate(0, 1, -1).Day()))), true
}

// Lay gives marks their places: each at its day in the middle of its lane, and where others stand there beside them, as
// far as the lane is high. Equal marks are laid equally.
func (c Canvas) Lay(marks []Mark) {
	most := int64(1)
	for i := range marks {
		most = max(most, marks[i].Amount)
	}
	for i := range marks {
		m := &marks[i]
		// The area goes by the amount.
		m.R = c.Small + (c.Big-c.Small)*math.Sqrt(float64(max(m.Amount, 0))/float64(most))
		m.X, m.Y = c.X(m.Day), c.Top+c.Lane*(float64(m.Lane)+0.5)
	}
	order := make([]int, len(marks))
	for i := range order {
		order[i] = i
	}
	slices.SortFunc(order, func(a, b int) int {
		x, y := &marks[a], &marks[b]
		return cmp.Or(cmp.Compare(x.Lane, y.Lane), cmp.Compare(y.R, x.R), cmp.Compare(x.X, y.X),
			cmp.Compare(x.Deal, y.Deal))
	})
	var laid []int // of this lane
	for n, i := range order {
		m := &marks[i]
		if n > 0 && marks[order[n-1]].Lane != m.Lane {
			laid = laid[:0]
		}
		m.Y += c.beside(m, marks, laid)
		laid = append(laid, i)
	}
}

// beside is how far from the middle of its lane a mark finds room beside those that were laid; where there is none,
// where it covers least.
func (c Canvas) beside(m *Mark, marks []Mark, laid []int) float64 {
	const step = 3
	var near []int // the others leave room wherever it goes
	for _, j := range laid {
		if math.Abs(m.X-marks[j].X)-m.R-marks[j].R < 1 {
			near = append(near, j)
		}
	}
	best, most := 0.0, math.Inf(-1)
	for d := 0.0; d <= c.Lane/2-m.R; d += step {
		for _, off := range []float64{d, -d} {
			room := math.Inf(1)
			for _, j := range near {
				o := &marks[j]
				room = min(room, math.Hypot(m.X-o.X, m.Y+off-o.Y)-m.R-o.R)
			}
			if room >= 1 {
				return off
			}
			if room > most {
				best, most = off, room
			}
		}
	}
	return best
}
