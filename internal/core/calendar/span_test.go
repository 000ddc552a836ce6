package calendar

import (
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"
)

// What a plan may wait, in words and on its axis, where nobody's calendar is known.
func TestSpans(t *testing.T) {
	for _, c := range []struct {
		span  Span
		says  string
		days  float64
		wrong string
	}{
		{Span{}, "at once", 0, ""},
		{Span{0, Days}, "at once", 0, ""},
		{Span{1, Minutes}, "1 minute", 1. / 1440, ""},
		{Span{36, Hours}, "36 hours", 1.5, ""},
		{Span{1, Days}, "1 day", 1, ""},
		{Span{1, WorkingDays}, "1 working day", 1, ""},
		{Span{5, WorkingDays}, "5 working days", 7, ""}, // a week
		{Span{8, WorkingDays}, "8 working days", 10, ""},
		{Span{MaxSpan, Days}, "731 days", 731, ""},
		{Span{MaxSpan + 1, Days}, "732 days", 732, "a length of time can be at most 731 days"},
		{Span{MaxSpan * 24, Hours}, "17544 hours", 731, ""},
		{Span{(MaxSpan + 1) * 1440, Minutes}, "1054080 minutes", 732, "a length of time can be at most 731 days"},
		{Span{-1, Hours}, "-1 hours", -1. / 24, "a length of time cannot be negative"},
		{Span{3, ""}, "", 3, "a length of time needs a unit"},
		{Span{3, "moons"}, "3 moons", 3, `unknown unit of time "moons"`},
	} {
		if got := c.span.String(); c.says != "" && got != c.says {
			t.Errorf("%+v says %q, want %q", c.span, got, c.says)
		}
		if got := c.span.NominalDays(); got != c.days {
			t.Errorf("%+v is %v days on the axis, want %v", c.span, got, c.days)
		}
		wrong := ""
		if err := c.span.Check(); err != nil {
			wrong = err.Error()
		}
		if wrong != c.wrong {
			t.Errorf("%+v: %q, want %q", c.span, wrong, c.wrong)
		}
	}
	for _, s := range []Span{{}, {0, WorkingDays}, {0, Days}} {
		now := time.Date(2026, 4, 18, 12, 0, 0, 1, time.UTC) // a Saturday
		if got := s.After(now, time.UTC, Working{}); got != now {
			t.Errorf("%+v after %v is %v", s, now, got)
		}
	}
	now := time.Date(2026, 4, 18, 12, 0, 0, 1, time.UTC)
	if got, want := (Span{90, Minutes}).After(now, time.UTC, Working{}), now.Add(90*time.Minute); got != want {
		t.Errorf("90 minutes after %v is %v", now, got)
	}
	if got := (Date{2026, 4, 9}).String(); got != "2026-04-09" { // ISO 8601
		t.Errorf("a date is written %q", got)
	}
}

// Working days of every week there can be, with and without holidays, against counting
// on a calendar of all dates one by one.
func TestWorkingDaysAgainstCounting(t *testing.T) {
	holidays := map[Date]bool{{2026, 4, 3}: true, {2026, 4, 6}: true, {2026, 5, 1}: true, {2026, 12, 25}: true}
	for mask := range 1 << 7 {
		var w Working
		for d := range 7 {
			if mask>>d&1 == 1 {
				w.Weekdays = append(w.Weekdays, time.Weekday(d))
			}
		}
		if mask%2 == 1 {
			w.Holidays = holidays
		}
		works := func(d Date) bool {
			day := time.Date(d.Year, d.Month, d.Day, 12, 0, 0, 0, time.UTC).Weekday()
			in := mask>>day&1 == 1
			if mask == 0 { // as nobody has said: Monday to Friday
				in = day >= time.Monday && day <= time.Friday
			}
			return in && (mask%2 == 0 || !holidays[d])
		}
		for start := 0; start < 40; start += 3 {
			from := Date{2026, 3, 25}.Add(start)
			if w.On(from) != works(from) {
				t.Fatalf("%v: %s is worked on: %v", w.Weekdays, from, w.On(from))
			}
			d := from
			for n := 0; n <= 8; n++ {
				if got := w.Add(from, n); got != d {
					t.Fatalf("%v: the %d. working day after %s is %s, counting gives %s", w.Weekdays, n, from, got, d)
				}
				for d = d.Add(1); !works(d); d = d.Add(1) {
				}
			}
		}
	}
}

// Sending hours that cannot be are refused by the day and the reason, and said in words.
func TestHoursThatCannotBe(t *testing.T) {
	day := func(in ...Interval) (h SendingHours) { h.Days[time.Wednesday] = in; return h }
	odd := OfficeHours(510, 1020)
	odd.Days[time.Friday] = []Interval{{510, 720}}
	odd.Days[time.Wednesday] = []Interval{{510, 720}, {780, 1020}}
	odd.Zone = "Europe/Oslo"
	elsewhere := OfficeHours(0, 1440)
	elsewhere.Zone = "Mars/Olympus"
	for _, c := range []struct {
		h           SendingHours
		wrong, says string
	}{
		{day(Interval{0, 60}, Interval{60, 120}), "", "Wed 00:00–01:00 01:00–02:00 in the reader’s own time"},
		{day(Interval{0, 60}, Interval{59, 120}), "sending hours: two intervals overlap on Wednesday", ""},
		{day(Interval{0, 1}, Interval{2, 3}, Interval{4, 5}, Interval{6, 7}),
			"sending hours: more than three intervals on Wednesday", ""},
		{day(Interval{60, 0}), "sending hours: 01:00–00:00 is no interval on Wednesday", ""},
		{elsewhere, `sending hours: unknown time zone "Mars/Olympus"`, ""},
		{SendingHours{}, ErrNoHours.Error(), "never"},
		{odd, "", "Mon–Tue 08:30–17:00, Wed 08:30–12:00 13:00–17:00, Thu 08:30–17:00, Fri 08:30–12:00 in Europe/Oslo"},
	} {
		wrong := ""
		if err := c.h.Check(); err != nil {
			wrong = err.Error()
		}
		if wrong != c.wrong {
			t.Errorf("%s: %q, want %q", c.h, wrong, c.wrong)
		}
		if got := c.h.String(); c.says != "" && got != c.says {
			t.Errorf("said as %q, want %q", got, c.says)
		}
	}
	if _, err := (SendingHours{}).Next(time.Date(2026, 4, 18, 12, 0, 0, 0, time.UTC), time.UTC); err != ErrNoHours {
		t.Errorf("the next of no hours: %v", err)
	}
}

// Zones are found by the names that the list of all has, and by no other.
func TestZonesByName(t *testing.T) {
	names := ZoneNames()
	if !slices.IsSorted(names) || !slices.Contains(names, "UTC") || !slices.Contains(names, "Asia/Jakarta") {
		t.Errorf("%d names of zones", len(names))
	}
	for _, name := range names {
		if loc, err := Zone(name); err != nil || loc.String() != name {
			t.Errorf("%s: %v, %v", name, loc, err)
		}
	}
	for _, name := range []string{"", "Local", "Mars/Olympus", "../etc/passwd"} {
		if loc, err := Zone(name); err == nil {
			t.Errorf("%q is the zone %v", name, loc)
		}
	}
}

// The time inside the hours between two instants, and the instant after so much of it, against
// going through every minute, over days on which clocks change.
func TestBetweenAgainstMinutes(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 8))
	for i := range 400 {
		loc := zone(t, []string{"Europe/Oslo", "America/St_Johns", "Australia/Lord_Howe", "America/Havana"}[r.IntN(4)])
		var h SendingHours
		for d := range h.Days {
			if r.IntN(3) > 0 {
				from := r.IntN(10 * 60)
				h.Days[d] = []Interval{{from, from + 1 + r.IntN(200)}, {14 * 60, 14*60 + 1 + r.IntN(600)}}
			}
		}
		a := time.Date(2026, []time.Month{3, 4, 10, 11}[r.IntN(4)], 1+r.IntN(28), r.IntN(24), r.IntN(60), 0, 0, time.UTC)
		b := a.Add(time.Duration(r.IntN(6*24*60)) * time.Minute)
		h.rest = Holidays{DateOf(a, loc).Add(r.IntN(6)): true}
		want := time.Duration(0)
		for x := a; x.Before(b); x = x.Add(time.Minute) {
			wall := x.In(loc)
			for _, in := range h.Days[wall.Weekday()] {
				if m := wall.Hour()*60 + wall.Minute(); m >= in.From && m < in.To && !h.rest[DateOf(x, loc)] {
					want += time.Minute
				}
			}
		}
		if got := h.Between(a, b, loc); got != want {
			t.Fatalf("case %d: from %v to %v it is %v, want %v; %v", i, a.In(loc), b.In(loc), got, want, h)
		}
		if want == 0 {
			continue
		}
		end, err := h.After(a, want, loc)
		if err != nil || h.Between(a, end, loc) != want || end.After(b) {
			t.Fatalf("case %d: %v after %v is %v, %v", i, want, a.In(loc), end.In(loc), err)
		}
	}
	if _, err := (SendingHours{}).After(time.Now(), time.Hour, time.UTC); err != ErrNoHours {
		t.Errorf("without hours: %v", err)
	}
}

// Holidays are tidied and put into their order, each date once; a country's code is one of the
// tz database's table (ISO 3166-1).
func TestHolidays(t *testing.T) {
	got, err := CheckHolidays([]Holiday{{Date{2026, 12, 25}, " Christmas  Day "}, {Date{2026, 5, 17}, "Constitution Day"},
		{Date{2026, 12, 25}, "again"}})
	want := []Holiday{{Date{2026, 5, 17}, "Constitution Day"}, {Date{2026, 12, 25}, "Christmas Day"}}
	if err != nil || !slices.Equal(got, want) {
		t.Errorf("%v, want %v, %v", got, want, err)
	}
	many := make([]Holiday, MaxHolidays+1)
	for i := range many {
		many[i].Date = Date{2026, 1, 1}.Add(i)
	}
	for name, bad := range map[string][]Holiday{"no date": {{Date{2026, 2, 30}, ""}}, "too early": {{Date{1800, 1, 1}, ""}},
		"a long name": {{Date{2026, 1, 1}, strings.Repeat("x", 201)}}, "too many": many} {
		if _, err := CheckHolidays(bad); err == nil {
			t.Errorf("%s is taken", name)
		}
	}
	if !KnownCountry("NO") || KnownCountry("XX") || KnownCountry("") || !slices.Contains(Countries(), "ID") {
		t.Error("the countries are others")
	}
	rests := Holidays{{2026, 4, 14}: true} // a Tuesday
	h := OfficeHours(9*60, 17*60)
	at := time.Date(2026, 4, 14, 10, 0, 0, 0, time.UTC)
	for _, c := range []struct {
		h    SendingHours
		want time.Time
	}{{h, at}, {h.Resting(rests), at.Add(23 * time.Hour)}, {SendingHours{Days: h.Days, Holidays: true}.Resting(rests), at}} {
		if got, err := c.h.Next(at, time.UTC); err != nil || !got.Equal(c.want) {
			t.Errorf("%s: %v, want %v, %v", c.h, got, c.want, err)
		}
	}
	if s := (SendingHours{Days: h.Days, Holidays: true}).String(); !strings.Contains(s, "on holidays too") {
		t.Errorf("it says %q", s)
	}
	if (Working{Also: rests}).On(Date{2026, 4, 14}) || !(Working{Also: rests}).On(Date{2026, 4, 15}) {
		t.Error("a holiday of theirs is a working day")
	}
	if d := (Span{3, Days}).AtLeast(); d != 46*time.Hour || (Span{90, Minutes}).AtLeast() != 90*time.Minute ||
		(Span{2, Hours}).AtLeast() != 2*time.Hour {
		t.Errorf("three days are at least %v", d)
	}
}
