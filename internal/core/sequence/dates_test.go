package sequence

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"ombak/internal/core/calendar"
	"ombak/internal/core/event"
	"ombak/internal/core/rule"
)

// Steps stand on a date where everybody is at them on that day, and nowhere else.
func TestDates(t *testing.T) {
	events := map[int64]event.Event{5: {Starts: day(10), Ends: day(10.1), Zone: "UTC"}} // a Friday
	on := Timing{Date: calendar.Date{Year: 2026, Month: 5, Day: 16}, Clock: 9 * 60}     // a Saturday
	p := newPlan()
	put := func(title string, s Step, from StepID, e Exit) StepID {
		t.Helper()
		s.About().Title = title
		id, err := p.Insert(s, from, e)
		if err != nil {
			t.Fatal(err)
		}
		return id
	}
	first := put("first", &Email{Message: 1}, 0, "")
	dated := put("dated", &Email{Message: 1, Timing: on}, first, Next)
	check := put("check", &Check{Rule: rule.ScoreAtLeast(5)}, dated, Next)
	soon := put("at once", &Email{Message: 1}, check, Yes)
	wait := put("later", &Email{Message: 1, Timing: Timing{Wait: days(1)}}, soon, Next)
	until := put("until", &Pause{Until: &FromEvent{Event: 5, Offset: event.Offset{Span: days(1), Clock: 9 * 60}}}, wait, Next)
	last := put("last", &Email{Message: 1}, until, Next)
	put("after", &Pause{For: days(2)}, last, Next)
	got := p.Dates(time.UTC, events)
	var said []string
	for _, s := range p.Steps {
		if d, ok := got[s.About().ID]; ok && s.About().Title != "End" {
			said = append(said, fmt.Sprintf("%s %s", s.About().Title, d))
		}
	}
	// The dated one goes out on Monday: its Saturday has no sending hours.
	friday := calendar.DateOf(day(10), time.UTC)
	before := calendar.Date{Year: friday.Year, Month: friday.Month, Day: friday.Day - 1}
	want := fmt.Sprintf("dated 2026-05-18, check 2026-05-18, at once 2026-05-18, last %s, after %s", before, before)
	if x := strings.Join(said, ", "); x != want {
		t.Errorf("%s, want %s", x, want)
	}
	if got := p.Dates(time.UTC, nil); len(got) < 3 || got[last] != (calendar.Date{}) {
		t.Errorf("of an event that nobody knows: %v", got)
	}
}
