package desk

import (
	"slices"
	"time"

	"ombak/internal/core/calendar"
	"ombak/internal/core/plainly"
)

// Worker is when somebody works, and how much of each kind they do on a day. The zero one works as
// the workspace does.
type Worker struct {
	Zone  string                 `json:"zone,omitempty"`  // an IANA name; empty: the workspace's
	Hours *calendar.SendingHours `json:"hours,omitempty"` // nil: the workspace's
	Away  []calendar.Date        `json:"away,omitempty"`  // days on which they do not work
	Most  map[Kind]int           `json:"most,omitempty"`  // of a day; a kind that is not there: as it comes
}

// MostOfADay bounds how many of a kind somebody can say they do on a day.
const MostOfADay = 500

// Check reports what is wrong with it.
func (w *Worker) Check() error {
	if w.Zone != "" {
		if _, err := calendar.Zone(w.Zone); err != nil {
			return err
		}
	}
	if w.Hours != nil {
		if err := w.Hours.Check(); err != nil {
			return err
		}
	}
	if len(w.Away) > calendar.MaxDates {
		return plainly.Errorf("at most %d days away", calendar.MaxDates)
	}
	for k, n := range w.Most {
		if !k.Known() || n < 0 || n > MostOfADay {
			return plainly.Errorf("on a day somebody does up to %d of a kind", MostOfADay)
		}
	}
	return nil
}

// In is the zone they work in; usual is the workspace's.
func (w *Worker) In(usual *time.Location) *time.Location {
	if w.Zone == "" {
		return usual
	}
	if z, err := calendar.Zone(w.Zone); err == nil { // it was checked when it was kept
		return z
	}
	return usual
}

// Works are the hours they work in, which are none on the days they are away and on holidays.
func (w *Worker) Works(usual calendar.SendingHours, on calendar.Holidays) calendar.SendingHours {
	h := usual
	if w.Hours != nil {
		h = *w.Hours
	}
	h.Zone = "" // theirs
	if len(w.Away) > 0 {
		h.Off = append(slices.Clone(h.Off), w.Away...)
	}
	return h.Resting(on)
}

// AwayAt reports whether they are away on the day that an instant falls on where they work.
func (w *Worker) AwayAt(t time.Time, usual *time.Location) bool {
	return len(w.Away) > 0 && slices.Contains(w.Away, calendar.DateOf(t, w.In(usual)))
}
