package mail

import (
	"fmt"
	"io"
	"strings"
	"time"

	"github.com/emersion/go-ical"
	"github.com/teambition/rrule-go"

	"ombak/internal/core/booking"
	"ombak/internal/core/plainly"
)

// Bounds of a calendar of busy times: how many events come again, how many times all of them are
// gone through, and how many stretches are answered.
const (
	maxBusyRules = 500
	maxBusySteps = 200_000
	MaxBusy      = 5_000
)

// ReadBusy reads the stretches of a calendar file (RFC 5545) in which somebody is busy, as far as
// they touch the time from from up to until: events that are not cancelled (STATUS) and not marked
// as free (TRANSP, 3.8.2.7), with what comes again (3.8.5) and what was changed of it
// (RECURRENCE-ID, 3.8.4.4), and free and busy times (VFREEBUSY, 3.6.4). Days and times without a
// zone, and such with a zone nobody knows, are read in zone. How many events could not be read is
// answered beside; a rule that comes again each hour or more often is one of those.
func ReadBusy(r io.Reader, from, until time.Time, zone *time.Location) (list []booking.Span, unread int, err error) {
	body, err := io.ReadAll(io.LimitReader(r, MaxCalendar+1))
	if err != nil {
		return nil, 0, fmt.Errorf("reading a calendar: %w", err)
	}
	if len(body) > MaxCalendar {
		return nil, 0, plainly.New("a calendar file has at most 2 MB")
	}
	cal, err := readCalendar(string(body))
	if err != nil {
		return nil, 0, err
	}
	b := busyReader{from: from, until: until, zone: zone, steps: maxBusySteps, changed: map[string]bool{}}
	for _, c := range cal.Children {
		if id := c.Props.Get(ical.PropRecurrenceID); id != nil {
			if t, ok := b.instant(id); ok {
				b.changed[b.key(c, t)] = true
			}
		}
	}
	for _, c := range cal.Children {
		switch c.Name {
		case ical.CompEvent:
			if !b.event(&ical.Event{Component: c}) {
				unread++
			}
		case ical.CompFreeBusy:
			b.freeBusy(c)
		}
		if b.rules > maxBusyRules || b.steps < 0 {
			return nil, 0, ErrRecurring
		}
		if len(b.out) > MaxBusy {
			return nil, 0, plainly.Errorf("the calendar file has more than %d times in the weeks ahead", MaxBusy)
		}
	}
	return b.out, unread, nil
}

type busyReader struct {
	from, until  time.Time
	zone         *time.Location
	rules, steps int
	changed      map[string]bool // which time of which event has an event of its own
	out          []booking.Span
}

func (b *busyReader) key(c *ical.Component, t time.Time) string {
	uid, _ := c.Props.Text(ical.PropUID) // an event without one is one by itself
	return uid + "\x00" + t.UTC().Format(time.RFC3339)
}

// instant reads a date or a time; one in a zone that nobody knows is read in the reader's.
func (b *busyReader) instant(p *ical.Prop) (time.Time, bool) {
	t, err := p.DateTime(b.zone)
	if err != nil && p.Params.Get(ical.ParamTimezoneID) != "" {
		q := *p
		q.Params = ical.Params{}
		t, err = q.DateTime(b.zone)
	}
	return t, err == nil && t.Year() >= 1970 && t.Year() < 3000
}

func (b *busyReader) add(from, to time.Time) {
	if from.Before(b.until) && to.After(b.from) && to.After(from) {
		b.out = append(b.out, booking.Span{From: from.UTC(), To: to.UTC()})
	}
}

// event adds the times of an event; false: it could not be read.
func (b *busyReader) event(ev *ical.Event) bool {
	if p := ev.Props.Get(ical.PropTransparency); p != nil && strings.EqualFold(p.Value, "TRANSPARENT") {
		return true
	}
	if status := ev.Props.Get(ical.PropStatus); status != nil && strings.EqualFold(status.Value, "CANCELLED") {
		return true
	}
	begins := ev.Props.Get(ical.PropDateTimeStart)
	if begins == nil {
		return false
	}
	start, ok := b.instant(begins)
	if !ok {
		return false
	}
	days := len(begins.Value) == len("20260517")
	long := time.Duration(0)
	if days {
		long = 24 * time.Hour
	}
	if end := ev.Props.Get(ical.PropDateTimeEnd); end != nil {
		t, ok := b.instant(end)
		if !ok {
			return false
		}
		long = t.Sub(start)
	} else if p := ev.Props.Get(ical.PropDuration); p != nil {
		d, err := p.Duration()
		if err != nil {
			return false
		}
		long = d
	}
	end := func(t time.Time) time.Time {
		if days { // whole days, however long the clock makes them
			return t.AddDate(0, 0, int((long+12*time.Hour)/(24*time.Hour)))
		}
		return t.Add(long)
	}
	if ev.Props.Get(ical.PropRecurrenceID) != nil || ev.Props.Get(ical.PropRecurrenceRule) == nil &&
		ev.Props.Get(ical.PropRecurrenceDates) == nil {
		b.add(start, end(start))
		return true
	}
	b.rules++
	set, ok := recurrence(ev.Component, start, b.instant)
	if !ok || set.GetRRule() != nil && set.GetRRule().OrigOptions.Freq > rrule.DAILY {
		return false
	}
	endBy(set, b.until)
	next := set.Iterator()
	for {
		t, ok := next()
		if !ok || t.After(b.until) {
			return true
		}
		if b.steps--; b.steps < 0 {
			return true
		}
		if !b.changed[b.key(ev.Component, t)] {
			b.add(t, end(t))
		}
	}
}

// freeBusy adds the busy times of a component of them: a start and an end, or how long it is.
func (b *busyReader) freeBusy(c *ical.Component) {
	for _, p := range c.Props.Values(ical.PropFreeBusy) {
		if strings.EqualFold(p.Params.Get(ical.ParamFreeBusyType), "FREE") {
			continue
		}
		for _, period := range strings.Split(p.Value, ",") {
			first, second, _ := strings.Cut(period, "/")
			from, ok := b.instant(&ical.Prop{Name: ical.PropDateTimeStart, Params: ical.Params{}, Value: first})
			if !ok || len(b.out) > MaxBusy {
				continue
			}
			if to, ok := b.instant(&ical.Prop{Name: ical.PropDateTimeEnd, Params: ical.Params{}, Value: second}); ok {
				b.add(from, to)
				continue
			}
			long := ical.Prop{Name: ical.PropDuration, Params: ical.Params{}, Value: second}
			if d, err := long.Duration(); err == nil {
				b.add(from, from.Add(d))
			}
		}
	}
}

// recurrence is when an event comes that begins at an instant and comes again: by its rule, on the
// dates it has beside, and not on those it leaves out, of which each line can have several (the
// library reads one, and takes those left out for those beside). false: it cannot be read.
func recurrence(
	c *ical.Component, start time.Time, read func(*ical.Prop) (time.Time, bool),
) (set *rrule.Set, ok bool) {
	set = &rrule.Set{}
	option, err := c.Props.RecurrenceRule()
	if err != nil {
		return nil, false
	}
	if option != nil {
		option.Dtstart = start
		rule, err := rrule.NewRRule(*option)
		if err != nil {
			return nil, false
		}
		set.RRule(rule)
	} else {
		set.RDate(start)
	}
	for name, add := range map[string]func(time.Time){ical.PropExceptionDates: set.ExDate,
		ical.PropRecurrenceDates: set.RDate} {
		for _, p := range c.Props.Values(name) {
			for i, value := range strings.Split(p.Value, ",") {
				if i > 2*MaxBusy {
					return nil, false
				}
				value, _, _ = strings.Cut(value, "/") // of a period its beginning
				q := p
				q.Value = value
				t, ok := read(&q)
				if !ok {
					return nil, false
				}
				add(t)
			}
		}
	}
	return set, true
}
