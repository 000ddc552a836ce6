package calendar

import (
	"errors"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"
)

func zone(t testing.TB, name string) *time.Location {
	t.Helper()
	l, err := time.LoadLocation(name)
	if err != nil {
		t.Fatal(err)
	}
	return l
}

// changes lists dates around clock changes, in both hemispheres and both ways.
// The dates are facts of the tz database, which TestChanges holds them against.
var changes = []struct {
	zone string
	date Date
	by   time.Duration // how far clocks were set forward
}{
	{"America/New_York", Date{2026, 3, 8}, time.Hour},
	{"America/New_York", Date{2026, 11, 1}, -time.Hour},
	{"Europe/Berlin", Date{2026, 3, 29}, time.Hour},
	{"Europe/Berlin", Date{2026, 10, 25}, -time.Hour},
	{"Australia/Sydney", Date{2026, 10, 4}, time.Hour},
	{"Australia/Sydney", Date{2026, 4, 5}, -time.Hour},
	{"America/Santiago", Date{2026, 9, 6}, time.Hour}, // at midnight: the date has no 00:00
	{"America/Santiago", Date{2026, 4, 4}, -time.Hour},
	{"America/Havana", Date{2026, 11, 1}, -time.Hour}, // the date has 00:00 twice
	// at 00:01: the date begins twice, an hour of the one before between
	{"America/St_Johns", Date{2010, 11, 7}, -time.Hour},
	{"Australia/Lord_Howe", Date{2026, 10, 4}, 30 * time.Minute},
	{"Australia/Lord_Howe", Date{2026, 4, 5}, -30 * time.Minute},
	{"Pacific/Apia", Date{2011, 12, 30}, 24 * time.Hour}, // a whole date skipped
}

func TestChanges(t *testing.T) {
	for _, c := range changes {
		loc := zone(t, c.zone)
		noon := time.Date(c.date.Year, c.date.Month, c.date.Day-1, 12, 0, 0, 0, loc)
		_, end := noon.ZoneBounds()
		_, before := noon.Zone()
		_, after := end.Zone()
		if got := time.Duration(after-before) * time.Second; got != c.by || end.Sub(noon) > 40*time.Hour {
			t.Errorf("%s on %s: the tz database has %v at %v, the table says %v", c.zone, c.date, got, end, c.by)
		}
	}
}

// TestAtAgainstTheTzDatabase walks every quarter of an hour of wall time around each change and
// compares At with a search through all instants, minute by minute, that asks only what a clock shows.
func TestAtAgainstTheTzDatabase(t *testing.T) {
	for _, c := range changes {
		loc := zone(t, c.zone)
		from := time.Date(c.date.Year, c.date.Month, c.date.Day, 0, 0, 0, 0, time.UTC).Add(-40 * time.Hour)
		for day := -1; day <= 1; day++ {
			d := c.date.Add(day)
			for m := 0; m < 24*60; m += 15 {
				clock := time.Duration(m) * time.Minute
				want := wallAsUTC(d, clock)
				var found time.Time
				for at := from; at.Before(from.Add(120 * time.Hour)); at = at.Add(time.Minute) {
					// The first instant whose clock shows the wanted time or, having jumped over it, more.
					if !shown(at, loc).Before(want) {
						found = at
						break
					}
				}
				if got := At(d, clock, loc); !got.Equal(found) {
					t.Fatalf("At(%s, %v, %s) = %v, a search finds %v", d, clock, c.zone, got.In(loc), found.In(loc))
				}
			}
		}
	}
}

func wallAsUTC(d Date, clock time.Duration) time.Time {
	return time.Date(d.Year, d.Month, d.Day, 0, 0, 0, 0, time.UTC).Add(clock)
}

func shown(at time.Time, loc *time.Location) time.Time {
	_, off := at.In(loc).Zone()
	return at.Add(time.Duration(off) * time.Second).UTC()
}

func TestSpanAfter(t *testing.T) {
	holidays := Working{Holidays: map[Date]bool{{2026, 4, 6}: true}} // Easter Monday
	for _, c := range []struct {
		name, zone, from string
		span             Span
		want             string
	}{
		{"hours are elapsed time", "Europe/Berlin", "2026-03-28T12:00:00+01:00", Span{24, Hours},
			"2026-03-29T13:00:00+02:00"},
		{"a day keeps the wall clock", "Europe/Berlin", "2026-03-28T12:00:00+01:00", Span{1, Days},
			"2026-03-29T12:00:00+02:00"},
		{"a skipped time is the first after the gap", "Europe/Berlin", "2026-03-28T02:30:00+01:00", Span{1, Days},
			"2026-03-29T03:00:00+02:00"},
		{"a repeated time is the first of the two", "Europe/Berlin", "2026-10-24T02:30:00+02:00", Span{1, Days},
			"2026-10-25T02:30:00+02:00"},
		{"south: the gap is in October", "Australia/Sydney", "2026-10-03T02:30:00+10:00", Span{1, Days},
			"2026-10-04T03:00:00+11:00"},
		{"south: the repeat is in April", "Australia/Sydney", "2026-04-04T02:30:00+11:00", Span{1, Days},
			"2026-04-05T02:30:00+11:00"},
		{"midnight that does not exist", "America/Santiago", "2026-09-05T00:00:00-04:00", Span{1, Days},
			"2026-09-06T01:00:00-03:00"},
		{"Friday and one working day is Monday", "Europe/Berlin", "2026-04-10T09:20:00+02:00", Span{1, WorkingDays},
			"2026-04-13T09:20:00+02:00"},
		{"a holiday is no working day", "Europe/Berlin", "2026-04-03T09:20:00+02:00", Span{1, WorkingDays},
			"2026-04-07T09:20:00+02:00"},
		{"from a Saturday", "Europe/Berlin", "2026-04-11T23:00:00+02:00", Span{5, WorkingDays},
			"2026-04-17T23:00:00+02:00"},
		{"across a year's end", "Asia/Jakarta", "2026-12-31T08:00:00+07:00", Span{2, WorkingDays},
			"2027-01-04T08:00:00+07:00"},
		{"nothing is at once", "Asia/Jakarta", "2026-12-31T08:00:00+07:00", Span{0, Days}, "2026-12-31T08:00:00+07:00"},
		{"29 February", "UTC", "2028-01-30T08:00:00Z", Span{30, Days}, "2028-02-29T08:00:00Z"},
	} {
		from, _ := time.Parse(time.RFC3339, c.from)
		want, _ := time.Parse(time.RFC3339, c.want)
		if got := c.span.After(from, zone(t, c.zone), holidays); !got.Equal(want) {
			t.Errorf("%s: %s after %s = %s, want %s", c.name, c.span, c.from,
				got.In(zone(t, c.zone)).Format(time.RFC3339), c.want)
		}
	}
}

func TestWorkingDaysNeverHang(t *testing.T) {
	all := Working{Weekdays: []time.Weekday{time.Monday}, Holidays: map[Date]bool{}}
	for d := (Date{2026, 1, 1}); d.Year < 2030; d = d.Add(1) {
		all.Holidays[d] = true
	}
	if got := all.Add(Date{2026, 4, 1}, 3); got != (Date{2026, 4, 4}) {
		t.Errorf("with no working date, three working days are three days; got %s", got)
	}
}

func TestSendingHoursNext(t *testing.T) {
	morning := OfficeHours(8*60+30, 11*60)
	night := SendingHours{}
	for d := range night.Days {
		night.Days[d] = []Interval{{2 * 60, 3 * 60}} // the hour that European clocks skip in March
	}
	early := SendingHours{}
	for d := range early.Days {
		early.Days[d] = []Interval{{30, 90}} // 00:30–01:30, which New York enters twice in November
	}
	for _, c := range []struct {
		name, zone string
		h          SendingHours
		t, want    string
	}{
		{"inside stays", "Europe/Berlin", morning, "2026-04-14T09:20:00+02:00", "2026-04-14T09:20:00+02:00"},
		{"the start is inside", "Europe/Berlin", morning, "2026-04-14T08:30:00+02:00", "2026-04-14T08:30:00+02:00"},
		{"the end is outside", "Europe/Berlin", morning, "2026-04-14T11:00:00+02:00", "2026-04-15T08:30:00+02:00"},
		{"Friday noon waits for Monday", "Europe/Berlin", morning, "2026-04-10T12:00:00+02:00",
			"2026-04-13T08:30:00+02:00"},
		{"over the change the wall clock holds", "Europe/Berlin", morning, "2026-03-27T12:00:00+01:00",
			"2026-03-30T08:30:00+02:00"},
		{"a swallowed interval is passed over", "Europe/Berlin", night, "2026-03-28T12:00:00+01:00",
			"2026-03-30T02:00:00+02:00"},
		{"its hour exists twice in October", "Europe/Berlin", night, "2026-10-25T02:59:00+02:00",
			"2026-10-25T02:59:00+02:00"},
		{"and the second one is inside too", "Europe/Berlin", night, "2026-10-25T02:30:00+01:00",
			"2026-10-25T02:30:00+01:00"},
		{"set back into an interval", "America/New_York", early, "2026-11-01T01:45:00-04:00",
			"2026-11-01T01:00:00-05:00"},
	} {
		at, _ := time.Parse(time.RFC3339, c.t)
		want, _ := time.Parse(time.RFC3339, c.want)
		got, err := c.h.Next(at, zone(t, c.zone))
		if err != nil || !got.Equal(want) {
			t.Errorf("%s: Next(%s) = %s, %v; want %s", c.name, c.t, got.In(zone(t, c.zone)).Format(time.RFC3339), err,
				c.want)
		}
	}
	// Days off: the dates of Christmas 2026 and of the new year are a Friday to Sunday each (any calendar of 2026).
	off := morning
	off.Off = []Date{{2026, 12, 24}, {2026, 12, 25}, {2026, 12, 31}, {2027, 1, 1}}
	mondays := SendingHours{}
	mondays.Days[1] = []Interval{{600, 660}}
	for n := range MaxDates {
		mondays.Off = append(mondays.Off, Date{2026, 4, 13}.Add(7*n))
	}
	for _, c := range []struct {
		h       SendingHours
		t, want string
	}{
		{off, "2026-12-23T12:00:00+01:00", "2026-12-28T08:30:00+01:00"},
		{off, "2026-12-24T09:00:00+01:00", "2026-12-28T08:30:00+01:00"},
		{off, "2026-12-30T11:00:00+01:00", "2027-01-04T08:30:00+01:00"},
		{off, "2026-12-30T10:59:00+01:00", "2026-12-30T10:59:00+01:00"},
		{mondays, "2026-04-12T12:00:00+02:00", "2028-07-31T10:00:00+02:00"}, // 120 Mondays off: 13 April and 119 weeks on
	} {
		at, _ := time.Parse(time.RFC3339, c.t)
		want, _ := time.Parse(time.RFC3339, c.want)
		got, err := c.h.Next(at, zone(t, "Europe/Berlin"))
		if err != nil || !got.Equal(want) {
			t.Errorf("with days off: Next(%s) = %s, %v; want %s", c.t, got, err, c.want)
		}
	}
	if !off.Closed(Date{2026, 12, 25}) || !off.Closed(Date{2026, 12, 26}) || off.Closed(Date{2026, 12, 28}) {
		t.Error("the days on which nothing goes out are others")
	}
	if _, err := (SendingHours{}).Next(time.Now(), time.UTC); !errors.Is(err, ErrNoHours) {
		t.Errorf("no interval: %v", err)
	}
}

// TestNextAgainstASearch compares Next with a minute-by-minute search through the days around each change.
func TestNextAgainstASearch(t *testing.T) {
	for _, list := range [][]Interval{{{0, 75}, {130, 150}, {8 * 60, 9 * 60}}, {{23*60 + 20, 24 * 60}},
		{{0, 30}, {23*60 + 50, 24 * 60}}, {{8 * 60, 23*60 + 30}}} {
		nextAgainstASearch(t, list)
	}
}

func nextAgainstASearch(t *testing.T, list []Interval) {
	t.Helper()
	var h SendingHours
	for d := range h.Days {
		h.Days[d] = list
	}
	for n, c := range changes {
		loc := zone(t, c.zone)
		if h.Off = nil; n%2 == 1 { // the date of the change itself has nothing
			h.Off = []Date{c.date}
		}
		from := wallAsUTC(c.date, 0).Add(-30 * time.Hour)
		for m := 0; m < 60*60; m += 7 {
			at := from.Add(time.Duration(m) * time.Minute)
			want := at
			for !h.inside(want, loc) {
				want = want.Add(time.Minute).Truncate(time.Minute)
			}
			got, err := h.Next(at, loc)
			if err != nil || !got.Equal(want) {
				t.Fatalf("%s: Next(%s) = %s, %v; a search finds %s", c.zone, at.In(loc), got.In(loc), err, want.In(loc))
			}
		}
	}
}

func TestHoursCheckAndWords(t *testing.T) {
	for _, c := range []struct {
		in Interval
		ok bool
	}{{Interval{0, 1440}, true}, {Interval{600, 600}, false}, {Interval{-1, 5}, false}, {Interval{0, 1441}, false}} {
		var h SendingHours
		h.Days[1] = []Interval{c.in}
		if err := h.Check(); (err == nil) != c.ok {
			t.Errorf("Check(%v) = %v", c.in, err)
		}
	}
	if err := (SendingHours{}).Check(); !errors.Is(err, ErrNoHours) {
		t.Errorf("Check of no hours: %v", err)
	}
	if got, want := OfficeHours(510, 660).String(), "Mon–Fri 08:30–11:00 in the reader’s own time"; got != want {
		t.Errorf("words: %q, want %q", got, want)
	}
}

func TestZoneFor(t *testing.T) {
	home := zone(t, "Asia/Jakarta")
	for _, c := range []struct {
		name  string
		w     Whereabouts
		want  string
		guess bool
	}{
		{"the record's own", Whereabouts{Zone: "Europe/Oslo", Country: "US"}, "Europe/Oslo", false},
		{"a country of one zone", Whereabouts{Country: "NO"}, "Europe/Oslo", false},
		{"a city the tz database names", Whereabouts{Country: "US", City: "los angeles"}, "America/Los_Angeles", false},
		{"the most people, a guess", Whereabouts{Country: "US", City: "Springfield"}, "America/New_York", true},
		{"not the first row of the table", Whereabouts{Country: "AU"}, "Australia/Sydney", true},
		{"nothing known", Whereabouts{}, "Asia/Jakarta", false},
		{"an unknown zone is no zone", Whereabouts{Zone: "Mars/Olympus", Country: "SG"}, "Asia/Singapore", false},
	} {
		loc, guess := ZoneFor(c.w, home)
		if loc.String() != c.want || guess != c.guess {
			t.Errorf("%s: %s, guess %v; want %s, %v", c.name, loc, guess, c.want, c.guess)
		}
	}
}

func TestEveryZoneOfTheTableLoads(t *testing.T) {
	n := 0
	for country, rows := range zones() {
		for _, r := range rows {
			if _, err := load(r.name); err != nil {
				t.Errorf("%s: %v", country, err)
			}
			n++
		}
		if m := mostPeople[country]; m != "" {
			if _, err := load(m); err != nil {
				t.Errorf("most people of %s: %v", country, err)
			}
		}
	}
	if len(zones()) < 240 || n < 400 {
		t.Errorf("the table has %d countries and %d zones", len(zones()), n)
	}
}

// Hours are read as people type them, and what is said is read again.
func TestParseIntervals(t *testing.T) {
	for s, want := range map[string]string{
		"": "", "closed": "", " – ": "", "8:30–12, 13:00–17:00": "08:30–12:00, 13:00–17:00", "9-17": "09:00–17:00",
		"9 to 5": "?", "9 to 17": "09:00–17:00", "13.30-17, 8-12": "08:00–12:00, 13:30–17:00",
		"0-24": "00:00–24:00", "0-24:01": "?", "8-12, 11-13": "?", "8-9,9-10": "08:00–09:00, 09:00–10:00",
		"8-9,9-10,11-12,13-14": "?", "12-8": "?", "8-8": "?", "8": "?", "8:60-9": "?", "-8": "?", "8—9": "08:00–09:00",
		"+8-9": "?", "8-9-10": "?", "٨-٩": "?", strings.Repeat("8-9,", 60): "?",
	} {
		list, err := ParseIntervals(s)
		got := Intervals(list)
		if err != nil {
			got = "?"
		}
		if got != want {
			t.Errorf("%q is read as %q, %v; want %q", s, got, err, want)
			continue
		}
		if again, err := ParseIntervals(got); want != "?" && (err != nil || !slices.Equal(again, list)) {
			t.Errorf("%q is read again as %v, %v", got, again, err)
		}
		if h := (SendingHours{Days: [7][]Interval{1: list}}); err == nil && len(list) > 0 && h.Check() != nil {
			t.Errorf("%q makes hours that are not: %v", s, h.Check())
		}
	}
}

func TestDates(t *testing.T) {
	for _, c := range []struct{ typed, says string }{
		{"", ""}, {" , ;\n", ""}, {"25 Dec 2026", "25 Dec 2026"},
		{"2026-12-26, 25 december 2026; 1.1.2027", "25 Dec 2026 – 26 Dec 2026, 1 Jan 2027"},
		{"31 Dec 2026 – 2 Jan 2027\n2027-01-02", "31 Dec 2026 – 2 Jan 2027"},
		{"27 Feb 2028 to 1 Mar 2028", "27 Feb 2028 – 1 Mar 2028"}, // a leap year
		{"2026-12-25 - 2026-12-25", "25 Dec 2026"},
	} {
		list, err := ParseDates(c.typed)
		if err != nil || Dates(list) != c.says {
			t.Errorf("%q is read as %q, %v", c.typed, Dates(list), err)
		}
		again, err := ParseDates(Dates(list))
		if err != nil || !slices.Equal(again, list) {
			t.Errorf("%q is read again as %v, %v", c.says, again, err)
		}
	}
	if list, err := ParseDates("27 Feb 2028 to 1 Mar 2028"); err != nil || len(list) != 4 {
		t.Errorf("%d dates about the leap day, %v", len(list), err)
	}
	for _, wrong := range []string{"29 Feb 2027", "Christmas", "2 Jan 2027 – 31 Dec 2026", "1 Jan 1899", "2026",
		"1 Jan 2026 – 31 Dec 2026", "1 Jan 1900 to 31 Dec 9999", strings.Repeat("x", 4001)} {
		if list, err := ParseDates(wrong); err == nil {
			t.Errorf("%.30q is read as %d dates", wrong, len(list))
		}
	}
	days := OfficeHours(510, 660)
	days.Off = []Date{{2026, 12, 25}}
	if got, want := days.String(), "Mon–Fri 08:30–11:00, not on 25 Dec 2026 in the reader’s own time"; got != want {
		t.Errorf("words: %q", got)
	}
	if days.Off = []Date{{2026, 2, 30}}; days.Check() == nil {
		t.Error("30 February is a day off")
	}
	if days.Off = make([]Date, MaxDates+1); days.Check() == nil {
		t.Error("every day is off")
	}
}

// No span is over before it is at the least, in any zone and from any instant.
func TestLeastOfASpan(t *testing.T) {
	rnd := rand.New(rand.NewPCG(3, 14))
	zones := []string{"UTC", "Europe/Berlin", "America/New_York", "Australia/Lord_Howe", "Pacific/Apia", "Asia/Kathmandu",
		"Africa/Casablanca", "America/St_Johns"}
	edges := []time.Time{time.Date(2011, 12, 28, 20, 0, 0, 0, time.UTC), time.Date(2026, 3, 27, 0, 0, 0, 0, time.UTC),
		time.Date(2026, 10, 23, 0, 0, 0, 0, time.UTC), time.Date(2026, 4, 3, 0, 0, 0, 0, time.UTC)}
	days := 0
	for range 60_000 {
		zone, err := time.LoadLocation(zones[rnd.IntN(len(zones))])
		if err != nil {
			t.Fatal(err)
		}
		s := Span{N: rnd.IntN(12), Unit: []Unit{Minutes, Hours, Days, WorkingDays}[rnd.IntN(4)]}
		from := edges[rnd.IntN(len(edges))].Add(time.Duration(rnd.IntN(5*24*60)) * time.Minute)
		if took := s.After(from, zone, Working{}).Sub(from); took < s.Least() {
			t.Fatalf("%s from %s takes %s, and at least %s", s, from.In(zone), took, s.Least())
		}
		if s.Least() > 24*time.Hour {
			days++
		}
	}
	if days < 10_000 {
		t.Errorf("only %d take long: the test proves little", days)
	}
}
