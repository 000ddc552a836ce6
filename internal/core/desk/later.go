package desk

import (
	"regexp"
	"strconv"
	"strings"
	"time"

	"ombak/internal/core/calendar"
	"ombak/internal/core/plainly"
)

// ErrLater is answered to words that name no instant to come.
var ErrLater = plainly.New(`say when, as “tomorrow 10”, “in 3 working days”, “Monday 14:30”, “in 2 hours” or “5 Dec”`)

// MaxLater bounds how far something can be put off.
const MaxLater = 366 * 24 * time.Hour

var (
	inSome = regexp.MustCompile(`^(?:in )?(\d{1,4}|an?|one|two|three) ` +
		`(minutes?|min|hours?|h|days?|working days?|weeks?)$`)
	atClock = regexp.MustCompile(`^(.*?)(?:^|[ ,]+)(?:at )?(\d{1,2})(?:[:.](\d{2}))?\s*(am|pm|h)?$`)
)

var counted = map[string]int{"a": 1, "an": 1, "one": 1, "two": 2, "three": 3}

// Later reads when something is to come up again, as people say it, seen from now by a clock
// in loc: a length of time from now, or a day with or without a time of it. A day without one
// begins with the working day, at morning (since midnight). What is over is no instant.
func Later(
	words string, now time.Time, loc *time.Location, morning time.Duration, w calendar.Working,
) (time.Time, error) {
	s := strings.Join(strings.Fields(strings.ToLower(words)), " ")
	if s == "" || len(s) > 100 {
		return time.Time{}, ErrLater
	}
	at, ok := later(s, now, loc, morning, w)
	if !ok || !at.After(now) {
		return time.Time{}, ErrLater
	}
	if at.Sub(now) > MaxLater {
		return time.Time{}, plainly.New("at most a year from now")
	}
	return at, nil
}

func later(s string, now time.Time, loc *time.Location, morning time.Duration, w calendar.Working) (time.Time, bool) {
	if m := inSome.FindStringSubmatch(s); m != nil {
		n, ok := counted[m[1]]
		if !ok {
			n, _ = strconv.Atoi(m[1]) // at most four digits
		}
		unit := map[string]calendar.Unit{"m": calendar.Minutes, "h": calendar.Hours, "d": calendar.Days}[m[2][:1]]
		switch {
		case strings.HasPrefix(m[2], "working"):
			unit = calendar.WorkingDays
		case strings.HasPrefix(m[2], "week"):
			unit, n = calendar.Days, 7*n
		}
		if n > 400*24*60 || unit != calendar.Minutes && n > 400*24 {
			return time.Time{}, false
		}
		return calendar.Span{N: n, Unit: unit}.After(now, loc, w), true
	}
	today := calendar.DateOf(now, loc)
	if d, ok := dayOf(s, today, w); ok {
		return calendar.At(d, morning, loc), true
	}
	m := atClock.FindStringSubmatch(s)
	if m == nil {
		return time.Time{}, false
	}
	hour, _ := strconv.Atoi(m[2])
	minute, _ := strconv.Atoi(m[3])
	switch {
	case m[4] == "pm" && hour < 12:
		hour += 12
	case m[4] == "am" && hour == 12:
		hour = 0
	}
	if hour > 23 || minute > 59 {
		return time.Time{}, false
	}
	clock := time.Duration(hour)*time.Hour + time.Duration(minute)*time.Minute
	rest := strings.TrimSuffix(strings.TrimRight(m[1], " ,"), " at")
	if rest == "" || rest == "at" { // the next time it is that late
		at := calendar.At(today, clock, loc)
		if !at.After(now) {
			at = calendar.At(today.Add(1), clock, loc)
		}
		return at, true
	}
	d, ok := dayOf(rest, today, w)
	return calendar.At(d, clock, loc), ok
}

// dayOf reads a day as people say it. A weekday is the next one, never today.
func dayOf(s string, today calendar.Date, w calendar.Working) (calendar.Date, bool) {
	s = strings.TrimPrefix(s, "on ")
	switch s {
	case "today":
		return today, true
	case "tomorrow":
		return today.Add(1), true
	case "next working day":
		return w.Add(today, 1), true
	case "next week":
		return today.Add((8-int(today.Weekday()))%7 + 7*b2i(today.Weekday() == time.Monday)), true
	}
	if m := inSome.FindStringSubmatch(s); m != nil {
		n, ok := counted[m[1]]
		if !ok {
			n, _ = strconv.Atoi(m[1])
		}
		switch {
		case n > 400:
		case strings.HasPrefix(m[2], "working"):
			return w.Add(today, n), true
		case strings.HasPrefix(m[2], "week"):
			return today.Add(7 * n), true
		case strings.HasPrefix(m[2], "day"):
			return today.Add(n), true
		}
		return calendar.Date{}, false
	}
	name := strings.TrimPrefix(s, "next ")
	for d := time.Sunday; d <= time.Saturday; d++ {
		if full := strings.ToLower(d.String()); len(name) >= 3 && strings.HasPrefix(full, name) {
			n := (int(d)-int(today.Weekday())+6)%7 + 1
			return today.Add(n), true
		}
	}
	for _, form := range []string{time.DateOnly, "2 Jan 2006", "2 January 2006", "2.1.2006"} {
		if t, err := time.Parse(form, s); err == nil {
			return calendar.DateOf(t, time.UTC), true
		}
	}
	for _, form := range []string{"2 Jan", "2 January", "2.1."} { // the next time it is that date
		if t, err := time.Parse(form+" 2006", s+" "+strconv.Itoa(today.Year)); err == nil {
			if d := calendar.DateOf(t, time.UTC); d == today || after(d, today) {
				return d, true
			}
			if t, err = time.Parse(form+" 2006", s+" "+strconv.Itoa(today.Year+1)); err == nil {
				return calendar.DateOf(t, time.UTC), true
			}
		}
	}
	return calendar.Date{}, false
}

func after(a, b calendar.Date) bool {
	return calendar.At(a, 0, time.UTC).After(calendar.At(b, 0, time.UTC))
}

func b2i(b bool) int {
	if b {
		return 1
	}
	return 0
}
