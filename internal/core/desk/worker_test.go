package desk

import (
	"testing"
	"time"

	"ombak/internal/core/calendar"
)

func TestWorker(t *testing.T) {
	utc, oslo := time.UTC, zone(t, "Europe/Oslo")
	usual := calendar.OfficeHours(9*60, 17*60)
	own := calendar.OfficeHours(7*60, 11*60)
	day := calendar.Date{Year: 2026, Month: time.April, Day: 14} // a Tuesday
	at := func(hour int) time.Time { return time.Date(2026, 4, 14, hour, 0, 0, 0, time.UTC) }
	for _, c := range []struct {
		name string
		w    Worker
		zone *time.Location
		at   time.Time // looked at
		next time.Time // when they work next
		away bool
	}{
		{"as the workspace", Worker{}, utc, at(8), at(9), false},
		{"hours of their own", Worker{Hours: &own}, utc, at(8), at(8), false},
		{"a zone of their own: two hours before", Worker{Zone: "Europe/Oslo"}, oslo, at(6), at(7), false},
		{"away", Worker{Away: []calendar.Date{day}}, utc, at(10), at(33), true},
		{"away where they are, not here", Worker{Zone: "Pacific/Auckland", Away: []calendar.Date{day}},
			zone(t, "Pacific/Auckland"), at(13), at(21), false},
	} {
		if got := c.w.In(utc); got.String() != c.zone.String() {
			t.Errorf("%s: works in %v", c.name, got)
		}
		h := c.w.Works(usual, nil)
		next, err := h.Next(c.at, c.w.In(utc))
		if err != nil || !next.Equal(c.next) {
			t.Errorf("%s: works next at %v, want %v, %v", c.name, next, c.next, err)
		}
		if got := c.w.AwayAt(c.at, utc); got != c.away {
			t.Errorf("%s: away is %v", c.name, got)
		}
	}
	if h := (&Worker{}).Works(usual, calendar.Holidays{day: true}); !h.Closed(day) {
		t.Error("they work on a holiday")
	}
	if len(usual.Off) != 0 {
		t.Error("the usual hours have changed")
	}
	for name, w := range map[string]Worker{
		"no zone": {Zone: "Mars/Olympus"}, "no hours": {Hours: &calendar.SendingHours{}},
		"too many days": {Away: make([]calendar.Date, calendar.MaxDates+1)},
		"too much":      {Most: map[Kind]int{Call: MostOfADay + 1}}, "no kind": {Most: map[Kind]int{"nap": 1}},
	} {
		if w.Check() == nil {
			t.Errorf("%s: is fine", name)
		}
	}
	fine := Worker{Zone: "Europe/Oslo", Hours: &own, Away: []calendar.Date{day}, Most: map[Kind]int{Call: 30}}
	if err := fine.Check(); err != nil {
		t.Errorf("what is fine: %v", err)
	}
	if got := (&Worker{Zone: "Mars/Olympus"}).In(utc); got != utc {
		t.Errorf("in a zone that is none they work in %v", got)
	}
}
