package post

import (
	"context"
	"time"

	"ombak/internal/core/away"
	"ombak/internal/core/calendar"
	"ombak/internal/store"
)

// restAway is how long somebody who is away gets no email when their answer
// names no day (common practice, no source).
var restAway = calendar.Span{N: 3, Unit: calendar.WorkingDays}

// morning is the hour of the day on which somebody is back at which emails go
// out again.
const morning = 9 * time.Hour

// postpone has the emails to somebody who is away wait until they are back: the
// day that their automatic answer names, else some working days.
func (e *Post) postpone(ctx context.Context, tx store.Tx, person int64, text string) error {
	people, err := tx.PeopleByID(ctx, []int64{person})
	if err != nil || people[person] == nil {
		return err
	}
	p := people[person]
	zone, _ := calendar.ZoneFor(calendar.Whereabouts{Zone: p.Zone, Country: p.Country, City: p.City}, e.Zone())
	now := e.Now().In(zone)
	until, named := away.Until(text, now)
	if named {
		until = until.Add(morning)
	} else {
		until = restAway.After(now, zone, calendar.Working{Holidays: e.Holidays(p.Country)})
	}
	return tx.SetAway(ctx, person, until)
}
