package demo

import (
	"context"
	"fmt"
	"time"

	"ombak/internal/core/event"
	"ombak/internal/engine/forms"
	"ombak/internal/store"
)

// at is an instant of the workspace's clock, so many days after the demo's start.
func (d *Demo) at(days, hour int) time.Time {
	day := Start.In(d.Engine.Zone()).AddDate(0, 0, days)
	return time.Date(day.Year(), day.Month(), day.Day(), hour, 0, 0, 0, d.Engine.Zone()).UTC()
}

// keepEvents makes an event that is over when the demo begins, and one that is to come, and
// registers people for both; it answers the one to come.
func (d *Demo) keepEvents(ctx context.Context, people []int64, marketer int64) (next int64, err error) {
	zone := d.Engine.Workspace().Zone
	quay := event.Event{Name: "Field day at the quay", Note: "See a buoy taken apart, and its sensor cleaned.",
		Starts: d.at(-5, 9), Ends: d.at(-5, 15), Zone: zone, Place: "Karang yard, pier 4", Seats: 24}
	page, err := d.Store.PageBySlug(ctx, "calibration-clinic")
	if err != nil {
		return 0, err
	}
	clinic := event.Event{Page: page.ID, Name: "Calibration clinic",
		Note:   "20 calibrated sensors, and a talk with each of their owners.",
		Starts: d.at(24, 10), Ends: d.at(24, 12), Zone: zone, Link: "https://karang.example/clinic", Seats: 60}
	for _, x := range []struct {
		event.Event
		coming []int64
		not    []int64
	}{{quay, people[100:121], people[118:121]}, {clinic, people[130:149], people[147:149]}} {
		id, _, err := d.Engine.SaveEvent(ctx, x.Event, forms.Word{}, marketer)
		if err != nil {
			return 0, fmt.Errorf("making “%s”: %w", x.Name, err)
		}
		for _, to := range []struct {
			event.State
			who []int64
		}{{event.Registered, x.coming}, {event.Cancelled, x.not}} {
			if _, _, err := d.Engine.Attend(ctx, id, to.who, to.State, store.Author{How: "by a link"}); err != nil {
				return 0, err
			}
		}
		next = id
	}
	return next, nil
}

// endEvents notes who came to the event that is over.
func (d *Demo) endEvents(ctx context.Context, people []int64, marketer int64) error {
	list, err := d.Store.Events(ctx, d.Clock.Now())
	if err != nil {
		return err
	}
	for _, e := range list {
		if e.Ends.After(d.Clock.Now()) {
			continue
		}
		if _, _, err := d.Engine.Attend(ctx, e.ID, people[100:112], event.Came,
			store.Author{User: marketer, How: "by list"}); err != nil {
			return err
		}
		if _, err := d.Engine.CloseList(ctx, e.ID, marketer); err != nil {
			return err
		}
	}
	return nil
}
