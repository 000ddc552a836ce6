package desk

import (
	"time"

	"ombak/internal/core/calendar"
)

// UsualAttempts is how often somebody is called where nothing is said.
const UsualAttempts = 3

// UsualCalling are the hours in which people are called where nothing is said (common
// practice, no source).
func UsualCalling() calendar.SendingHours {
	var h calendar.SendingHours
	for d := time.Monday; d <= time.Friday; d++ {
		h.Days[d] = []calendar.Interval{{From: 9 * 60, To: 12 * 60}, {From: 13 * 60, To: 17 * 60}}
	}
	return h
}

// Where is where somebody is called: their clock, and the holidays of their country.
type Where struct {
	Zone     *time.Location
	Holidays calendar.Holidays
}

// third is in which third of its day's calling hours, from the first of them to the last, an
// instant lies: 0 to 2; before them 0, and after them 2.
func third(h *calendar.SendingHours, at time.Time, loc *time.Location) int {
	wall := at.In(loc)
	list := h.Days[wall.Weekday()]
	if len(list) == 0 {
		return int(min(wall.Hour()/8, 2))
	}
	from, to := list[0].From, list[len(list)-1].To
	m := wall.Hour()*60 + wall.Minute() - from
	return max(min(3*m/(to-from), 2), 0)
}

// NextCall is the first instant, not before now, at which somebody may be called who was
// called last at an instant without a talk: in calling hours, at least a working day later,
// and not in the same third of the day. Last is zero for the first call. Where no such instant
// is within a quarter of a year, the third is not asked for.
func NextCall(h calendar.SendingHours, last, now time.Time, at Where) (time.Time, error) {
	h = h.Resting(at.Holidays)
	in := at.Zone
	if h.Zone != "" {
		in, _ = calendar.ZoneFor(calendar.Whereabouts{Zone: h.Zone}, at.Zone)
	}
	if last.IsZero() {
		return h.Next(now, in)
	}
	day := calendar.Span{N: 1, Unit: calendar.WorkingDays}
	soonest := day.After(last, in, calendar.Working{Holidays: at.Holidays})
	if soonest.Before(now) {
		soonest = now
	}
	first, err := h.Next(soonest, in)
	if err != nil {
		return first, err
	}
	not := third(&h, last, in)
	for t, end := first, first.AddDate(0, 3, 0); t.Before(end); {
		if third(&h, t, in) != not {
			return t, nil
		}
		// The next minute at which it can be another is tried: quarters of an hour are enough, as
		// hours begin and end; the exact minute is looked for within the last of them.
		next, err := h.Next(t.Add(15*time.Minute), in)
		if err != nil {
			return first, err
		}
		if third(&h, next, in) != not {
			for m := t.Truncate(time.Minute).Add(time.Minute); m.Before(next); m = m.Add(time.Minute) {
				if x, err := h.Next(m, in); err == nil && x.Equal(m) && third(&h, m, in) != not {
					return m, nil
				}
			}
		}
		t = next
	}
	return first, nil
}
