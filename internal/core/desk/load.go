package desk

import (
	"time"

	"ombak/internal/core/calendar"
)

// PerDay is how many of a kind somebody does on a day: what they say, else how many of the usual
// length fit into a day of their hours. 0: they do not work on that day.
func (w *Worker) PerDay(k Kind, hours calendar.SendingHours, d calendar.Date) int {
	if hours.Closed(d) {
		return 0
	}
	if n := w.Most[k]; n > 0 {
		return n
	}
	minutes := 0
	for _, in := range hours.Days[d.Weekday()] {
		minutes += in.To - in.From
	}
	return int(time.Duration(minutes) * time.Minute / Usual(k))
}

// Share is how many of n that come up on a day fall to each of some people: in proportion to how many
// they own; those that nobody owns (0) are spread evenly, and what is left of them comes to the
// first. It is rounded up: nobody is told of less than may come.
func Share(n int64, owned map[int64]int64, people []int64) map[int64]int64 {
	all := int64(0)
	for _, k := range owned {
		all += k
	}
	out := map[int64]int64{}
	if all == 0 || len(people) == 0 {
		return out
	}
	each := owned[0] / int64(len(people))
	for i, id := range people {
		k := owned[id] + each
		if int64(i) < owned[0]%int64(len(people)) {
			k++
		}
		out[id] = (n*k + all - 1) / all
	}
	return out
}
