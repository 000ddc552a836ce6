package sequence

import (
	"fmt"
	"time"

	"ombak/internal/core/calendar"
	"ombak/internal/core/signal"
)

// Warn lists what may be meant otherwise, and forbids no launch: in a plan that is launched
// at an instant, in a zone in which its dates are read.
func (p *Plan) Warn(now time.Time, zone *time.Location) []Problem {
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
		if t, ok := s.(timed); ok && t.timing().Dated() {
			p.warnOfDate(t, now, zone, warn)
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

// warnOfDate warns of a date that is over at the launch, or that comes before the date of a
// step that comes before it.
func (p *Plan) warnOfDate(t timed, now time.Time, zone *time.Location, warn func(string, ...any)) {
	due := func(t *Timing) time.Time {
		return calendar.At(t.Date, time.Duration(t.Clock)*time.Minute, zone)
	}
	mine := t.timing()
	if due(mine).Before(now) {
		warn("its date is over: it %s", mine.Late.Says())
	}
	for _, s := range p.Steps {
		before, ok := s.(timed)
		if !ok || !before.timing().Dated() || !p.leads(s.About().ID, t.About().ID) {
			continue
		}
		if due(mine).Before(due(before.timing())) {
			warn("its date is before that of “%s”, which comes first: whoever comes that way is late", s.About().Title)
		}
	}
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
