// Package mailbox is the rules of the account that somebody's emails go out
// from: how many a day it takes, how it is warmed up, and how fast it sends.
package mailbox

import (
	"time"

	"ombak/internal/core/calendar"
	"ombak/internal/core/plainly"
)

// Box is what is agreed about an account. The zero Box has no limit.
type Box struct {
	Daily int       `json:"daily"` // emails on a day; 0: no limit
	Begin int       `json:"begin"` // on the first day of warming up; 0: it is not warmed up
	Step  int       `json:"step"`  // more on each day after it
	Began time.Time `json:"began,omitzero"`
	Gap   int       `json:"gap"` // seconds between two emails
}

// Check reports what cannot be, or nil.
func (b *Box) Check() error {
	switch {
	case b.Daily < 0 || b.Daily > 1_000_000 || b.Begin < 0 || b.Begin > 1_000_000 || b.Step < 0 || b.Step > 1_000_000:
		return plainly.New("a number of emails is a whole number from 0 to 1,000,000")
	case b.Gap < 0 || b.Gap > 3600:
		return plainly.New("the gap between two emails is 0 to 3,600 seconds")
	case b.Begin > 0 && b.Step == 0:
		return plainly.New("warming up takes a number of emails to begin with and one to grow by")
	case b.Daily > 0 && b.Begin > b.Daily:
		return plainly.New("warming up begins below the daily limit")
	}
	return nil
}

// Limit is how many emails may go out on the day of an instant; 0: any number.
// While it warms up the limit grows by Step from date to date.
func (b *Box) Limit(at time.Time, zone *time.Location) int {
	if b.Begin == 0 || b.Began.IsZero() {
		return b.Daily
	}
	n := b.Begin + b.Step*max(days(b.Began.In(zone), at.In(zone)), 0)
	if b.Daily > 0 {
		n = min(n, b.Daily)
	}
	return n
}

// days counts dates from one instant's to another's.
func days(a, b time.Time) int {
	day := func(t time.Time) time.Time { return time.Date(t.Year(), t.Month(), t.Day(), 0, 0, 0, 0, time.UTC) }
	return int(day(b).Sub(day(a)) / (24 * time.Hour))
}

// Used is what has gone out.
type Used struct {
	Day  string    // the date that Sent is of
	Sent int       // on that date
	Next time.Time // not before this goes the next one
}

// Allot says when each of n emails that are ready goes: a zero instant is now.
// Those beyond the limit wait for the same hour of the next working day.
func (b *Box) Allot(u Used, n int, now time.Time, zone *time.Location) ([]time.Time, Used) {
	if day := now.In(zone).Format(time.DateOnly); u.Day != day {
		u.Day, u.Sent = day, 0
	}
	limit := b.Limit(now, zone)
	tomorrow := calendar.Span{N: 1, Unit: calendar.WorkingDays}.After(now, zone, calendar.Working{})
	out := make([]time.Time, n)
	slot := u.Next
	for i := range out {
		if limit > 0 && u.Sent >= limit {
			out[i] = tomorrow
			continue
		}
		if b.Gap > 0 && slot.After(now) {
			out[i] = slot
			slot = slot.Add(time.Duration(b.Gap) * time.Second)
			continue // it is allotted again when its turn comes
		}
		u.Sent++
		if b.Gap > 0 {
			slot = now.Add(time.Duration(b.Gap) * time.Second)
			u.Next = slot
		}
	}
	return out, u
}
