package score

import (
	"slices"
	"time"

	"ombak/internal/core/act"
	"ombak/internal/core/plainly"
)

// Follow is what is done for somebody whose score comes to a level from below. The zero level is the ready line, where
// it is done when they cross it (in fit and reach too); any other is one of the score alone.
type Follow struct {
	Band string     `json:"band,omitempty"` // where this band begins; empty: At, or the ready line
	At   int        `json:"at,omitempty"`
	Acts []act.Kept `json:"acts"`
}

// MaxFollows bounds how many levels have something follow, and how much follows of one.
const (
	MaxFollows = 20
	maxActs    = 10
)

// OfLine reports whether it follows from crossing the ready line.
func (f *Follow) OfLine() bool { return f.Band == "" && f.At == 0 }

// Level is the score that has to be come to; false: its band is none of the model’s, and nothing follows.
func (f *Follow) Level(m *Model) (int, bool) {
	if f.Band == "" {
		return f.At, f.At != 0
	}
	for _, b := range m.Bands {
		if b.Name == f.Band {
			return b.From, true
		}
	}
	return 0, false
}

// Check reports what is wrong with it, or nil.
func (f *Follow) Check(m *Model) error {
	if len(f.Acts) == 0 {
		return plainly.New("say what follows, or remove the line")
	}
	if len(f.Acts) > maxActs {
		return plainly.Errorf("at most %d things follow from one level", maxActs)
	}
	if f.At < m.Floor || f.At > maxFigure {
		return plainly.New("a level is a whole number above the floor, of at most 100,000")
	}
	if _, ok := f.Level(m); !ok && f.Band != "" {
		return plainly.Errorf("there is no band “%s”", f.Band)
	}
	for _, a := range f.Acts {
		if a.Act == nil || !slices.Contains(act.OfCrossing(), a.Kind()) {
			return plainly.New("that cannot follow from a score")
		}
		if err := a.Check(); err != nil {
			return err
		}
		if a.Act == (act.HandOver{}) && f.OfLine() {
			return plainly.New("who crosses the ready line is handed over: it need not be said")
		}
	}
	return nil
}

// Comes reports whether the score comes to a level from below between two instants, and when it last did. Was is the
// score as it was known at from; the ledger is that of to.
func (m *Model) Comes(ledger []Entry, level int, from, to time.Time, was float64) (at time.Time, comes bool) {
	x := *m
	x.Line, x.Margin = level, 0
	fired, _ := x.Crossings(ledger, from, to, was, true)
	if len(fired) == 0 {
		return at, false
	}
	return fired[len(fired)-1], true
}
