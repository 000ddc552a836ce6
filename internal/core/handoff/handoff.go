// Package handoff decides who gets a sales-ready person and what they are told.
package handoff

import (
	"fmt"
	"math"
	"slices"
	"sort"
	"strconv"
	"strings"
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
	if i := slices.IndexFunc(reps, func(r Rep) bool { return r.ID == owner && !r.Away }); i >= 0 {
		return owner, ByOwner
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

// Given keeps in reps that one of them was handed somebody at an instant, so that
// whoever comes next is routed by it. A rep that is none of them changes nothing.
func Given(reps []Rep, rep int64, at time.Time) {
	HadTurn(reps, rep, at)
	if i := slices.IndexFunc(reps, func(r Rep) bool { return r.ID == rep }); i >= 0 {
		reps[i].Open++
	}
}

// HadTurn keeps in reps that it was the turn of one of them.
func HadTurn(reps []Rep, rep int64, at time.Time) {
	if i := slices.IndexFunc(reps, func(r Rep) bool { return r.ID == rep }); i >= 0 {
		reps[i].Last = at
	}
}

// Reason is a line of a brief: points that count now, and what for.
type Reason struct {
	Points float64   `json:"points"` // what they are still worth, to one decimal
	Times  int       `json:"times"`  // 0: it is on the record
	Kind   string    `json:"kind"`   // what they did, or what is on the record
	Last   time.Time `json:"last"`
}

// String says it in words: "+10 for 1 page view".
func (r Reason) String() string {
	if r.Times == 0 {
		return fmt.Sprintf("%s for %s", r.Worth(), r.Kind)
	}
	return fmt.Sprintf("%s for %d × %s", r.Worth(), r.Times, r.Kind)
}

// Worth is the points with their sign: "+10" or "−2.5".
func (r Reason) Worth() string {
	s := strings.TrimSuffix(strconv.FormatFloat(math.Abs(r.Points), 'f', 1, 64), ".0")
	if r.Points < 0 {
		return "−" + s
	}
	return "+" + s
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
		worth := e.Worth(at)
		if worth == 0 {
			continue
		}
		j, ok := byRule[e.Rule]
		if !ok {
			j = len(b.Reasons)
			byRule[e.Rule] = j
			b.Reasons = append(b.Reasons, Reason{Kind: m.Rules[e.Rule].For(nil)})
		}
		r := &b.Reasons[j]
		r.Points += worth
		if e.Signal < 0 {
			continue // it is so of them, and did not happen
		}
		r.Times++
		if s := signals[e.Signal]; s.At.After(r.Last) {
			r.Last = s.At
		}
	}
	for i := range b.Reasons {
		b.Reasons[i].Points = math.Round(b.Reasons[i].Points*10) / 10
	}
	sort.SliceStable(b.Reasons, func(i, j int) bool { return b.Reasons[i].Points > b.Reasons[j].Points })
	return b
}
