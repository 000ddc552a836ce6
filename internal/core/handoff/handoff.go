// Package handoff decides who gets a sales-ready person and what they are told.
package handoff

import (
	"fmt"
	"math"
	"sort"
	"strconv"
	"strings"
	"time"

	"ombak/internal/core/score"
	"ombak/internal/core/signal"
)

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
	Model   string   `json:"model,omitempty"` // whose score it is, where there are several
	Score   float64  `json:"score"`
	Line    int      `json:"line"`
	Reasons []Reason `json:"reasons"`
}

// Over is how far the score is over the line, or below it where it is negative.
func (b Brief) Over() float64 { return b.Score - float64(b.Line) }

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
