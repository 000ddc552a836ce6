package desk

import (
	"time"

	"ombak/internal/core/calendar"
)

// Slot is when an item is worked on when one follows the other at one's pace.
type Slot struct{ From, To time.Time }

// Day lays out the first of some ordered items, of which able can be done now: they follow on
// one another in working hours, and those that come up later stand where they come up, or
// where one is done with what is before them. Without working hours there is no day.
func Day(list []Item, able int, now time.Time, hours calendar.SendingHours, loc *time.Location) ([]Slot, error) {
	out := make([]Slot, 0, len(list))
	at := now
	for i, x := range list {
		from := at
		if i >= able && x.From.After(from) {
			from = x.From
		}
		from, err := hours.Next(from, loc)
		if err != nil {
			return nil, err
		}
		to, err := hours.After(from, x.Takes, loc)
		if err != nil {
			return nil, err
		}
		out = append(out, Slot{from, to})
		at = to
	}
	return out, nil
}

// InTime answers which of some items are late when as many as can be are done in time, by the
// working time that is left for each: see Late. An item without a date is never late.
func InTime(list []Item, now time.Time, hours calendar.SendingHours, loc *time.Location) []int {
	due, takes := make([]time.Duration, len(list)), make([]time.Duration, len(list))
	left := map[time.Time]time.Duration{}
	for i, x := range list {
		takes[i] = x.Takes
		switch {
		case x.By.IsZero():
			due[i] = 1<<62 - 1
		case x.By.Before(now):
			due[i] = -1
		default:
			d, ok := left[x.By]
			if !ok {
				d = hours.Between(now, x.By, loc)
				left[x.By] = d
			}
			due[i] = d
		}
	}
	return Late(due, takes)
}
