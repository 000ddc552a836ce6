// Package calendar answers "when": durations, working days and sending hours
// as a person in some time zone reads them off a wall clock.
//
// All instants are UTC inside time.Time values and every function takes its
// zone as an argument; nothing here reads the machine's clock or its zone.
//
// Where a clock change makes a wall time doubtful, one rule holds everywhere:
// a time that is skipped becomes the first instant after the gap, and a time
// that occurs twice is the first of the two. Package time leaves that choice
// open (time.Date: "no guarantee which"), so At makes it here.
package calendar

import (
	"cmp"
	"fmt"
	"strings"
	"time"

	"ombak/internal/core/plainly"
)

// A Date is a day on a wall calendar, without a zone.
type Date struct {
	Year  int        `json:"year"`
	Month time.Month `json:"month"`
	Day   int        `json:"day"`
}

// DateOf returns the date that clocks in loc show at t.
func DateOf(t time.Time, loc *time.Location) Date {
	y, m, d := t.In(loc).Date()
	return Date{y, m, d}
}

// Add returns the date n days later (earlier where n is negative).
func (d Date) Add(n int) Date { return (d.day() + day(n)).date() }

// Compare is -1 where d is before o, 0 where it is the same day, and 1 where it is after it.
func (d Date) Compare(o Date) int { return cmp.Compare(d.day(), o.day()) }

// Weekday returns the day of the week.
func (d Date) Weekday() time.Weekday { return d.day().weekday() }

// String gives the date as ISO 8601 has it, 2026-04-14.
func (d Date) String() string { return fmt.Sprintf("%04d-%02d-%02d", d.Year, d.Month, d.Day) }

// At returns the instant at which clocks in loc show clock (time since
// midnight as the clock face has it) on date d. A skipped time gives the first
// instant after the gap, which may be on a later date where a whole date was
// skipped; a time that occurs twice gives its first occurrence. A clock of 24
// hours is midnight of the next date.
func At(d Date, clock time.Duration, loc *time.Location) time.Time {
	// The wall time, read as if it were UTC, minus a zone's offset is the
	// instant at which that zone shows it. Walk the zone's periods in order:
	// the first one that has not ended before its own reading decides.
	return d.day().at(clock, loc)
}

// at is At, for a date by its number.
func (d day) at(clock time.Duration, loc *time.Location) time.Time {
	wall := time.Unix(int64(d)*secondsOfDay, 0).UTC().Add(clock)
	t := wall.Add(-26 * time.Hour).In(loc)
	for {
		_, offset := t.Zone()
		start, end := t.ZoneBounds()
		at := wall.Add(-time.Duration(offset) * time.Second)
		if !end.IsZero() && !at.Before(end) {
			t = end.In(loc)
			continue
		}
		if !start.IsZero() && at.Before(start) {
			return start.UTC()
		}
		return at
	}
}

// A Unit is what a Span counts.
type Unit string

// The units of a Span. Minutes and hours are elapsed time; days keep the wall
// clock; working days keep it too and pass over dates nobody works on.
const (
	Minutes     Unit = "minutes"
	Hours       Unit = "hours"
	Days        Unit = "days"
	WorkingDays Unit = "working days"
)

// A Span is a length of time as people plan it: "5 working days". The zero
// value is no time at all.
type Span struct {
	N    int  `json:"n,omitempty"`
	Unit Unit `json:"unit,omitempty"`
}

// MaxSpan bounds what a plan may wait, in days: two years.
const MaxSpan = 731

// Check reports why s cannot stand in a plan, or nil.
func (s Span) Check() error {
	days := 0
	switch s.Unit {
	case Minutes:
		days = s.N / (24 * 60)
	case Hours:
		days = s.N / 24
	case Days, WorkingDays:
		days = s.N
	case "":
		if s.N != 0 {
			return plainly.New("a length of time needs a unit")
		}
	default:
		return plainly.Errorf("unknown unit of time %q", s.Unit)
	}
	if s.N < 0 {
		return plainly.New("a length of time cannot be negative")
	}
	if days > MaxSpan {
		return plainly.Errorf("a length of time can be at most %d days", MaxSpan)
	}
	return nil
}

// String says the span in words: "1 day", "5 working days", "at once".
func (s Span) String() string {
	if s.N == 0 {
		return "at once"
	}
	u := string(s.Unit)
	if s.N == 1 {
		u = strings.TrimSuffix(u, "s")
	}
	return fmt.Sprintf("%d %s", s.N, u)
}

// Least is how long the span takes at least, of elapsed time, in any zone and from any instant. Days are counted a day
// and two hours short: a clock change makes one of them shorter, and a zone can leave out a date.
func (s Span) Least() time.Duration {
	switch s.Unit {
	case Minutes:
		return time.Duration(s.N) * time.Minute
	case Hours:
		return time.Duration(s.N) * time.Hour
	case Days, WorkingDays:
		return max(0, time.Duration(s.N)*24*time.Hour-26*time.Hour)
	}
	return 0
}

// NominalDays is the span in days on a plan's time axis, where nobody's
// calendar is known yet: five working days are a week.
func (s Span) NominalDays() float64 {
	switch s.Unit {
	case Minutes:
		return float64(s.N) / (24 * 60)
	case Hours:
		return float64(s.N) / 24
	case WorkingDays:
		return float64(s.N/5*7 + s.N%5)
	default:
		return float64(s.N)
	}
}

// AtLeast is how long s is at least in elapsed time, wherever it begins: a day that a clock
// change shortens and one that a zone skips are taken off.
func (s Span) AtLeast() time.Duration {
	switch s.Unit {
	case Minutes:
		return time.Duration(s.N) * time.Minute
	case Hours:
		return time.Duration(s.N) * time.Hour
	}
	return time.Duration(s.N)*24*time.Hour - 26*time.Hour
}

// After returns the instant s after t for a person in loc, with the working
// dates of w. Days keep t's wall-clock time N dates later, to the nanosecond;
// counting working days starts on the date after t's. Where w has no working
// date at all, working days count as days: a plan never waits for ever.
func (s Span) After(t time.Time, loc *time.Location, w Working) time.Time {
	switch s.Unit {
	case Minutes:
		return t.Add(time.Duration(s.N) * time.Minute)
	case Hours:
		return t.Add(time.Duration(s.N) * time.Hour)
	case Days:
		if s.N == 0 {
			return t
		}
		d, clock := wallOf(t, loc)
		return (d + day(s.N)).at(clock, loc)
	case WorkingDays:
		if s.N == 0 {
			return t
		}
		d, clock := wallOf(t, loc)
		return w.add(d, s.N).at(clock, loc)
	}
	return t
}

// A day is a date by its number, counted from 1 January 1970: it is what is reckoned with,
// some millions of times a second.
type day int64

const secondsOfDay = 24 * 60 * 60

func (d Date) day() day {
	return day(time.Date(d.Year, d.Month, d.Day, 0, 0, 0, 0, time.UTC).Unix() / secondsOfDay)
}

func (d day) date() Date {
	y, m, of := time.Unix(int64(d)*secondsOfDay, 0).UTC().Date()
	return Date{y, m, of}
}

// weekday counts from a Thursday, which that day was.
func (d day) weekday() time.Weekday { return time.Weekday(((d+4)%7 + 7) % 7) }

// wallOf returns what calendar and wall clock in loc show at t: the day, and the time since
// midnight on the clock's face (not elapsed time: those differ on days of change).
func wallOf(t time.Time, loc *time.Location) (day, time.Duration) {
	_, offset := t.In(loc).Zone()
	shown := t.Unix() + int64(offset)
	d := shown / secondsOfDay
	if shown%secondsOfDay < 0 {
		d--
	}
	return day(d), time.Duration(shown-d*secondsOfDay)*time.Second + time.Duration(t.Nanosecond())
}

// Working says which dates are worked on. The zero value is Monday to Friday
// without holidays.
type Working struct {
	Weekdays []time.Weekday `json:"weekdays,omitempty"` // none: Monday to Friday
	Holidays Holidays       `json:"-"`
	Also     Holidays       `json:"-"` // more of them: those of somebody's country
}

// On reports whether d is a working date.
func (w Working) On(d Date) bool { return w.on(d.day()) }

func (w Working) on(d day) bool {
	if len(w.Holidays) > 0 && w.Holidays[d.date()] || len(w.Also) > 0 && w.Also[d.date()] {
		return false
	}
	day := d.weekday()
	if len(w.Weekdays) == 0 {
		return day != time.Saturday && day != time.Sunday
	}
	for _, x := range w.Weekdays {
		if x == day {
			return true
		}
	}
	return false
}

// Add returns the n-th working date after d. Where a whole year holds no
// working date the calendar is empty and plain days are counted instead.
func (w Working) Add(d Date, n int) Date { return w.add(d.day(), n).date() }

func (w Working) add(d day, n int) day {
	x, idle := d, 0
	for left := n; left > 0; {
		x++
		if w.on(x) {
			left, idle = left-1, 0
		} else if idle++; idle > 366 {
			return d + day(n)
		}
	}
	return x
}
