package sequences

import (
	"fmt"
	"net/url"
	"time"

	"github.com/labstack/echo/v5"

	"ombak/internal/core/calendar"
	"ombak/internal/store"
)

// span is the while over which the figures of a running map are counted.
type span struct {
	Key      string // "", "7", "30" or "days"
	From, To string // the first and last day of "days"
	In       store.Between
}

// spanOf reads what an address says: days of a zone, which end with that of now.
func spanOf(c *echo.Context, now time.Time) span {
	s := span{Key: c.QueryParam("span"), From: c.QueryParam("from"), To: c.QueryParam("to")}
	today := calendar.DateOf(now, now.Location())
	first, last := today, today
	switch s.Key {
	case "7", "30":
		back := map[string]int{"7": 6, "30": 29}[s.Key]
		first = calendar.DateOf(now.AddDate(0, 0, -back), now.Location())
	case "days":
		for at, day := range map[*calendar.Date]string{&first: s.From, &last: s.To} {
			if d, err := time.Parse(time.DateOnly, day); err == nil && d.Year() < 9999 {
				*at = calendar.DateOf(d, time.UTC)
			}
		}
		if last.String() < first.String() {
			first, last = last, first
		}
	default:
		return span{}
	}
	s.From, s.To = first.String(), last.String()
	end := time.Date(last.Year, time.Month(last.Month), last.Day+1, 0, 0, 0, 0, now.Location())
	s.In = store.BetweenTimes(calendar.At(first, 0, now.Location()), end)
	return s
}

// Query is what links within the map carry along, with a & behind it.
func (s span) Query() string {
	if s.Key == "" {
		return ""
	}
	v := url.Values{"span": {s.Key}}
	if s.Key == "days" {
		v.Set("from", s.From)
		v.Set("to", s.To)
	}
	return v.Encode() + "&"
}

// People is what links to the people behind a figure carry along.
func (s span) People() string {
	if s.Key == "" {
		return ""
	}
	return fmt.Sprintf("&in=%d-%d", s.In.From, s.In.To)
}

// tookExit is how many took an exit of the chosen step.
type tookExit struct {
	Exit  string
	Words string
	N     int
}
