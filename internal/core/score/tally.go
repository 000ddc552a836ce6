package score

import "time"

// Tally is how the rules of a model work for everybody, and how people move between its bands.
type Tally struct {
	At     time.Time   `json:"at"`
	People int64       `json:"people"`
	With   int64       `json:"with"` // who has points of some rule now
	Rules  []RuleTally `json:"rules"`
	Weeks  []WeekTally `json:"weeks"`
}

// RuleTally is how one rule works: how many people it gives points now, and how many in all, and how many it ever gave
// any.
type RuleTally struct {
	ID     int64   `json:"id"`
	People int64   `json:"people"`
	Points float64 `json:"points"`
	Ever   int64   `json:"ever"`
}

// WeekTally is how many people were in each band at an instant, and how many had come to a higher and to a lower one
// since the instant before.
type WeekTally struct {
	At    time.Time `json:"at"`
	Bands []int64   `json:"bands"`
	Up    int64     `json:"up"`
	Down  int64     `json:"down"`
}

// NewTally begins one for a model, at the last of some instants; they are in their order.
func NewTally(m *Model, at []time.Time) *Tally {
	t := &Tally{At: at[len(at)-1]}
	for i := range m.Rules {
		t.Rules = append(t.Rules, RuleTally{ID: m.Rules[i].ID})
	}
	for _, x := range at {
		t.Weeks = append(t.Weeks, WeekTally{At: x, Bands: make([]int64, len(m.Bands))})
	}
	return t
}

// Add counts somebody with that ledger, as it stands at the last instant.
func (t *Tally) Add(m *Model, ledger []Entry) {
	t.People++
	now, ever, with := make([]bool, len(m.Rules)), make([]bool, len(m.Rules)), false
	for i := range ledger {
		e := &ledger[i]
		ever[e.Rule] = true
		if w := e.Worth(t.At); w != 0 {
			t.Rules[e.Rule].Points += w
			now[e.Rule], with = true, true
		}
	}
	for i := range m.Rules {
		if now[i] {
			t.Rules[i].People++
		}
		if ever[i] {
			t.Rules[i].Ever++
		}
	}
	if with {
		t.With++
	}
	was := 0
	for i := range t.Weeks {
		w := &t.Weeks[i]
		in := BandOf(m.Bands, m.Shown(Sum(ledger, w.At)))
		if in >= 0 {
			w.Bands[in]++
		}
		if i > 0 && in > was {
			w.Up++
		}
		if i > 0 && in < was {
			w.Down++
		}
		was = in
	}
}
