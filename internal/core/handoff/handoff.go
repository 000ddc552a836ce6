// Package handoff decides who gets a sales-ready person and what they are told.
package handoff

import (
	"fmt"
	"sort"
	"time"

	"ombak/internal/core/score"
	"ombak/internal/core/signal"
)

// Rep is somebody who can be handed people.
type Rep struct {
	ID       int64
	Capacity int // most open handoffs at a time; 0: no limit
	Open     int // open handoffs now
	Away     bool
	Last     time.Time // last handed somebody
}

func (r *Rep) room() bool { return !r.Away && (r.Capacity == 0 || r.Open < r.Capacity) }

// How tells by which rule a rep was chosen.
type How string

// The ways, in the order in which they are tried. Pool means nobody has room:
// it waits, and the lead sees it.
const (
	ByOwner How = "owner"
	InTurn  How = "in turn"
	Pool    How = "waiting in the pool"
)

// Route chooses the rep for a person with that owner (0: none): the owner, be
// there room or not unless they are away, since the person knows them; else
// the rep with room who has waited longest, the lower ID among equals; else
// nobody (0).
func Route(owner int64, reps []Rep) (int64, How) {
	for i := range reps {
		if reps[i].ID == owner && !reps[i].Away {
			return owner, ByOwner
		}
	}
	best := -1
	for i := range reps {
		r := &reps[i]
		if !r.room() {
			continue
		}
		if best < 0 || r.Last.Before(reps[best].Last) || (r.Last.Equal(reps[best].Last) && r.ID < reps[best].ID) {
			best = i
		}
	}
	if best < 0 {
		return 0, Pool
	}
	return reps[best].ID, InTurn
}

// Reason is a line of a brief: points that count now, and what for.
type Reason struct {
	Points int       `json:"points"`
	Times  int       `json:"times"`
	Kind   string    `json:"kind"`
	Last   time.Time `json:"last"`
}

// String says it in words: "+10 for 1 page view".
func (r Reason) String() string {
	return fmt.Sprintf("%+d for %d × %s", r.Points, r.Times, r.Kind)
}

// Brief is what a rep is told about why now.
type Brief struct {
	Score   float64  `json:"score"`
	Line    int      `json:"line"`
	Reasons []Reason `json:"reasons"`
}

// NewBrief sums the live entries of a ledger by rule, the largest first.
func NewBrief(m *score.Model, ledger []score.Entry, signals []signal.Signal, at time.Time) Brief {
	b := Brief{Score: m.Shown(score.Sum(ledger, at)), Line: m.Line}
	byRule := map[int]int{}
	for i := range ledger {
		e := &ledger[i]
		if e.Worth(at) == 0 {
			continue
		}
		j, ok := byRule[e.Rule]
		if !ok {
			j = len(b.Reasons)
			byRule[e.Rule] = j
			b.Reasons = append(b.Reasons, Reason{Kind: m.Rules[e.Rule].On.Kind.String()})
		}
		r := &b.Reasons[j]
		r.Points += e.Points
		r.Times++
		if s := signals[e.Signal]; s.At.After(r.Last) {
			r.Last = s.At
		}
	}
	sort.SliceStable(b.Reasons, func(i, j int) bool { return b.Reasons[i].Points > b.Reasons[j].Points })
	return b
}
