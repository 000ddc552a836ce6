package pipeline

import (
	"math"
	"math/rand/v2"
	"slices"
	"sort"
	"time"

	"ombak/internal/core/calendar"
)

// Month is a month of the calendar.
type Month struct {
	Year  int
	Month time.Month
}

// MonthOf is the month of an instant in a zone.
func MonthOf(t time.Time, zone *time.Location) Month {
	t = t.In(zone)
	return Month{t.Year(), t.Month()}
}

// Add is the month n months later.
func (m Month) Add(n int) Month {
	t := time.Date(m.Year, m.Month, 1, 0, 0, 0, 0, time.UTC).AddDate(0, n, 0)
	return Month{t.Year(), t.Month()}
}

// Since is how many months m is after another.
func (m Month) Since(o Month) int { return (m.Year-o.Year)*12 + int(m.Month) - int(o.Month) }

// Prospect is an open deal as a forecast draws it.
type Prospect struct {
	Amount int64     // minor units
	Chance float64   // that it is won
	Months []float64 // if it is won: the chance of each month, from the first of the forecast; they sum to at most one
}

// Expectation is what a month promises: the expected sum, and the range in which the sum lies with 80 %.
type Expectation struct {
	Sum, Low, High int64
	Deals          int // that can fall into it
}

// draws is how often a month's deals are drawn; of more than many the sum is as good as normal, and is not drawn.
const (
	draws = 2000
	many  = 300
	tenth = 1.2815515655446004 // the 90th percentile of the standard normal distribution
)

// Expect forecasts months: every deal is won or not by its chance, on its own, and falls into one month. Equal
// deals give an equal forecast. Where a month has more than 300 of them, the range is that of the normal distribution
// with the same mean and variance (central limit theorem).
func Expect(list []Prospect, months int) []Expectation {
	out := make([]Expectation, months)
	for m := range out {
		var amounts []int64
		var chances []float64
		mean, variance := 0.0, 0.0
		for i := range list {
			p := 0.0
			if m < len(list[i].Months) {
				p = list[i].Chance * list[i].Months[m]
			}
			if p <= 0 || list[i].Amount == 0 {
				continue
			}
			a := float64(list[i].Amount)
			amounts, chances = append(amounts, list[i].Amount), append(chances, p)
			mean, variance = mean+a*p, variance+a*a*p*(1-p)
		}
		e := Expectation{Sum: int64(math.Round(mean)), Deals: len(amounts)}
		if len(amounts) > many {
			d := tenth * math.Sqrt(variance)
			e.Low, e.High = int64(math.Round(max(mean-d, 0))), int64(math.Round(mean+d))
		} else {
			e.Low, e.High = drawn(amounts, chances)
		}
		out[m] = e
	}
	return out
}

// drawn is the range of the sum of deals that are each won by their chance.
func drawn(amounts []int64, chances []float64) (low, high int64) {
	rnd := rand.New(rand.NewPCG(81, uint64(len(amounts))))
	sums := make([]int64, draws)
	for i := range sums {
		for j, p := range chances {
			if rnd.Float64() < p {
				sums[i] += amounts[j]
			}
		}
	}
	slices.Sort(sums)
	return sums[draws/10-1], sums[draws-draws/10-1]
}

// When is the chance of each month for a deal that is won: all of it for the month of an expected day (at midnight,
// UTC), where there is one (a past one is the first month); else by how long deals that were won took from here (in
// order, the shortest first), of those that took longer than this one has taken so far, the rest beyond the months.
// Whoever knows nothing of such deals spreads it evenly.
func When(months int, now time.Time, zone *time.Location, expected *time.Time, age time.Duration,
	took []time.Duration) []float64 {
	out := make([]float64, months)
	if months == 0 {
		return out
	}
	first := MonthOf(now, zone)
	if expected != nil {
		if n := max(MonthOf(*expected, time.UTC).Since(first), 0); n < months {
			out[n] = 1
		}
		return out
	}
	from := sort.Search(len(took), func(i int) bool { return took[i] > age })
	longer := len(took) - from
	for i := range out {
		if longer == 0 {
			out[i] = 1 / float64(months)
			continue
		}
		next := first.Add(i + 1)
		over := calendar.At(calendar.Date{Year: next.Year, Month: next.Month, Day: 1}, 0, zone).Sub(now) + age
		to := from + sort.Search(len(took)-from, func(k int) bool { return took[from+k] >= over })
		out[i] = float64(to-from) / float64(longer)
		from = to
	}
	return out
}
