package sequence

import (
	"time"

	"ombak/internal/core/event"
)

// FromEvent is an instant that is reckoned from an event, and follows when it is moved.
type FromEvent struct {
	Event int64 `json:"event,omitempty"` // 0: the one that the plan is about
	event.Offset
}

// EventOff is why somebody went on without what belongs to an event that is cancelled.
const EventOff Reason = "passed over: the event was cancelled"

// EventOf is the event that a step means: its own, else the plan's; 0: still to be made.
func (p *Plan) EventOf(own int64) int64 {
	if own != 0 {
		return own
	}
	return p.Event
}

// Events lists the events that the plan is reckoned from or waits for, each once; asks is
// the first step that means the plan's own, 0: none does.
func (p *Plan) Events() (list []int64, asks StepID) {
	seen := map[int64]bool{}
	for _, s := range p.Steps {
		x, ok := s.(interface{ events() []int64 })
		if !ok {
			continue
		}
		for _, own := range x.events() {
			if own == 0 && asks == 0 {
				asks = s.About().ID
			}
			if id := p.EventOf(own); id != 0 && !seen[id] {
				seen[id] = true
				list = append(list, id)
			}
		}
	}
	return list, asks
}

// events is what a step due from an event means: 0 the plan's.
func (t *Timing) events() []int64 {
	if t.From == nil {
		return nil
	}
	return []int64{t.From.Event}
}

// over reports whether the event is cancelled, or not there any more, and since when.
func (r *run) over(own int64) (e event.Event, since time.Time, over bool) {
	e, ok := r.f.Event(r.p.plan.EventOf(own))
	if !ok {
		return e, r.st.Reached, true
	}
	return e, latest(e.Cancelled, r.st.Reached), e.Off()
}

// from is the instant of a FromEvent, and since when anybody can know it: an event that was
// moved is as it is since then.
func (r *run) from(x *FromEvent) (at, known time.Time, off bool) {
	e, since, off := r.over(x.Event)
	if off {
		return since, since, true
	}
	return e.At(x.Offset), latest(e.Moved, r.st.Reached), false
}

func latest(a, b time.Time) time.Time {
	if a.After(b) {
		return a
	}
	return b
}
