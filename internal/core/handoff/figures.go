package handoff

import (
	"cmp"
	"math"
	"slices"
	"time"
)

// State is what became of a handoff.
type State string

// The states.
const (
	Open     State = "open"
	Accepted State = "accepted"
	SentBack State = "sent back"
)

// Told is a handoff as figures count it.
type Told struct {
	Of     string // what it is counted with: a rep, a source, a sequence
	State  State
	Took   time.Duration // working time until it was answered; of one that is open, so far
	Reason string        // of SentBack
}

// Figures are what became of the handoffs of one group.
type Figures struct {
	Of                          string
	Waiting, Accepted, SentBack int
	Longest                     time.Duration // that one waits
	Median, Ninety              time.Duration // to the answer, of those answered
	Reasons                     []Reasoned    // the most frequent first
}

// Reasoned is how many were sent back for a reason.
type Reasoned struct {
	Reason string
	N      int
}

// Answered is how many were answered.
func (f Figures) Answered() int { return f.Accepted + f.SentBack }

// Tell counts handoffs by group, in the order of their names, and all of them.
func Tell(list []Told) (groups []Figures, all Figures) {
	by := map[string][]Told{}
	for _, t := range list {
		by[t.Of] = append(by[t.Of], t)
	}
	for of, l := range by {
		groups = append(groups, figures(of, l))
	}
	slices.SortFunc(groups, func(a, b Figures) int { return cmp.Compare(a.Of, b.Of) })
	return groups, figures("", list)
}

func figures(of string, list []Told) Figures {
	f := Figures{Of: of}
	var took []time.Duration
	why := map[string]int{}
	for _, t := range list {
		switch t.State {
		case Open:
			f.Waiting++
			f.Longest = max(f.Longest, t.Took)
			continue
		case Accepted:
			f.Accepted++
		case SentBack:
			f.SentBack++
			why[t.Reason]++
		}
		took = append(took, t.Took)
	}
	slices.Sort(took)
	f.Median, f.Ninety = Quantile(took, 0.5), Quantile(took, 0.9)
	for r, n := range why {
		f.Reasons = append(f.Reasons, Reasoned{r, n})
	}
	slices.SortFunc(f.Reasons, func(a, b Reasoned) int {
		return cmp.Or(cmp.Compare(b.N, a.N), cmp.Compare(a.Reason, b.Reason))
	})
	return f
}

// Quantile is the smallest of a sorted list that at least a share p of it is not above: the inverse of the empirical
// distribution function (R. J. Hyndman and Y. Fan, 1996, definition 1); 0 of none.
func Quantile(sorted []time.Duration, p float64) time.Duration {
	if len(sorted) == 0 {
		return 0
	}
	i := int(math.Ceil(p*float64(len(sorted)) - 1e-9)) // 0.9 of ten is nine, whatever binary fractions make of it
	return sorted[min(max(i, 1), len(sorted))-1]
}
