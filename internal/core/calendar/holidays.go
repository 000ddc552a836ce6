package calendar

import (
	"slices"
	"strings"

	"ombak/internal/core/plainly"
)

// Holidays are dates on which a country does not work. Nil is none.
type Holidays map[Date]bool

// Holiday is one of them, with its name.
type Holiday struct {
	Date Date   `json:"date"`
	Name string `json:"name,omitempty"`
}

// MaxHolidays bounds how many dates one country has.
const MaxHolidays = 600

// CheckHolidays tidies the holidays of a country and puts them into their order, each date
// once: the first of several names stays.
func CheckHolidays(list []Holiday) ([]Holiday, error) {
	out := slices.Clone(list)
	for i := range out {
		h := &out[i]
		if h.Name = strings.Join(strings.Fields(h.Name), " "); len(h.Name) > 200 {
			return nil, plainly.New("the name of a holiday has at most 200 letters")
		}
		if h.Date.Year < 1900 || h.Date.Year > 9999 || h.Date.day().date() != h.Date {
			return nil, plainly.Errorf("%s is no date", h.Date)
		}
	}
	slices.SortStableFunc(out, func(a, b Holiday) int { return int(a.Date.day() - b.Date.day()) })
	out = slices.CompactFunc(out, func(a, b Holiday) bool { return a.Date == b.Date })
	if len(out) > MaxHolidays {
		return nil, plainly.Errorf("a country has at most %d holidays here: leave out years that are over", MaxHolidays)
	}
	return out, nil
}

// KnownCountry reports whether a code is that of a country (ISO 3166-1 alpha-2), as the tz
// database lists them.
func KnownCountry(code string) bool { return len(zones()[code]) > 0 }

// Countries lists the codes of all countries, in their order.
func Countries() []string {
	var out []string
	for code := range zones() {
		if len(code) == 2 {
			out = append(out, code)
		}
	}
	slices.Sort(out)
	return out
}
