package calendar

import (
	"slices"
	"strings"
	"time"

	"ombak/internal/core/plainly"
)

// MaxDates bounds how many dates a list of them has.
const MaxDates = 120

// ErrDate is answered to what is no date.
var ErrDate = plainly.New("this is no date: write 25 Dec 2026, or 2026-12-25")

// dateForms are how people write a date. Months of any length of letters are read.
var dateForms = []string{time.DateOnly, "2 Jan 2006", "2 January 2006", "2.1.2006"}

func parseDate(s string) (Date, error) {
	s = strings.Join(strings.Fields(s), " ")
	for _, form := range dateForms {
		if t, err := time.Parse(form, s); err == nil && t.Year() >= 1900 {
			return DateOf(t, time.UTC), nil
		}
	}
	return Date{}, plainly.Errorf("“%s”: %w", s, ErrDate)
}

// ParseDates reads dates as people list them: "25 Dec 2026, 31 Dec 2026 – 3 Jan 2027", with
// commas or lines between; the stretch from one date to another, both in it, stands with a
// dash of the longer kinds or "to". They come in their order, each once; at most MaxDates.
func ParseDates(s string) ([]Date, error) {
	if len(s) > 4000 {
		return nil, plainly.Errorf("at most %d dates", MaxDates)
	}
	var out []day
	for _, part := range strings.FieldsFunc(s, func(r rune) bool { return r == ',' || r == ';' || r == '\n' }) {
		if strings.TrimSpace(part) == "" {
			continue
		}
		from, to := part, part
		for _, dash := range []string{"–", "—", " - ", " to "} {
			if a, b, ok := strings.Cut(part, dash); ok {
				from, to = a, b
				break
			}
		}
		first, err := parseDate(from)
		if err != nil {
			return nil, err
		}
		last, err := parseDate(to)
		if err != nil {
			return nil, err
		}
		if last.day() < first.day() {
			return nil, plainly.Errorf("“%s” ends before it begins", strings.TrimSpace(part))
		}
		for d := first.day(); d <= last.day(); d++ {
			if out = append(out, d); len(out) > 2*MaxDates {
				return nil, plainly.Errorf("at most %d dates", MaxDates)
			}
		}
	}
	slices.Sort(out)
	out = slices.Compact(out)
	if len(out) > MaxDates {
		return nil, plainly.Errorf("at most %d dates", MaxDates)
	}
	var dates []Date
	for _, d := range out {
		dates = append(dates, d.date())
	}
	return dates, nil
}

// Dates says dates as ParseDates reads them, those that follow on one another as a stretch.
func Dates(list []Date) string {
	var parts []string
	for i := 0; i < len(list); {
		j := i
		for j+1 < len(list) && list[j+1].day() == list[j].day()+1 {
			j++
		}
		word := func(d Date) string { return At(d, 0, time.UTC).Format("2 Jan 2006") }
		s := word(list[i])
		if j > i {
			s += " – " + word(list[j])
		}
		parts, i = append(parts, s), j+1
	}
	return strings.Join(parts, ", ")
}
