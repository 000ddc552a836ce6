package event

import (
	"bytes"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/emersion/go-ical"

	"ombak/internal/core/calendar"
)

func at(t testing.TB, s string) time.Time {
	t.Helper()
	i, err := time.Parse(time.RFC3339, s)
	if err != nil {
		t.Fatal(err)
	}
	return i
}

// Days are counted in the event's zone, from its first or its last date, across clock
// changes in both hemispheres, a leap day, the turn of a year and a date that a zone
// skipped; hours are elapsed time. The dates of the changes are the tz database's.
func TestOffsets(t *testing.T) {
	span := func(n int, u calendar.Unit) calendar.Span { return calendar.Span{N: n, Unit: u} }
	for _, c := range []struct {
		name, zone, starts, ends string
		o                        Offset
		want, words              string
	}{
		{"at its start", "UTC", "2026-05-20T09:00:00Z", "2026-05-20T11:00:00Z", Offset{}, "2026-05-20T09:00:00Z",
			"when the event begins"},
		{"at its end", "UTC", "2026-05-20T09:00:00Z", "2026-05-20T11:00:00Z", Offset{After: true},
			"2026-05-20T11:00:00Z", "when the event ends"},
		{"an hour before", "UTC", "2026-05-20T09:00:00Z", "2026-05-20T11:00:00Z",
			Offset{Span: span(1, calendar.Hours)}, "2026-05-20T08:00:00Z", "1 hour before the event"},
		{"minutes after its end", "UTC", "2026-05-20T09:00:00Z", "2026-05-20T11:00:00Z",
			Offset{Span: span(30, calendar.Minutes), After: true}, "2026-05-20T11:30:00Z",
			"30 minutes after the event"},
		{"the day before, when clocks are put forward between", "Europe/Berlin", "2026-03-29T14:00:00+02:00",
			"2026-03-29T15:00:00+02:00", Offset{Span: span(1, calendar.Days), Clock: 9 * 60},
			"2026-03-28T09:00:00+01:00", "1 day before the event at 09:00"},
		{"and in the south, when they are put back", "Australia/Sydney", "2026-04-05T10:00:00+10:00",
			"2026-04-05T11:00:00+10:00", Offset{Span: span(1, calendar.Days), Clock: 9 * 60},
			"2026-04-04T09:00:00+11:00", "1 day before the event at 09:00"},
		{"where clocks change by half an hour", "Australia/Lord_Howe", "2026-04-05T10:00:00+10:30",
			"2026-04-05T11:00:00+10:30", Offset{Span: span(24, calendar.Hours)}, "2026-04-04T10:30:00+11:00",
			"24 hours before the event"},
		{"a time that is skipped is the first after it", "Europe/Berlin", "2026-03-30T14:00:00+02:00",
			"2026-03-30T15:00:00+02:00", Offset{Span: span(1, calendar.Days), Clock: 2*60 + 30},
			"2026-03-29T03:00:00+02:00", "1 day before the event at 02:30"},
		{"over a leap day", "UTC", "2028-03-01T09:00:00Z", "2028-03-01T10:00:00Z",
			Offset{Span: span(1, calendar.Days), Clock: 9 * 60}, "2028-02-29T09:00:00Z",
			"1 day before the event at 09:00"},
		{"over the turn of a year", "UTC", "2027-01-02T09:00:00Z", "2027-01-02T10:00:00Z",
			Offset{Span: span(3, calendar.Days), Clock: 8 * 60}, "2026-12-30T08:00:00Z",
			"3 days before the event at 08:00"},
		{"over a date that the zone skipped", "Pacific/Apia", "2011-12-31T09:00:00+14:00", "2011-12-31T10:00:00+14:00",
			Offset{Span: span(1, calendar.Days), Clock: 9 * 60}, "2011-12-31T00:00:00+14:00",
			"1 day before the event at 09:00"},
		{"working days before pass over a weekend", "UTC", "2026-05-18T09:00:00Z", "2026-05-18T10:00:00Z",
			Offset{Span: span(1, calendar.WorkingDays), Clock: 9 * 60}, "2026-05-15T09:00:00Z",
			"1 working day before the event at 09:00"},
		{"after, from its last date", "Asia/Jakarta", "2026-05-18T09:00:00+07:00", "2026-05-20T17:00:00+07:00",
			Offset{Span: span(1, calendar.Days), After: true, Clock: 10 * 60}, "2026-05-21T10:00:00+07:00",
			"1 day after the event at 10:00"},
		{"its date is the one of its zone", "America/Toronto", "2026-05-20T01:00:00Z", "2026-05-20T02:00:00Z",
			Offset{Span: span(1, calendar.Days), Clock: 12 * 60}, "2026-05-18T12:00:00-04:00",
			"1 day before the event at 12:00"},
	} {
		e := Event{Zone: c.zone, Starts: at(t, c.starts), Ends: at(t, c.ends)}
		if got := e.At(c.o); !got.Equal(at(t, c.want)) || c.o.String() != c.words {
			t.Errorf("%s: %s, %q", c.name, got.In(e.Location()), c.o)
		}
	}
}

func TestWhatAnEventCanBe(t *testing.T) {
	good := Event{Name: "Clinic", Starts: at(t, "2026-05-20T09:00:00Z"), Ends: at(t, "2026-05-20T11:00:00Z"),
		Zone: "Asia/Jakarta", Link: "https://karang.example/clinic"}
	if err := good.Check(); err != nil {
		t.Fatal(err)
	}
	for want, change := range map[string]func(*Event){
		"a name":        func(e *Event) { e.Name = "" },
		"begins":        func(e *Event) { e.Starts = time.Time{} },
		"ends after":    func(e *Event) { e.Ends = e.Starts },
		"at most 31":    func(e *Event) { e.Ends = e.Starts.AddDate(0, 2, 0) },
		"seats":         func(e *Event) { e.Seats = -1 },
		"zone":          func(e *Event) { e.Zone = "Mars/Olympus" },
		"whole address": func(e *Event) { e.Link = "javascript:alert(1)" },
	} {
		e := good
		change(&e)
		if err := e.Check(); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %v", want, err)
		}
	}
	if e := (Event{Zone: "nowhere"}); e.Location() != time.UTC {
		t.Error("a zone that nobody knows")
	}
	if (Offset{Clock: 24 * 60}).Check() == nil || (Offset{Span: calendar.Span{N: -1, Unit: calendar.Days}}).Check() == nil {
		t.Error("an offset that cannot be")
	}
}

// Nobody comes from nothing to having stayed away, and who cancelled holds no seat.
func TestStates(t *testing.T) {
	for _, from := range append(States(), None) {
		for _, to := range append(States(), None) {
			want := slices.Contains([]string{"|registered", "|came", "registered|cancelled", "registered|came",
				"registered|stayed away", "cancelled|registered", "cancelled|came", "came|stayed away",
				"stayed away|came"}, string(from)+"|"+string(to))
			if from.To(to) != want {
				t.Errorf("from %q to %q", from, to)
			}
		}
		if from.Holds() != (from != None && from != Cancelled) {
			t.Errorf("%q holds a seat: %v", from, from.Holds())
		}
	}
}

// The calendar file is read back by go-ical, and holds what RFC 5545 asks of an event.
func TestCalendarFile(t *testing.T) {
	e := Event{Name: "Clinic; with, marks", Starts: at(t, "2026-05-20T09:00:00+07:00"),
		Ends: at(t, "2026-05-20T11:00:00+07:00"), Zone: "Asia/Jakarta", Link: "https://karang.example/", Revision: 2}
	for _, off := range []bool{false, true} {
		method, status := "PUBLISH", "CONFIRMED"
		if off {
			e.Cancelled = at(t, "2026-05-01T00:00:00Z")
			method, status = "CANCEL", "CANCELLED"
		}
		b, err := e.Calendar("e1@ombak.example", at(t, "2026-04-14T09:00:00Z"))
		if err != nil {
			t.Fatal(err)
		}
		c, err := ical.NewDecoder(bytes.NewReader(b)).Decode()
		if err != nil {
			t.Fatal(err)
		}
		v := c.Events()[0]
		starts, err := v.DateTimeStart(time.UTC)
		if err != nil || !starts.Equal(e.Starts) {
			t.Errorf("it starts %s, %v", starts, err)
		}
		text := func(p string) string { s, _ := v.Props.Text(p); return s }
		if m, _ := c.Props.Text(ical.PropMethod); m != method || text(ical.PropStatus) != status ||
			v.Props.Get(ical.PropSequence).Value != "2" || text(ical.PropUID) != "e1@ombak.example" ||
			text(ical.PropSummary) != e.Name || text(ical.PropLocation) != "online" {
			t.Errorf("%s", b)
		}
	}
}
