package handoff

import (
	"time"

	"ombak/internal/core/plainly"
)

// Clock is what happens where a rep does not answer: when its time has run out they are reminded, then the lead is
// told, then it is offered to the next. All are hours of the rep’s own working time.
type Clock struct {
	Respond int // from being handed over until it has run out
	Silent  bool
	Lead    int // after that, until the lead is told; 0: never
	Next    int // after that, until it is offered to the next; 0: never
}

// Deed is what is done when a step of the clock comes.
type Deed string

// The deeds.
const (
	Remind   Deed = "remind"
	TellLead Deed = "tell the lead"
	OfferOn  Deed = "offer to the next"
)

// Tick is a step of the clock: so much working time after it was handed over.
type Tick struct {
	After time.Duration
	Do    Deed
}

// Check reports what of a clock cannot be, or nil.
func (c Clock) Check() error {
	if c.Respond < 1 || c.Respond > 80 || c.Lead < 0 || c.Lead > 80 || c.Next < 0 || c.Next > 80 {
		return plainly.New("hours of the response clock are a whole number of at most 80")
	}
	return nil
}

// Ticks are its steps in their order; of two at one time, in the order of the deeds.
func (c Clock) Ticks() []Tick {
	hours := func(n int) time.Duration { return time.Duration(n) * time.Hour }
	var out []Tick
	if !c.Silent {
		out = append(out, Tick{hours(c.Respond), Remind})
	}
	if c.Lead > 0 {
		out = append(out, Tick{hours(c.Respond + c.Lead), TellLead})
	}
	if c.Next > 0 {
		t := Tick{hours(c.Respond + c.Next), OfferOn}
		if n := len(out); n > 0 && out[n-1].After > t.After { // offered on before the lead hears of it
			return append(out[:n-1:n-1], t, out[n-1])
		}
		out = append(out, t)
	}
	return out
}
