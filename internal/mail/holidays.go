package mail

import (
	"fmt"
	"io"
	"strings"
	"time"

	"github.com/emersion/go-ical"
	"github.com/teambition/rrule-go"

	"ombak/internal/core/calendar"
	"ombak/internal/core/plainly"
)

// MaxCalendar bounds a calendar file, in bytes.
const MaxCalendar = 2 << 20

// ErrCalendar is answered to what is no calendar file.
var ErrCalendar = plainly.New("this is no calendar file (iCalendar, .ics)")

// ErrRecurring is answered to a calendar file of which too much comes again.
var ErrRecurring = plainly.New("too many days of the calendar file come again")

// ReadHolidays reads the days of a calendar file (RFC 5545): every event that takes whole
// days, with its name, as far as it is of the years from first to last. What comes again is
// gone through (3.8.5); events that begin at a time of day, and such as are cancelled, are none.
func ReadHolidays(r io.Reader, first, last int) ([]calendar.Holiday, error) {
	body, err := io.ReadAll(io.LimitReader(r, MaxCalendar+1))
	if err != nil {
		return nil, fmt.Errorf("reading a calendar: %w", err)
	}
	if len(body) > MaxCalendar {
		return nil, plainly.New("a calendar file has at most 2 MB")
	}
	cal, err := readCalendar(string(body))
	if err != nil {
		return nil, err
	}
	from, until := time.Date(first, 1, 1, 0, 0, 0, 0, time.UTC), time.Date(last, 12, 31, 0, 0, 0, 0, time.UTC)
	var out []calendar.Holiday
	steps, rules := maxRecurring, 0
	for _, ev := range cal.Events() {
		if ev.Props.Get(ical.PropRecurrenceRule) != nil {
			rules++
		}
		if rules > maxRules {
			return nil, ErrRecurring
		}
		days, err := holidaysOf(&ev, from, until, &steps)
		if err != nil {
			return nil, err
		}
		if out = append(out, days...); len(out) > 4*calendar.MaxHolidays {
			return nil, plainly.New("the calendar file has too many days")
		}
	}
	if len(out) == 0 {
		return nil, plainly.Errorf("the file has no day of %d to %d: a holiday is an event that takes the whole day",
			first, last)
	}
	return out, nil
}

// readCalendar reads a calendar file. The library's reader panics on a line that ends in the
// middle of a parameter, as fuzzing has shown: that is no calendar either.
func readCalendar(text string) (cal *ical.Calendar, err error) {
	defer func() {
		if recover() != nil {
			cal, err = nil, ErrCalendar
		}
	}()
	if cal, err = ical.NewDecoder(strings.NewReader(text)).Decode(); err != nil {
		return nil, ErrCalendar
	}
	return cal, nil
}

// maxRecurring bounds how many times all that comes again in a file is gone through, and
// maxRules how many events of it come again: a rule that never holds is gone through to the
// year 9999.
const (
	maxRecurring = 20_000
	maxRules     = 100
)

// holidaysOf are the days of an event; steps is how many times may still be gone through.
func holidaysOf(ev *ical.Event, from, until time.Time, steps *int) ([]calendar.Holiday, error) {
	begins := ev.Props.Get(ical.PropDateTimeStart)
	if begins == nil || len(begins.Value) != len("20260517") {
		return nil, nil
	}
	if status, err := ev.Status(); err == nil && status == ical.EventCancelled {
		return nil, nil
	}
	start, err := time.Parse("20060102", begins.Value)
	if err != nil || start.Year() < 1900 {
		return nil, plainly.Errorf("“%.40s” is no date in the calendar file", begins.Value)
	}
	name, _ := ev.Props.Text(ical.PropSummary) // a day without a name is a day
	long := 1
	if end := ev.Props.Get(ical.PropDateTimeEnd); end != nil && len(end.Value) == len("20260517") {
		if t, err := time.Parse("20060102", end.Value); err == nil {
			long = int(t.Sub(start).Hours() / 24)
		}
	}
	long = max(min(long, 31), 1)
	starts := []time.Time{start}
	set, ok := recurrence(ev.Component, start, func(p *ical.Prop) (time.Time, bool) {
		t, err := p.DateTime(time.UTC)
		return t, err == nil
	})
	if !ok || set.GetRRule() != nil && set.GetRRule().OrigOptions.Freq > rrule.MONTHLY {
		// What comes again each week or day is no holiday, and would be gone through for long.
		return nil, plainly.Errorf("“%.80s” comes again by a rule that cannot be read", name)
	}
	if ev.Props.Get(ical.PropRecurrenceRule) != nil || ev.Props.Get(ical.PropRecurrenceDates) != nil {
		starts = nil
		endBy(set, until)
		next := set.Iterator()
		for {
			s, ok := next()
			if !ok || s.After(until) {
				break
			}
			if *steps--; *steps < 0 {
				return nil, ErrRecurring
			}
			if !s.Before(from.AddDate(0, 0, -31)) {
				starts = append(starts, s)
			}
		}
	}
	var out []calendar.Holiday
	for _, s := range starts {
		for n := range long {
			if d := s.AddDate(0, 0, n); !d.Before(from) && !d.After(until) && len(out) < 4*calendar.MaxHolidays {
				out = append(out, calendar.Holiday{Date: calendar.DateOf(d, time.UTC), Name: name})
			}
		}
	}
	return out, nil
}

// endBy has what comes again end by an instant where it goes on for longer, so that a rule that
// never holds is gone through no further.
func endBy(set *rrule.Set, until time.Time) {
	if r := set.GetRRule(); r != nil && (r.GetUntil().IsZero() || r.GetUntil().After(until)) {
		r.Until(until)
	}
}
