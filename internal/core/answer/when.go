package answer

import (
	"regexp"
	"strconv"
	"strings"
	"time"

	"ombak/internal/core/away"
	"ombak/internal/core/calendar"
)

var (
	inSome = regexp.MustCompile(
		`(?i)\b(?:in|after) (?:about )?(\d{1,2}|an?|one|two|three|four|six|few|a few) (day|week|month|year)s?\b`)
	nextSome = regexp.MustCompile(`(?i)\bnext (week|month|quarter|year)\b`)
	quarter  = regexp.MustCompile(`\b[Qq]([1-4])\b(?:\s*(?:of\s*)?(20\d\d)\b)?`)
	inMonth  = regexp.MustCompile(`(?i)\b(?:in|from|after|until|by|early|mid|late|end of) (january|february|march|` +
		`april|may|june|july|august|september|october|november|december)\b(?:\s*(20\d\d)\b)?`)
	theSeason = regexp.MustCompile(`(?i)\bafter (?:the )?(summer|holidays|new year|christmas|easter)\b`)
)

var counted = map[string]int{"a": 1, "an": 1, "one": 1, "two": 2, "three": 3, "four": 4, "six": 6, "few": 3, "a few": 3}

var seasons = map[string]time.Month{"summer": time.September, "holidays": time.January, "new year": time.January,
	"christmas": time.January, "easter": time.May}

// When is the day from which on somebody wants to hear again, as they say it, seen from today:
// "in three months", "next quarter", "in March", "Q2", "after the summer", or a date as package
// away reads it. Of a month or a quarter it is the first day; of several the first that is named
// in this order (common practice, no source). false: they name none.
func When(said string, today calendar.Date) (calendar.Date, bool) {
	if len(said) > maxText {
		said = strings.ToValidUTF8(said[:maxText], "")
	}
	if at, ok := away.Until(said, calendar.At(today, 0, time.UTC)); ok {
		if d := calendar.DateOf(at, time.UTC); after(d, today) {
			return d, true
		}
	}
	if m := inSome.FindStringSubmatch(said); m != nil {
		n, ok := counted[strings.ToLower(m[1])]
		if !ok {
			n, _ = strconv.Atoi(m[1]) // two figures
		}
		switch strings.ToLower(m[2]) {
		case "day":
			return today.Add(n), n > 0
		case "week":
			return today.Add(7 * n), n > 0
		case "month":
			return months(today, n), n > 0
		}
		return months(today, 12*n), n > 0 && n <= 10
	}
	if m := inMonth.FindStringSubmatch(said); m != nil {
		t, _ := time.Parse("January", strings.ToUpper(m[1][:1])+strings.ToLower(m[1][1:]))
		return first(t.Month(), m[2], today)
	}
	if m := quarter.FindStringSubmatch(said); m != nil {
		n, _ := strconv.Atoi(m[1])
		return first(time.Month(3*n-2), m[2], today)
	}
	if m := nextSome.FindStringSubmatch(said); m != nil {
		switch strings.ToLower(m[1]) {
		case "week":
			return today.Add((8-int(today.Weekday()))%7 + 7*monday(today)), true
		case "month":
			return start(today.Year, today.Month+1), true
		case "quarter":
			return start(today.Year, (today.Month-1)/3*3+4), true
		}
		return start(today.Year+1, time.January), true
	}
	if m := theSeason.FindStringSubmatch(said); m != nil {
		return first(seasons[strings.ToLower(m[1])], "", today)
	}
	return calendar.Date{}, false
}

func monday(d calendar.Date) int {
	if d.Weekday() == time.Monday {
		return 1
	}
	return 0
}

// first is the next first day of a month, or that of a year, where that is to come.
func first(m time.Month, year string, today calendar.Date) (calendar.Date, bool) {
	d := start(today.Year, m)
	if year != "" {
		y, _ := strconv.Atoi(year) // four figures
		d = start(y, m)
		return d, after(d, today) && y <= today.Year+10
	}
	if !after(d, today) {
		d = start(today.Year+1, m)
	}
	return d, true
}

// start is the first day of a month, which may lie beyond December.
func start(year int, m time.Month) calendar.Date {
	return calendar.DateOf(time.Date(year, m, 1, 0, 0, 0, 0, time.UTC), time.UTC)
}

// months is the same day some months later, or the last of that month where it has fewer.
func months(d calendar.Date, n int) calendar.Date {
	begin := start(d.Year, d.Month+time.Month(n))
	last := start(d.Year, d.Month+time.Month(n)+1).Add(-1)
	return begin.Add(min(d.Day, last.Day) - 1)
}

func after(a, b calendar.Date) bool {
	return calendar.At(a, 0, time.UTC).After(calendar.At(b, 0, time.UTC))
}
