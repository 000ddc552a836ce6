package sequence

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"ombak/internal/core/calendar"
	"ombak/internal/core/plainly"
	"ombak/internal/core/rule"
	"ombak/internal/core/signal"
)

// Entry is who enters a sequence by itself, how often, and how many at a time. The zero
// Entry lets nobody in but by hand, by a link, a form or another sequence. Whatever lets
// somebody in, they enter only where its exclusions and how often they may allow it.
type Entry struct {
	Page   int64           `json:"page,omitempty"`   // whoever fills in its form
	Rule   *rule.Rule      `json:"rule,omitempty"`   // for whom it holds; nil: nobody by rule
	On     *signal.Pattern `json:"on,omitempty"`     // whoever does it; nil: nobody by what they do
	Record *Recorded       `json:"record,omitempty"` // whoever's record it happens to; nil: nobody by that
	Hand   bool            `json:"hand,omitempty"`   // it is meant to be entered by hand alone
	Reps   bool            `json:"reps,omitempty"`   // reps may put people in, too

	// Times is how often somebody may enter: 0 is once, Always without limit.
	Times int `json:"times,omitempty"`
	Gap   int `json:"gap,omitempty"` // days between the end of one way and the next entry

	NotIn    []int64 `json:"not_in,omitempty"`    // audiences whose people do not enter
	NotOn    []int64 `json:"not_on,omitempty"`    // sequences whose people do not, while they are on them
	WithDeal bool    `json:"with_deal,omitempty"` // whoever has an open deal enters by rule, too

	Wave Wave `json:"wave,omitzero"`
}

// Always is how often somebody may enter who may enter without limit.
const Always = -1

// Wave bounds how many enter by rule in a while; the others wait in order. The zero Wave
// bounds nothing.
type Wave struct {
	N   int  `json:"n,omitempty"`
	Per Each `json:"per,omitempty"`
}

// Each is a while that a wave counts in.
type Each string

// The whiles: hours of the clock, and days of the workspace's zone.
const (
	Hour Each = "hour"
	Day  Each = "day"
)

// Bounds of an entry.
const (
	MaxTimes = 100
	MaxGap   = 1000 // days
	MaxWave  = 1_000_000
	maxNot   = 50
)

// Anybody reports whether somebody enters in some way.
func (e *Entry) Anybody() bool {
	return e.Page != 0 || e.Rule != nil && e.Rule.Asks() || e.On != nil || e.Record != nil || e.Hand
}

// Check reports what is wrong with it, or nil.
func (e *Entry) Check() error {
	switch {
	case e.Times < Always || e.Times > MaxTimes:
		return plainly.Errorf("somebody may enter at most %d times, or without limit", MaxTimes)
	case e.Gap < 0 || e.Gap > MaxGap:
		return plainly.Errorf("the gap has at most %d days", MaxGap)
	case e.Rule != nil && e.Times != 0 && e.Gap == 0:
		return plainly.New("who enters again by a rule needs a gap of a day or more: else they never stop entering")
	case e.Wave.N < 0 || e.Wave.N > MaxWave || e.Wave.N > 0 && e.Wave.Per != Hour && e.Wave.Per != Day:
		return plainly.Errorf("a wave is of at most %d people an hour or a day", MaxWave)
	case len(e.NotIn) > maxNot || len(e.NotOn) > maxNot:
		return plainly.Errorf("at most %d audiences and %d sequences can be left out", maxNot, maxNot)
	case e.On != nil && !e.On.Kind.Known():
		return plainly.New("choose what they do to enter")
	case slices.ContainsFunc(slices.Concat(e.NotIn, e.NotOn), func(id int64) bool { return id <= 0 }):
		return plainly.New("choose who is left out")
	}
	if e.Record != nil {
		if err := e.Record.Check(); err != nil {
			return err
		}
	}
	if e.Rule != nil {
		return e.Rule.Check(nil)
	}
	return nil
}

// Again says how often somebody may enter: "once", "up to 3 times, 90 days apart".
func (e *Entry) Again() string {
	var s string
	switch {
	case e.Times == Always:
		s = "as often as it happens"
	case e.Times > 1:
		s = fmt.Sprintf("up to %d times", e.Times)
	default:
		return "once"
	}
	if e.Gap > 0 {
		s += fmt.Sprintf(", %d %s apart", e.Gap, strings.TrimSuffix("days", map[bool]string{true: "s"}[e.Gap == 1]))
	}
	return s
}

// Since is the beginning of the while that an instant lies in.
func (w Wave) Since(t time.Time, zone *time.Location) time.Time {
	if w.Per == Hour {
		return t.Truncate(time.Hour)
	}
	return calendar.At(calendar.DateOf(t, zone), 0, zone)
}

// String says the wave: "at most 50 a day"; nothing where there is none.
func (w Wave) String() string {
	switch {
	case w.N == 0:
		return ""
	case w.Per == Hour:
		return fmt.Sprintf("at most %d an hour", w.N)
	}
	return fmt.Sprintf("at most %d a day", w.N)
}
