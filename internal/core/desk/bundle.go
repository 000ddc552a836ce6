package desk

import (
	"slices"
	"time"

	"ombak/internal/core/calendar"
)

// Bundling is how somebody takes what they are told.
type Bundling string

// The choices there are.
const (
	AtOnce Bundling = "at once"
	Hourly Bundling = "hourly"
	AtNine Bundling = "at nine"
)

// Bundlings lists them.
func Bundlings() []Bundling { return []Bundling{AtOnce, Hourly, AtNine} }

// Known reports whether it is one of Bundlings.
func (b Bundling) Known() bool { return slices.Contains(Bundlings(), b) }

// Shown is when something is told that came at an instant, by a clock in zone: at once; at the next full
// hour of all the world's clocks that keep whole hours; or the next time that it is nine, where nine
// itself waits for the next day.
func (b Bundling) Shown(at time.Time, zone *time.Location) time.Time {
	switch b {
	case Hourly:
		return at.UTC().Truncate(time.Hour).Add(time.Hour)
	case AtNine:
		d := calendar.DateOf(at, zone)
		if nine := calendar.At(d, 9*time.Hour, zone); nine.After(at) {
			return nine
		}
		return calendar.At(d.Add(1), 9*time.Hour, zone)
	}
	return at
}

// Told is something that somebody is told, in words, with how it came about.
type Told struct{ Words, How string }

// Bundle puts together what says the same: of a list in the order in which it came, the places of each
// bundle in that order; the bundle that got something last comes first.
func Bundle(list []Told) [][]int {
	var out [][]int
	at := map[Told]int{}
	for i := len(list) - 1; i >= 0; i-- {
		n, ok := at[list[i]]
		if !ok {
			n = len(out)
			at[list[i]] = n
			out = append(out, nil)
		}
		out[n] = append(out[n], i)
	}
	for _, b := range out {
		slices.Reverse(b)
	}
	return out
}
