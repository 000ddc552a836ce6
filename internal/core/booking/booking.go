// Package booking reckons the times at which somebody can be met: their working hours less what
// they have booked and what else keeps them busy.
//
// No standard says how free times are offered. What is held to (common practice, no source): a
// meeting lies whole within one stretch of working hours; before and after it the buffer is free of
// other meetings; slots begin at whole steps of the stretch, so that what is offered looks the
// same whenever somebody looks.
package booking

import (
	"cmp"
	"slices"
	"strings"
	"time"

	"ombak/internal/core/calendar"
	"ombak/internal/core/plainly"
	"ombak/internal/core/signal"
)

// Plan is what somebody offers.
type Plan struct {
	Title   string `json:"title"`            // of the page, and of the meeting
	About   string `json:"about,omitempty"`  // what it is about, for whoever picks
	Where   string `json:"where,omitempty"`  // a link, a number or a place; empty: it is agreed later
	Minutes int    `json:"minutes"`          // how long a meeting is
	Buffer  int    `json:"buffer,omitempty"` // minutes that stay free before and after
	Step    int    `json:"step"`             // minutes from the beginning of one slot to that of the next
	Notice  int    `json:"notice"`           // hours: how soon at the shortest
	Horizon int    `json:"horizon"`          // days: how far ahead
	Most    int    `json:"most,omitempty"`   // meetings of a day; 0: as many as there is room for
}

// Usual is what somebody begins with (common practice, no source).
func Usual() Plan {
	return Plan{Title: "A talk of half an hour", Minutes: 30, Buffer: 10, Step: 30, Notice: 4, Horizon: 21}
}

// Check tidies a plan and reports what is wrong with it.
func (p *Plan) Check() error {
	p.Title, p.Where = strings.Join(strings.Fields(p.Title), " "), strings.TrimSpace(p.Where)
	p.About = strings.TrimSpace(strings.ReplaceAll(p.About, "\r\n", "\n"))
	switch {
	case p.Title == "":
		return plainly.New("say what the meeting is called")
	case len(p.Title) > 120 || len(p.About) > 2000 || len(p.Where) > 300:
		return plainly.New("a title has at most 120 letters, what it is about 2,000, and where 300")
	case p.Minutes < 5 || p.Minutes > 8*60:
		return plainly.New("a meeting takes 5 minutes to 8 hours")
	case p.Buffer < 0 || p.Buffer > 4*60:
		return plainly.New("at most 4 hours stay free before and after")
	case p.Step < 5 || p.Step > 8*60:
		return plainly.New("slots begin every 5 minutes to 8 hours")
	case p.Notice < 0 || p.Notice > 30*24:
		return plainly.New("the shortest notice is at most 720 hours")
	case p.Horizon < 1 || p.Horizon > MaxHorizon:
		return plainly.Errorf("people can pick 1 to %d days ahead", MaxHorizon)
	case p.Most < 0 || p.Most > 50:
		return plainly.New("at most 50 meetings on a day")
	}
	return nil
}

// MaxHorizon is how many days ahead people can pick at most.
const MaxHorizon = 120

// Length is how long a meeting is.
func (p *Plan) Length() time.Duration { return time.Duration(p.Minutes) * time.Minute }

// Span is a stretch of time, from From up to, not including, To.
type Span struct{ From, To time.Time }

// Free asks for the times at which somebody can be met.
type Free struct {
	Plan  *Plan
	Hours calendar.SendingHours // in which they work
	Zone  *time.Location        // where they work
	Met   []Span                // meetings: the buffer lies around them
	Busy  []Span                // what else keeps them busy
	Now   time.Time
}

// Slots are the times at which a meeting can begin, in their order.
func (f *Free) Slots() []time.Time {
	first := f.Now.Add(time.Duration(f.Plan.Notice) * time.Hour)
	last := f.Now.AddDate(0, 0, f.Plan.Horizon)
	taken := f.taken()
	days := map[calendar.Date]int{}
	for _, m := range f.Met {
		days[calendar.DateOf(m.From, f.Zone)]++
	}
	var out []time.Time
	i := 0
	for d := calendar.DateOf(first, f.Zone); ; d = d.Add(1) {
		if calendar.At(d, 0, f.Zone).After(last) {
			return out
		}
		if f.Hours.Closed(d) || f.Plan.Most > 0 && days[d] >= f.Plan.Most {
			continue
		}
		for _, in := range f.Hours.Days[d.Weekday()] {
			for m := in.From; m+f.Plan.Minutes <= in.To; m += f.Plan.Step {
				at := calendar.At(d, time.Duration(m)*time.Minute, f.Zone)
				if at.Before(first) || at.After(last) || !f.within(at, m, in, d) {
					continue
				}
				for i < len(taken) && !taken[i].To.After(at) {
					i++
				}
				if i == len(taken) || !taken[i].From.Before(at.Add(f.Plan.Length())) {
					out = append(out, at)
				}
			}
		}
	}
}

// within reports whether a meeting that begins at an instant, so many minutes after midnight by the
// clock there, lies whole within a stretch of a day. A beginning that a change of the clock skips
// is none, and a change may shorten a stretch.
func (f *Free) within(at time.Time, m int, in calendar.Interval, d calendar.Date) bool {
	wall := at.In(f.Zone)
	if wall.Hour()*60+wall.Minute() != m {
		return false
	}
	end := at.Add(f.Plan.Length())
	if _, change := wall.ZoneBounds(); change.IsZero() || !end.After(change) {
		return !end.After(calendar.At(d, time.Duration(in.To)*time.Minute, f.Zone))
	}
	for x := at; x.Before(end); x = x.Add(time.Minute) { // the clock changes during the meeting
		w := x.In(f.Zone)
		if m := w.Hour()*60 + w.Minute(); calendar.DateOf(x, f.Zone) != d || m < in.From || m >= in.To {
			return false
		}
	}
	return true
}

// Is reports whether a meeting can begin at an instant.
func (f *Free) Is(at time.Time) bool {
	for _, s := range f.Slots() {
		if s.Equal(at) {
			return true
		}
	}
	return false
}

// taken are the stretches in which no meeting can lie, in their order, none touching another.
func (f *Free) taken() []Span {
	buffer := time.Duration(f.Plan.Buffer) * time.Minute
	var all []Span
	for _, s := range f.Met {
		all = append(all, Span{s.From.Add(-buffer), s.To.Add(buffer)})
	}
	for _, s := range f.Busy {
		if s.To.After(s.From) {
			all = append(all, s)
		}
	}
	slices.SortFunc(all, func(a, b Span) int {
		return cmp.Or(a.From.Compare(b.From), a.To.Compare(b.To))
	})
	var out []Span
	for _, s := range all {
		if n := len(out); n > 0 && !s.From.After(out[n-1].To) {
			if s.To.After(out[n-1].To) {
				out[n-1].To = s.To
			}
			continue
		}
		out = append(out, s)
	}
	return out
}

// State is how far a booking is.
type State string

// The states there are: it is asked for by somebody who has not shown yet who they are; it is
// booked; and what came of it.
const (
	Asked     State = "asked"
	Booked    State = "booked"
	Cancelled State = "cancelled"
	Held      State = "held"
	Missed    State = "missed"
)

var moves = map[State][]State{
	Asked:  {Booked, Cancelled},
	Booked: {Booked, Cancelled, Held, Missed}, // to itself: at another time
	Held:   {Missed, Booked},
	Missed: {Held, Booked},
}

// May reports whether a booking can become another state.
func (s State) May(to State) bool { return slices.Contains(moves[s], to) }

// States lists them.
func States() []State { return []State{Asked, Booked, Cancelled, Held, Missed} }

// KeptFor is how long a time is kept for somebody who has to show who they are.
const KeptFor = time.Hour

// Told is the signal of what came of a meeting; false: a state of which nothing is told.
func (s State) Told() (bool, signal.Kind) {
	switch s {
	case Held:
		return true, signal.MeetingHeld
	case Missed:
		return true, signal.MeetingMissed
	}
	return false, 0
}
