package sequence

import (
	"fmt"
	"time"

	"ombak/internal/core/contact"
	"ombak/internal/core/plainly"
)

// Rest is how long somebody is left in peace after the last touch that marketing made to
// them from anywhere: no email goes out, or with Any nothing that reaches them. What
// answers their own request neither waits nor counts. The zero Rest is none.
type Rest struct {
	Days int  `json:"days,omitempty"` // of 24 hours
	Any  bool `json:"any,omitempty"`
	// Most is after how many days of postponing a touch is passed over; 0: 14.
	Most int `json:"most,omitempty"`
}

// usualMost is how long a touch is postponed where the rule does not say.
const usualMost = 14

// TooLittleRest stands beside the exit of a touch that was postponed for too long.
const TooLittleRest Reason = "passed over: there was no time to rest"

// Check reports what is wrong with it, or nil.
func (x Rest) Check() error {
	if x.Days < 0 || x.Days > 90 || x.Most < 0 || x.Most > 365 {
		return plainly.New("a rest has at most 90 days, and postpones for at most 365")
	}
	return nil
}

// String says it: "no email within 3 days after the last".
func (x Rest) String() string {
	what := "email"
	if x.Any {
		what = "touch"
	}
	switch x.Days {
	case 0:
		return "none"
	case 1:
		return "no " + what + " within a day after the last"
	}
	return fmt.Sprintf("no %s within %d days after the last", what, x.Days)
}

// asks reports whether a touch by a channel on a ground has to wait for it.
func (x Rest) asks(by contact.Channel, g contact.Ground) bool {
	return x.Days > 0 && !g.Request && (x.Any || by == contact.Email)
}

// free is the instant from which the last touch leaves somebody free.
func (x Rest) free(last time.Time) time.Time {
	if last.IsZero() {
		return last
	}
	return last.Add(time.Duration(x.Days) * 24 * time.Hour)
}

// rested moves an instant at which hours are open to one at which the rest is over, too;
// over is set where the touch is given up, at the instant answered: when it has been
// postponed for as long as it may be, or at the touch that then came between.
func (r *run) rested(t *Timing, at time.Time) (next time.Time, over bool) {
	rest := r.p.plan.Rest
	last := r.f.Rested(rest.Any)
	if began := r.touched[0]; !rest.Any && began.After(last) {
		last = began
	}
	if began := r.touched[1]; rest.Any && began.After(last) {
		last = began
	}
	free := rest.free(last)
	if !at.Before(free) {
		return at, false
	}
	for at.Before(free) {
		at = r.allowed(t, free)
	}
	due, late := t.due(r)
	if late {
		due = r.known(t)
	}
	most := rest.Most
	if most == 0 {
		most = usualMost
	}
	end := r.allowed(t, due).Add(time.Duration(most) * 24 * time.Hour)
	if at.After(end) {
		if last.After(end) {
			end = last
		}
		return end, true
	}
	return at, false
}
