package sequences

import (
	"fmt"
	"html/template"
	"time"

	"ombak/internal/core/calendar"
	"ombak/internal/core/sequence"
)

func stepTitle(p *sequence.Plan, id sequence.StepID) string {
	if s := p.Step(id); s != nil {
		return s.About().Title
	}
	return ""
}

// hour is the beginning (0) or the end (1) of the hours of a Monday.
func hour(h calendar.SendingHours, end int) string {
	list := h.Days[time.Monday]
	if len(list) == 0 {
		return ""
	}
	m := list[0].From
	if end == 1 {
		m = list[0].To
	}
	return fmt.Sprintf("%02d:%02d", m/60, m%60)
}

var stepFuncs = template.FuncMap{
	"stepTitle": stepTitle,
	"hour":      hour,
	"weekend":   func(h calendar.SendingHours) bool { return len(h.Days[time.Saturday]) > 0 },
	"lates":     sequence.Lates,
	"weekdays":  func() []time.Weekday { return weekdays },
	"intervals": func(h *calendar.SendingHours, d time.Weekday) string { return calendar.Intervals(h.Days[d]) },
	"zones":     calendar.ZoneNames,
	"clock":     func(minutes int) string { return fmt.Sprintf("%02d:%02d", minutes/60, minutes%60) },
}
