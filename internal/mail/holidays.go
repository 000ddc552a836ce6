package mail

import (
	"fmt"
	"io"
	"strings"
	"time"

	"github.com/emersion/go-ical"

	"ombak/internal/core/calendar"
	"ombak/internal/core/plainly"
)

// MaxCalendar bounds a calendar file, in bytes.
const MaxCalendar = 2 << 20

// ErrCalendar is answered to what is no calendar file.
var ErrCalendar = plainly.New("this is no calendar file (iCalendar, .ics)")

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
	cal, err := ical.NewDecoder(strings.NewReader(string(body))).Decode()
	if err != nil {
		return nil, ErrCalendar
	}
	from, until := time.Date(first, 1, 1, 0, 0, 0, 0, time.UTC), time.Date(last, 12, 31, 0, 0, 0, 0, time.UTC)
	var out []calendar.Holiday
	for _, ev := range cal.Events() {
		days, err := holidaysOf(&ev, from, until)
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

func holidaysOf(ev *ical.Event, from, until time.Time) ([]calendar.Holiday, error) {
	begins := ev.Props.Get(ical.PropDateTimeStart)
	if begins == nil || len(begins.Value) != len("20260517") {
		return nil, nil
	}
	if status, err := ev.Status(); err == nil && status == ical.EventCancelled {
		return nil, nil
	}
	start, err := time.Parse("20060102", begins.Value)
	if err != nil {
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
	set, err := ev.RecurrenceSet(time.UTC)
	switch {
	case err != nil:
		return nil, plainly.Errorf("“%.80s” comes again by a rule that cannot be read", name)
	case set != nil:
		starts = set.Between(from.AddDate(0, 0, -31), until, true)
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
