package mail

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"ombak/internal/core/calendar"
)

func calendarOf(events ...string) string {
	text := "BEGIN:VCALENDAR\nVERSION:2.0\nPRODID:-//example//EN\n"
	for i, e := range events {
		text += fmt.Sprintf("BEGIN:VEVENT\nUID:%d@holidays.example\nDTSTAMP:20260101T000000Z\n%s\nEND:VEVENT\n", i, e)
	}
	return strings.ReplaceAll(text+"END:VCALENDAR\n", "\n", "\r\n")
}

func days(list []calendar.Holiday) string {
	var out []string
	for _, h := range list {
		out = append(out, h.Date.String())
	}
	return strings.Join(out, " ")
}

// The rules are examples of RFC 5545, 3.8.5.3: every year on a date, the U.S. presidential
// election day (here of each fourth year), the last Monday of May, and with days left out by
// EXDATE (3.8.5.1); a DTEND of whole days is not in it (3.6.1).
func TestReadHolidays(t *testing.T) {
	for _, c := range []struct {
		name, event, want string
	}{
		{"one day", "DTSTART;VALUE=DATE:20260517\nSUMMARY:Constitution day", "2026-05-17"},
		{"two days", "DTSTART;VALUE=DATE:20261225\nDTEND;VALUE=DATE:20261227", "2026-12-25 2026-12-26"},
		{"every year", "DTSTART;VALUE=DATE:19970902\nRRULE:FREQ=YEARLY", "2026-09-02 2027-09-02"},
		{"the last Monday of May", "DTSTART;VALUE=DATE:20250526\nRRULE:FREQ=YEARLY;BYMONTH=5;BYDAY=-1MO",
			"2026-05-25 2027-05-31"},
		{"every fourth year, the first Tuesday after a Monday in November",
			"DTSTART;VALUE=DATE:19961105\nRRULE:FREQ=YEARLY;INTERVAL=4;BYMONTH=11;BYDAY=TU;BYMONTHDAY=2,3,4,5,6,7,8", ""},
		{"but not that one", "DTSTART;VALUE=DATE:20250101\nRRULE:FREQ=YEARLY\nEXDATE;VALUE=DATE:20270101", "2026-01-01"},
		{"an hour is no holiday", "DTSTART:20260517T090000Z\nDTEND:20260517T100000Z", ""},
		{"cancelled", "DTSTART;VALUE=DATE:20260517\nSTATUS:CANCELLED", ""},
		{"another year", "DTSTART;VALUE=DATE:20240517", ""},
	} {
		got, err := ReadHolidays(strings.NewReader(calendarOf(c.event)), 2026, 2027)
		if days(got) != c.want || (err != nil) != (c.want == "") {
			t.Errorf("%s: %q, want %q, %v", c.name, days(got), c.want, err)
		}
	}
	for name, text := range map[string]string{"nothing": "", "no calendar": "hello", "half of one": calendarOf("DTSTART:")[:80],
		"a rule that is none":  calendarOf("DTSTART;VALUE=DATE:20260517\nRRULE:FREQ=SOMETIMES"),
		"a rule by the second": calendarOf("DTSTART;VALUE=DATE:19970101\nRRULE:FREQ=SECONDLY"),
		"a date of long ago":   calendarOf("DTSTART;VALUE=DATE:00010101\nRRULE:FREQ=DAILY"),
		"too much that comes again": calendarOf(slices.Repeat([]string{"DTSTART;VALUE=DATE:19000101\nRRULE:FREQ=MONTHLY"},
			15)...),
		"too many rules": calendarOf(slices.Repeat([]string{"DTSTART;VALUE=DATE:20200101\nRRULE:FREQ=YEARLY"},
			101)...),
		"a date that is none": calendarOf("DTSTART;VALUE=DATE:20261399")} {
		if got, err := ReadHolidays(strings.NewReader(text), 2026, 2027); err == nil {
			t.Errorf("%s: %v", name, got)
		}
	}
}

func FuzzReadHolidays(f *testing.F) {
	f.Add(calendarOf("DTSTART;VALUE=DATE:19970902\nRRULE:FREQ=YEARLY"))
	f.Add(calendarOf("DTSTART;VALUE=DATE:20261225\nDTEND;VALUE=DATE:20261227"))
	f.Fuzz(func(t *testing.T, text string) {
		list, err := ReadHolidays(strings.NewReader(text), 2026, 2027)
		for _, h := range list {
			if err == nil && (h.Date.Year < 2026 || h.Date.Year > 2027) {
				t.Errorf("%v", h)
			}
		}
	})
}
