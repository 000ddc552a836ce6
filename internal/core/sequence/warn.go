package sequence

import (
	"fmt"
	"strings"
	"time"

	"ombak/internal/core/calendar"
	"ombak/internal/core/event"
	"ombak/internal/core/signal"
)

// Warn lists what may be meant otherwise, and forbids no launch: in a plan that is launched
// at an instant, in a zone in which its dates are read.
// events are those it is reckoned from, as far as they are known.
func (p *Plan) Warn(now time.Time, zone *time.Location, events map[int64]event.Event) []Problem {
	order, ok := p.order()
	if !ok {
		return nil // Check says that it leads back to itself
	}
	var out []Problem
	days := p.Days()
	longest := 0.0
	for _, id := range order {
		s := p.Step(id)
		warn := func(format string, args ...any) {
			out = append(out, Problem{Step: id, Text: fmt.Sprintf(format, args...)})
		}
		longest = max(longest, days[id])
		p.warnOfEvents(s, now, events, warn)
		if t, ok := s.(timed); ok && t.timing().Bound() {
			p.warnOfDate(t, now, zone, events, warn)
		}
		if w, ok := s.(*Watch); ok {
			p.warnOfWatch(w, warn)
		}
		if exits := s.Exits(); len(exits) > 1 && sameTarget(s, exits) {
			warn("parts people, and all go on to the same step")
		}
	}
	if stay := p.LongestStay; stay.N > 0 && stay.NominalDays() < longest {
		out = append(out, Problem{Text: fmt.Sprintf("the way takes up to %s days, and nobody stays longer than %s",
			trimmed(longest), stay)})
	}
	return out
}

// warnOfEvents warns of an event that is cancelled, and of waiting until before one that is
// over.
func (p *Plan) warnOfEvents(s Step, now time.Time, events map[int64]event.Event, warn func(string, ...any)) {
	if x, ok := s.(interface{ events() []int64 }); ok {
		for _, own := range x.events() {
			if e, known := events[p.EventOf(own)]; known && e.Off() {
				warn("its event “%s” is cancelled", e.Name)
				return
			}
		}
	}
	var until *FromEvent
	switch s := s.(type) {
	case *Pause:
		until = s.Until
	case *Watch:
		until = s.Until
	}
	if until == nil {
		return
	}
	if e, known := events[p.EventOf(until.Event)]; known && e.At(until.Offset).Before(now) {
		warn("waits until %s, and that is over", strings.TrimPrefix(until.String(), "when "))
	}
}

// dueAt is when a step is due whoever comes to it; false: that follows from when they do, or
// from an event that nobody knows.
func (p *Plan) dueAt(t *Timing, zone *time.Location, events map[int64]event.Event) (at time.Time, ok bool) {
	if t.From != nil {
		e, known := events[p.EventOf(t.From.Event)]
		return e.At(t.From.Offset), known
	}
	return calendar.At(t.Date, time.Duration(t.Clock)*time.Minute, zone), t.Dated()
}

// warnOfDate warns of a date that is over at the launch, or that comes before the date of a
// step that comes before it.
func (p *Plan) warnOfDate(
	t timed, now time.Time, zone *time.Location, events map[int64]event.Event, warn func(string, ...any),
) {
	mine := t.timing()
	at, ok := p.dueAt(mine, zone, events)
	if !ok {
		return
	}
	if at.Before(now) {
		warn("its date is over: it %s", mine.Late.Says())
	}
	p.warnOfHours(mine, at, zone, events, warn)
	for _, s := range p.Steps {
		before, ok := s.(timed)
		if !ok || !p.leads(s.About().ID, t.About().ID) {
			continue
		}
		first, ok := p.dueAt(before.timing(), zone, events)
		switch {
		case !ok:
		case at.Before(first):
			warn("its date is before that of “%s”, which comes first: whoever comes that way is late", s.About().Title)
		case p.opens(before, first, zone).After(at):
			warn("no sending hour is between the date of “%s” and its own: whoever comes that way is late",
				s.About().Title)
		}
	}
}

// warnOfHours warns of what is to be before an event, and whose hours open only after it has begun.
func (p *Plan) warnOfHours(
	mine *Timing, at time.Time, zone *time.Location, events map[int64]event.Event, warn func(string, ...any),
) {
	if mine.From == nil || mine.From.After {
		return
	}
	e := events[p.EventOf(mine.From.Event)]
	if next, err := p.hoursOf(mine).Next(at, p.hoursIn(mine, zone)); err == nil && at.Before(e.Starts) &&
		!next.Before(e.Starts) {
		warn("its sending hours open only when the event has begun")
	}
}

// opens is when a step goes out that is due at an instant: when its sending hours open. What
// touches nobody keeps no hours.
func (p *Plan) opens(s timed, at time.Time, zone *time.Location) time.Time {
	r, ok := s.(reaching)
	if !ok {
		return at
	}
	if _, request := r.reaches(); request {
		return at
	}
	t := s.timing()
	next, err := p.hoursOf(t).Next(at, p.hoursIn(t, zone))
	if err != nil { // Check names it
		return at
	}
	return next
}

// hoursIn is the zone in which a step's hours are read: its own, or that of who reads.
func (p *Plan) hoursIn(t *Timing, zone *time.Location) *time.Location {
	if z := p.hoursOf(t).Zone; z != "" {
		zone, _ = calendar.ZoneFor(calendar.Whereabouts{Zone: z}, time.UTC)
	}
	return zone
}

// warnOfWatch warns of waiting for an answer to nothing.
func (p *Plan) warnOfWatch(w *Watch, warn func(string, ...any)) {
	switch w.Signal {
	case signal.Open, signal.Click, signal.Reply:
		if w.Of == 0 && len(p.Touches(w.ID, "email")) == 0 {
			warn("waits for %s, and no email comes before it", w.Signal.Plural(max(w.N, 2))[len("2 "):])
		}
	case signal.Accepted, signal.SocialReply:
		if w.Of == 0 && len(p.Touches(w.ID, "social touch")) == 0 {
			warn("waits for an answer on the network, and no social touch comes before it")
		}
	}
}

func sameTarget(s Step, exits []Exit) bool {
	for _, e := range exits[1:] {
		if s.About().To[e] != s.About().To[exits[0]] {
			return false
		}
	}
	_, parts := s.(Work) // work is done whatever comes of it
	return !parts
}

func trimmed(days float64) string {
	if days == float64(int(days)) {
		return fmt.Sprint(int(days))
	}
	return fmt.Sprintf("%.1f", days)
}
