package sequence

import (
	"time"

	"ombak/internal/core/calendar"
	"ombak/internal/core/event"
)

// Dates are the days on which steps are whoever comes to them, in a zone: those that have a date,
// or an event they are reckoned from, and those that follow such a one at once.
func (p *Plan) Dates(zone *time.Location, events map[int64]event.Event) map[StepID]calendar.Date {
	out := map[StepID]calendar.Date{}
	order, _ := p.order()
	fixed := map[StepID]calendar.Date{} // on which somebody comes to a step, by the ways looked at so far
	other := map[StepID]bool{}          // somebody comes to it on another day
	come := func(to StepID, d calendar.Date, ok bool) {
		if was, came := fixed[to]; !ok || came && was != d {
			other[to] = true
		}
		fixed[to] = d
	}
	come(p.Start, calendar.Date{}, false)
	for _, id := range order {
		s := p.Step(id)
		d, ok := fixed[id], !other[id]
		before, after := s.takes()
		if t, timed := s.(timed); timed && t.timing().Bound() {
			var at time.Time
			if at, ok = p.dueAt(t.timing(), zone, events); ok {
				d = calendar.DateOf(p.opens(t, at, zone), zone)
			}
		} else if before > 0 {
			ok = false
		}
		if ok {
			out[id] = d
		}
		if until := untilOf(s); until != nil {
			var e event.Event
			if e, ok = events[p.EventOf(until.Event)]; ok {
				d = calendar.DateOf(e.At(until.Offset), zone)
			}
		} else if after > 0 {
			ok = false
		}
		for _, to := range s.About().To {
			come(to, d, ok)
		}
	}
	return out
}

// untilOf is until when a step waits for an event; nil: for none.
func untilOf(s Step) *FromEvent {
	switch s := s.(type) {
	case *Pause:
		return s.Until
	case *Watch:
		if s.AtEnd {
			return s.Until
		}
	}
	return nil
}
