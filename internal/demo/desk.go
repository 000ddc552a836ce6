package demo

import (
	"context"
	"fmt"

	"ombak/internal/core/answer"
	"ombak/internal/core/booking"
	"ombak/internal/core/desk"
	"ombak/internal/engine/sales"
	"ombak/internal/store"
)

// repsAnswer has the reps sort the answers of a day, all but the last two: as the rules suggest, else
// as not interested.
func (d *Demo) repsAnswer(ctx context.Context, reps []int64) error {
	rows, err := d.Store.DeskRows(ctx, store.DeskQuery{Kind: desk.Answer, Now: d.Clock.Now(), N: 500})
	if err != nil {
		return err
	}
	for i, r := range rows {
		if i >= len(rows)-2 {
			break
		}
		rep := r.Rep
		if rep == nil {
			rep = &reps[i%len(reps)]
		}
		in, err := d.Store.Incoming(ctx, r.ID)
		if err != nil {
			return err
		}
		x := sales.Sorting{ID: r.ID, User: *rep, As: answer.NotInterested, Until: "in 4 weeks"}
		if s, until, ok, err := d.Engine.Suggest(ctx, &in); err != nil {
			return err
		} else if ok {
			if x.As = s.Sort; until != "" {
				x.Until = until
			}
		}
		if err := d.Engine.SortAnswer(ctx, x); err != nil {
			return fmt.Errorf("sorting the answer of %s: %w", in.Sender, err)
		}
	}
	return nil
}

// snippets are words that everybody here writes again and again.
var snippets = []store.Snippet{
	{Name: "Thank you, and a talk", Body: "Thank you for your answer, {{ person.first_name | default: \"reader\" }}. " +
		"Shall we talk for half an hour? Here are my free times: {{ sender.booking }}"},
	{Name: "Which depth?", Body: "At which depth do you measure now, and how often is the sensor cleaned?"},
	{Name: "Until next season", Body: "Understood. I will write again before the next season, and not earlier."},
}

// keepDesk has the reps offer times, some of which are picked, and keeps snippets.
func (d *Demo) keepDesk(ctx context.Context, people []int64) error {
	users, err := d.Store.Users(ctx)
	if err != nil {
		return err
	}
	sells := 0
	for _, u := range users {
		if u.Role == "marketer" || u.Role == "admin" {
			continue
		}
		p := store.BookingPage{User: u.ID, Slug: slugs[sells%len(slugs)], Shown: true}
		p.Plan.V = booking.Usual()
		p.Plan.V.Title, p.Plan.V.Where = "Half an hour about your water", "https://karang.example/meet/"+p.Slug
		p.Plan.V.About = "What you measure, what it misses, and whether a buoy on loan would tell you more."
		if err := d.Engine.KeepBookingPage(ctx, p); err != nil {
			return err
		}
		page, err := d.Store.BookingPageOf(ctx, u.ID)
		if err != nil {
			return err
		}
		for n := range 2 {
			times, _, err := d.Engine.FreeTimes(ctx, &page, 0)
			if err != nil {
				return err
			}
			who := people[(40*sells+13*n+7)%len(people)]
			if at := min(5*n, len(times)-1); at >= 0 {
				if _, err := d.Engine.Book(ctx, &page, sales.Pick{At: times[at].UTC(), Person: who}); err != nil {
					return err
				}
			}
		}
		sells++
	}
	for _, x := range snippets {
		if _, err := d.Engine.KeepSnippet(ctx, x, users[0].ID); err != nil {
			return err
		}
	}
	return nil
}

var slugs = []string{"water-talk", "port-talk", "intake-talk", "loan-talk", "clinic-talk"}
