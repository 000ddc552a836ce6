package calendar

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"ombak/internal/core/plainly"
)

// ErrNoHours is what Next answers for sending hours without any interval.
var ErrNoHours = plainly.New("the sending hours have no interval")

// An Interval is a half-open stretch of a wall-clock day, in minutes since
// midnight: From 510 To 660 is 08:30 up to, not including, 11:00.
type Interval struct {
	From int `json:"from"`
	To   int `json:"to"` // at most 1440
}

// SendingHours lists, for each weekday (Sunday first, as package time has
// it), the intervals in which a touch may go out.
type SendingHours struct {
	Days [7][]Interval `json:"days"`
	Zone string        `json:"zone,omitempty"` // IANA name; empty: the reader's own
	Off  []Date        `json:"off,omitempty"`  // dates on which nothing goes out
	// Holidays is that something goes out on the holidays of somebody's country too.
	Holidays bool `json:"holidays,omitempty"`

	rest Holidays
}

// Resting is the same hours, without any on these holidays, where they keep holidays.
func (h SendingHours) Resting(on Holidays) SendingHours {
	if h.rest = on; h.Holidays {
		h.rest = nil
	}
	return h
}

// OfficeHours are sending hours from Monday to Friday.
func OfficeHours(from, to int) SendingHours {
	var h SendingHours
	for d := time.Monday; d <= time.Friday; d++ {
		h.Days[d] = []Interval{{from, to}}
	}
	return h
}

// Check reports an interval that cannot be, more than three on a day, an
// unknown zone, or ErrNoHours.
func (h SendingHours) Check() error {
	some := false
	for day, list := range h.Days {
		if len(list) > 3 {
			return plainly.Errorf("sending hours: more than three intervals on %s", time.Weekday(day))
		}
		for i, in := range list {
			if in.From < 0 || in.To > 24*60 || in.From >= in.To {
				return plainly.Errorf("sending hours: %s is no interval on %s", in, time.Weekday(day))
			}
			if i > 0 && in.From < list[i-1].To {
				return plainly.Errorf("sending hours: two intervals overlap on %s", time.Weekday(day))
			}
			some = true
		}
	}
	if len(h.Off) > MaxDates {
		return plainly.Errorf("sending hours: at most %d days off", MaxDates)
	}
	for _, d := range h.Off {
		if d.Year < 1900 || d.Year > 9999 || d.day().date() != d {
			return plainly.Errorf("sending hours: %s is no date", d)
		}
	}
	if h.Zone != "" {
		if _, err := time.LoadLocation(h.Zone); err != nil {
			return plainly.Errorf("sending hours: unknown time zone %q", h.Zone)
		}
	}
	if !some {
		return ErrNoHours
	}
	return nil
}

// Next returns the next allowed instant at or after t: t itself where the wall
// clock in loc is inside an interval, else the next instant at which it comes
// inside one. An interval that a clock change swallows whole is passed over;
// where a change sets the clock back into an interval, the moment of the
// change counts as its start. Without any interval it returns ErrNoHours.
func (h SendingHours) Next(t time.Time, loc *time.Location) (time.Time, error) {
	if h.inside(t, loc) {
		return t, nil
	}
	first, _ := wallOf(t, loc)
	var next time.Time
	// A weekday comes round every 7 days; one occurrence may be swallowed by a
	// change and one by a skipped date, so three rounds are certain to do. The
	// date before counts too, for a clock set back over midnight shows its end
	// again; so does the date after the first that has something, for the same
	// reason. Each day off takes one more round at most.
	for n, last := day(-1), day(21+7*(len(h.Off)+len(h.rest))); n <= last; n++ {
		consider := func(at time.Time) {
			if !at.Before(t) && h.inside(at, loc) && (next.IsZero() || at.Before(next)) {
				next, last = at, min(last, n+1)
			}
		}
		d := first + n
		if h.off(d) {
			continue
		}
		for _, in := range h.Days[d.weekday()] {
			start := d.at(time.Duration(in.From)*time.Minute, loc)
			consider(start)
			if _, change := start.In(loc).ZoneBounds(); !change.IsZero() && change.Sub(start) <= 25*time.Hour {
				// A clock set back may show the start again, or land inside.
				consider(change.UTC())
				_, before := start.In(loc).Zone()
				_, after := change.In(loc).Zone()
				if again := start.Add(time.Duration(before-after) * time.Second); !again.Before(change) {
					consider(again)
				}
			}
		}
	}
	if !next.IsZero() {
		return next, nil
	}
	return time.Time{}, ErrNoHours
}

func (h SendingHours) inside(t time.Time, loc *time.Location) bool {
	d, clock := wallOf(t, loc)
	if h.off(d) {
		return false
	}
	m := int(clock / time.Minute)
	for _, in := range h.Days[d.weekday()] {
		if m >= in.From && m < in.To {
			return true
		}
	}
	return false
}

// off reports whether nothing goes out on a date.
func (h SendingHours) off(d day) bool {
	return len(h.Off) > 0 && slices.Contains(h.Off, d.date()) || len(h.rest) > 0 && h.rest[d.date()]
}

// Closed reports whether nothing goes out on a date, whatever the clock says.
func (h SendingHours) Closed(d Date) bool { return len(h.Days[d.Weekday()]) == 0 || h.off(d.day()) }

// String gives the interval as 08:30–11:00.
func (in Interval) String() string {
	return fmt.Sprintf("%02d:%02d–%02d:%02d", in.From/60, in.From%60, in.To/60, in.To%60)
}

// ParseIntervals reads the intervals of a day as people type them: "8:30–12, 13:00–17:00",
// with any kind of dash, in any order; nothing, or "closed", is none.
func ParseIntervals(s string) ([]Interval, error) {
	s = strings.TrimSpace(strings.ToLower(s))
	if s == "" || s == "closed" || s == "–" || s == "-" {
		return nil, nil
	}
	if len(s) > 200 {
		return nil, plainly.New("a day has at most three stretches of hours")
	}
	var out []Interval
	for _, part := range strings.FieldsFunc(s, func(r rune) bool { return r == ',' || r == ';' }) {
		from, to, ok := cutDash(part)
		a, err1 := clockOfDay(from)
		b, err2 := clockOfDay(to)
		if !ok || err1 != nil || err2 != nil || a >= b {
			return nil, plainly.Errorf("%q is no stretch of hours: write 8:30–12:00", strings.TrimSpace(part))
		}
		out = append(out, Interval{a, b})
	}
	slices.SortFunc(out, func(a, b Interval) int { return a.From - b.From })
	for i := 1; i < len(out); i++ {
		if out[i].From < out[i-1].To {
			return nil, plainly.Errorf("%s and %s overlap", out[i-1], out[i])
		}
	}
	if len(out) > 3 {
		return nil, plainly.New("a day has at most three stretches of hours")
	}
	return out, nil
}

// cutDash cuts at the first dash of whichever kind, or at "to".
func cutDash(s string) (before, after string, ok bool) {
	for _, dash := range []string{"–", "—", "-", " to "} {
		if before, after, ok = strings.Cut(s, dash); ok {
			return before, after, true
		}
	}
	return "", "", false
}

// clockOfDay reads 9, 9:30 or 09.30 as minutes since midnight, up to 24:00.
func clockOfDay(s string) (int, error) {
	h, m, _ := strings.Cut(strings.ReplaceAll(strings.TrimSpace(s), ".", ":"), ":")
	if m == "" {
		m = "0"
	}
	hours, err1 := strconv.ParseUint(h, 10, 8)
	minutes, err2 := strconv.ParseUint(m, 10, 8)
	if err1 != nil || err2 != nil || minutes > 59 || hours*60+minutes > 24*60 {
		return 0, plainly.Errorf("%q is no time of day", s)
	}
	return int(hours*60 + minutes), nil
}

// Intervals says the intervals of a day as ParseIntervals reads them.
func Intervals(list []Interval) string {
	var parts []string
	for _, in := range list {
		parts = append(parts, in.String())
	}
	return strings.Join(parts, ", ")
}

// String says the hours in words, days of equal hours together.
func (h SendingHours) String() string {
	var parts []string
	for i := 0; i < 7; {
		// Monday first: that is how a working week is read.
		day := func(i int) time.Weekday { return time.Weekday((i + 1) % 7) }
		j := i
		for j+1 < 7 && sameIntervals(h.Days[day(i)], h.Days[day(j+1)]) {
			j++
		}
		if list := h.Days[day(i)]; len(list) > 0 {
			name := day(i).String()[:3]
			if j > i {
				name += "–" + day(j).String()[:3]
			}
			for _, in := range list {
				name += " " + in.String()
			}
			parts = append(parts, name)
		}
		i = j + 1
	}
	if len(parts) == 0 {
		return "never"
	}
	s := strings.Join(parts, ", ")
	switch len(h.Off) {
	case 0:
	case 1:
		s += ", not on " + Dates(h.Off)
	default:
		s += fmt.Sprintf(", not on %d dates", len(h.Off))
	}
	if h.Holidays {
		s += ", on holidays too,"
	}
	if h.Zone != "" {
		return s + " in " + h.Zone
	}
	return s + " in the reader’s own time"
}

func sameIntervals(a, b []Interval) bool {
	if len(a) != len(b) {
		return false
	}
	for i := range a {
		if a[i] != b[i] {
			return false
		}
	}
	return true
}

// Between is how much of the time from a up to, not including, b is inside the hours, with the
// clock in loc. Days on which the clock changes are gone through minute by minute.
func (h SendingHours) Between(a, b time.Time, loc *time.Location) (sum time.Duration) {
	first, _ := wallOf(a, loc)
	for d := first; d < first+maxBetween; d++ {
		begins, ends := d.at(0, loc), (d+1).at(0, loc)
		if !begins.Before(b) {
			break
		}
		if ends.Sub(begins) != 24*time.Hour {
			sum += h.minutes(later(a, begins), earlier(b, ends), loc)
			continue
		}
		if h.off(d) {
			continue
		}
		for _, in := range h.Days[d.weekday()] {
			from := later(a, begins.Add(time.Duration(in.From)*time.Minute))
			to := earlier(b, begins.Add(time.Duration(in.To)*time.Minute))
			sum += max(to.Sub(from), 0)
		}
	}
	return sum
}

// maxBetween bounds how many days Between goes through: two years.
const maxBetween = 732

func (h SendingHours) minutes(a, b time.Time, loc *time.Location) (sum time.Duration) {
	for a.Before(b) {
		next := earlier(b, a.Truncate(time.Minute).Add(time.Minute))
		if h.inside(a, loc) {
			sum += next.Sub(a)
		}
		a = next
	}
	return sum
}

// After is the instant at which so much time inside the hours has gone by since t. Without
// any interval it returns ErrNoHours.
func (h SendingHours) After(t time.Time, worked time.Duration, loc *time.Location) (time.Time, error) {
	t, err := h.Next(t, loc)
	if err != nil || worked <= 0 {
		return t, err
	}
	first, _ := wallOf(t, loc)
	for d := first; d < first+maxBetween; d++ {
		begins, ends := d.at(0, loc), (d+1).at(0, loc)
		if ends.Sub(begins) != 24*time.Hour {
			if in := h.minutes(later(t, begins), ends, loc); in < worked {
				worked -= in
				continue
			}
			return h.afterMinutes(later(t, begins), worked, loc), nil
		}
		if h.off(d) {
			continue
		}
		for _, in := range h.Days[d.weekday()] {
			from := later(t, begins.Add(time.Duration(in.From)*time.Minute))
			long := begins.Add(time.Duration(in.To) * time.Minute).Sub(from)
			if long >= worked {
				return from.Add(worked), nil
			}
			worked -= max(long, 0)
		}
	}
	return time.Time{}, ErrNoHours
}

// afterMinutes is After on a day on which the clock changes, which holds enough.
func (h SendingHours) afterMinutes(a time.Time, worked time.Duration, loc *time.Location) time.Time {
	for {
		next := a.Truncate(time.Minute).Add(time.Minute)
		if h.inside(a, loc) {
			if worked <= next.Sub(a) {
				return a.Add(worked)
			}
			worked -= next.Sub(a)
		}
		a = next
	}
}

func later(a, b time.Time) time.Time {
	if a.After(b) {
		return a
	}
	return b
}

func earlier(a, b time.Time) time.Time {
	if a.Before(b) {
		return a
	}
	return b
}
