package mail

import (
	"bytes"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/emersion/go-ical"

	"ombak/internal/core/booking"
)

func busyCalendar(events ...string) string {
	s := "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//x//EN\r\n"
	for i, e := range events {
		if !strings.HasPrefix(e, "BEGIN") {
			uid := ""
			if !strings.Contains(e, "UID:") {
				uid = fmt.Sprintf("UID:u%d\n", i)
			}
			e = "BEGIN:VEVENT\n" + uid + "DTSTAMP:19970901T000000Z\n" + e + "\nEND:VEVENT"
		}
		s += strings.ReplaceAll(e, "\n", "\r\n") + "\r\n"
	}
	return s + "END:VCALENDAR\r\n"
}

// The recurrences are the examples of RFC 5545, 3.8.5.3, from memory: each begins at 9:00 in New York
// on 2 September 1997, a Tuesday, save where it says otherwise.
func TestReadBusy(t *testing.T) {
	ny, err := time.LoadLocation("America/New_York")
	if err != nil {
		t.Fatal(err)
	}
	const at = "DTSTART;TZID=America/New_York:19970902T090000\nDURATION:PT1H\n"
	for _, c := range []struct{ name, source, want string }{
		{"daily for 10 occurrences", busyCalendar(at + "RRULE:FREQ=DAILY;COUNT=10"),
			"Sep 2 3 4 5 6 7 8 9 10 11"},
		{"every 10 days, 5 occurrences", busyCalendar(at + "RRULE:FREQ=DAILY;INTERVAL=10;COUNT=5"),
			"Sep 2 12 22 Oct 2 12"},
		{"weekly until 24 December, in what is looked at", busyCalendar(at + "RRULE:FREQ=WEEKLY;UNTIL=19971224T000000Z"),
			"Sep 2 9 16 23 30 Oct 7 14 21 28 Nov 4 11 18 25"},
		{"every other week on Tuesday and Thursday, 8 occurrences",
			busyCalendar(at + "RRULE:FREQ=WEEKLY;INTERVAL=2;COUNT=8;WKST=SU;BYDAY=TU,TH"), "Sep 2 4 16 18 30 Oct 2 14 16"},
		{"the first Friday of a month, 10 occurrences",
			busyCalendar("DTSTART;TZID=America/New_York:19970905T090000\nDURATION:PT1H\nRRULE:FREQ=MONTHLY;COUNT=10;BYDAY=1FR"),
			"Sep 5 Oct 3 Nov 7"},
		{"the third to last day of the month",
			busyCalendar("DTSTART;TZID=America/New_York:19970928T090000\nDURATION:PT1H\nRRULE:FREQ=MONTHLY;BYMONTHDAY=-3"),
			"Sep 28 Oct 29 Nov 28"},
		{"every Friday the 13th, but for the beginning",
			busyCalendar(at + "EXDATE;TZID=America/New_York:19970902T090000\nRRULE:FREQ=MONTHLY;BYDAY=FR;BYMONTHDAY=13"), ""},
		{"two days of their own beside the first", busyCalendar(at + "RDATE;TZID=America/New_York:19970914T090000,19971001T090000"),
			"Sep 2 14 Oct 1"},
		{"an occurrence that was moved, and one that was cancelled",
			busyCalendar("UID:a\n"+at+"RRULE:FREQ=DAILY;COUNT=4",
				"UID:a\nRECURRENCE-ID;TZID=America/New_York:19970903T090000\nDTSTART;TZID=America/New_York:19970920T090000\nDURATION:PT1H",
				"UID:a\nRECURRENCE-ID;TZID=America/New_York:19970904T090000\nSTATUS:CANCELLED\n"+at), "Sep 2 5 20"},
		{"marked as free, and cancelled", busyCalendar(at+"TRANSP:TRANSPARENT", at+"STATUS:CANCELLED"), ""},
		{"before and after what is looked at", busyCalendar("DTSTART:19970801T090000Z\nDURATION:PT1H", "DTSTART:19980101T090000Z\nDURATION:PT1H"), ""},
		{"a time in a zone that nobody knows", busyCalendar("DTSTART;TZID=Somewhere Time:19970902T090000\nDTEND;TZID=Somewhere Time:19970902T100000"), "Sep 2"},
		{"busy and free times", busyCalendar("BEGIN:VFREEBUSY\nUID:x\nDTSTAMP:19970901T083000Z\n" +
			"FREEBUSY:19970902T130000Z/PT1H,19970903T130000Z/19970903T140000Z\nFREEBUSY;FBTYPE=FREE:19970904T130000Z/PT1H\nEND:VFREEBUSY"), "Sep 2 3"},
	} {
		list, unread, err := ReadBusy(strings.NewReader(c.source), time.Date(1997, 9, 1, 0, 0, 0, 0, ny), time.Date(1997, 12, 1, 0, 0, 0, 0, ny), ny)
		if err != nil || unread != 0 {
			t.Errorf("%s: %d unread, %v", c.name, unread, err)
			continue
		}
		got, month := []string{}, ""
		for _, s := range list {
			from := s.From.In(ny)
			if s.To.Sub(s.From) != time.Hour || from.Hour() != 9 { // through the change of the clock too
				t.Errorf("%s: %v to %v", c.name, from, s.To.In(ny))
			}
			if m := from.Format("Jan"); m != month {
				got, month = append(got, m), m
			}
			got = append(got, from.Format("2"))
		}
		if strings.Join(got, " ") != c.want {
			t.Errorf("%s: %s\nwant %s", c.name, strings.Join(got, " "), c.want)
		}
	}
}

func TestBusyDaysAndBounds(t *testing.T) {
	ny, _ := time.LoadLocation("America/New_York")
	from, until := time.Date(2026, 10, 1, 0, 0, 0, 0, ny), time.Date(2026, 12, 1, 0, 0, 0, 0, ny)
	// Two whole days, with the longer one between them on which the clock is set back.
	list, _, err := ReadBusy(strings.NewReader(busyCalendar("DTSTART;VALUE=DATE:20261031\nDTEND;VALUE=DATE:20261102")), from, until, ny)
	if err != nil || len(list) != 1 || list[0] != (booking.Span{From: time.Date(2026, 10, 31, 4, 0, 0, 0, time.UTC),
		To: time.Date(2026, 11, 2, 5, 0, 0, 0, time.UTC)}) {
		t.Errorf("two days are %v, %v", list, err)
	}
	// A day without an end is that day; each day, as it comes.
	list, _, err = ReadBusy(strings.NewReader(busyCalendar("DTSTART;VALUE=DATE:20261031\nRRULE:FREQ=DAILY;COUNT=3")), from, until, ny)
	if err != nil || len(list) != 3 || list[1].To.Sub(list[1].From) != 25*time.Hour {
		t.Errorf("three days are %v, %v", list, err)
	}
	for name, c := range map[string]struct {
		source string
		unread int
		fails  bool
	}{
		"each second":         {busyCalendar("DTSTART:20261001T090000Z\nDURATION:PT1S\nRRULE:FREQ=SECONDLY"), 1, false},
		"a rule that is none": {busyCalendar("DTSTART:20261001T090000Z\nDURATION:PT1S\nRRULE:FREQ=SOMETIMES"), 1, false},
		"never":               {busyCalendar("DTSTART:20261001T090000Z\nDURATION:PT1H\nRRULE:FREQ=DAILY;BYMONTH=2;BYMONTHDAY=30"), 0, false},
		"no start":            {busyCalendar("DURATION:PT1H"), 1, false},
		"a bad end":           {busyCalendar("DTSTART:20261001T090000Z\nDTEND:soon"), 1, false},
		"a bad length":        {busyCalendar("DTSTART:20261001T090000Z\nDURATION:long"), 1, false},
		"no calendar":         {"hello", 0, true},
		"too large":           {strings.Repeat("x", MaxCalendar+1), 0, true},
		"too many rules": {busyCalendar(strings.Split(strings.Repeat("DTSTART:20261001T090000Z\nRRULE:FREQ=DAILY|", maxBusyRules+1), "|")[:maxBusyRules+1]...),
			0, true},
	} {
		began := time.Now()
		list, unread, err := ReadBusy(strings.NewReader(c.source), from, until, ny)
		if unread != c.unread || (err != nil) != c.fails || len(list) > 0 {
			t.Errorf("%s: %d unread, %v, %d", name, unread, err, len(list))
		}
		if took := time.Since(began); took > 20*time.Second {
			t.Errorf("%s takes %v", name, took)
		}
	}
}

// A move is the same event with a SEQUENCE that has gone up, a cancellation says so by its method and
// status (RFC 5546, 2.1.4, 3.2.2 and 3.2.5); go-ical reads both back, and a feed.
func TestMovesAndCancellations(t *testing.T) {
	e := meeting
	e.Sequence = 2
	moved, err := Invitation(e)
	if err != nil {
		t.Fatal(err)
	}
	gone, err := Cancellation(e)
	if err != nil {
		t.Fatal(err)
	}
	feed, err := Feed("Tomas Vale", []Event{meeting, {UID: "b", Title: "Call", Start: meeting.Start, End: meeting.End, Stamp: meeting.Stamp}})
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		source         []byte
		method, status string
		sequence       string
		events         int
	}{{moved, "REQUEST", "", "2", 1}, {gone, "CANCEL", "CANCELLED", "2", 1}, {feed, "", "", "", 2}} {
		cal, err := ical.NewDecoder(bytes.NewReader(c.source)).Decode()
		if err != nil || len(cal.Events()) != c.events {
			t.Fatalf("%s: %v\n%s", c.method, err, c.source)
		}
		method, _ := cal.Props.Text(ical.PropMethod)
		ev := cal.Events()[0]
		status, _ := ev.Props.Text(ical.PropStatus)
		sequence := ""
		if p := ev.Props.Get(ical.PropSequence); p != nil {
			sequence = p.Value
		}
		uid, _ := ev.Props.Text(ical.PropUID)
		if method != c.method || status != c.status || sequence != c.sequence || uid != meeting.UID {
			t.Errorf("%s: status %q, sequence %q, uid %q", method, status, sequence, uid)
		}
		if c.method != "" && MethodOf(c.source) != c.method {
			t.Errorf("its method is told as %s", MethodOf(c.source))
		}
	}
	if b, err := Feed("Nobody", nil); err != nil || !strings.Contains(string(b), "END:VCALENDAR") {
		t.Errorf("an empty feed is %s, %v", b, err)
	}
}

func FuzzReadBusy(f *testing.F) {
	f.Add(busyCalendar("DTSTART;TZID=America/New_York:19970902T090000\nDURATION:PT1H\nRRULE:FREQ=DAILY;COUNT=10"))
	f.Fuzz(func(t *testing.T, source string) {
		from := time.Date(1997, 9, 1, 0, 0, 0, 0, time.UTC)
		list, _, err := ReadBusy(strings.NewReader(source), from, from.AddDate(0, 3, 0), time.UTC)
		for _, s := range list {
			if err == nil && !s.To.After(s.From) {
				t.Errorf("%v to %v", s.From, s.To)
			}
		}
	})
}
